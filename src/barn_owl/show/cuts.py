"""The figure of a cut: the waveform with every clip and its event."""

from pathlib import Path

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from barn_owl.audio import audio_info, read_audio
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.show.style import INK, LABEL_COLORS, draw_grid, heading, new_figure

ROWS, ROW_S = 5, 12.0
COLUMNS = 1200


def cuts_figure(path: str | Path, clips: TableOrPath, *, ax: Axes | None = None) -> Figure:
    """Draw a minute of a recording's waveform, beginning at its first clip, with the clips cut from it.

    Parameters
    ----------
    path : str | Path
        Recording.
    clips : pd.DataFrame
        Rows of that recording; where the columns ``onset_s`` and ``offset_s`` are, the event is drawn too.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Raises
    ------
    AudioError
        If sound cannot be read.

    Examples
    --------
    >>> takes = barn_owl.clips.find_takes("night.wav")
    >>> barn_owl.save_figure(barn_owl.show.cuts_figure("night.wav", takes), "cuts.png")
    """
    clips = as_clip_table(clips, "clips")
    duration_s = audio_info(path).duration_s
    begin = max(float(clips["start_s"].min()) - 1.0, 0.0) if len(clips) else 0.0
    rows = int(np.clip(np.ceil((duration_s - begin) / ROW_S), 1, ROWS))
    figure = new_figure(ax=ax)
    panels = figure.subplots(rows, 1, sharey=True, squeeze=False)[:, 0]
    shown = min(begin + rows * ROW_S, duration_s)
    samples, rate_hz = read_audio(path, start_s=begin, end_s=shown)
    top = float(np.abs(samples).max(initial=1e-6)) * 1.05
    for row, axes in enumerate(panels):
        start = begin + row * ROW_S
        _waveform(axes, samples[round(row * ROW_S * rate_hz) : round((row + 1) * ROW_S * rate_hz)], rate_hz, start)
        for clip in clips[(clips["end_s"] > start) & (clips["start_s"] < start + ROW_S)].itertuples():
            axes.axvspan(clip.start_s, clip.end_s, color=LABEL_COLORS[4], alpha=0.3, linewidth=0)
            axes.axvline(clip.start_s, color=LABEL_COLORS[1], linewidth=0.8)
            if "onset_s" in clips:
                axes.plot([clip.onset_s, clip.offset_s], [-0.94 * top] * 2, color=LABEL_COLORS[2], linewidth=3)
        axes.set_xlim(start, start + ROW_S)
        axes.set_ylim(-top, top)
        draw_grid(axes)
    panels[-1].set_xlabel("time, s; shaded: clip; green: detected take")
    panels[rows // 2].set_ylabel("amplitude")
    length = float((clips["end_s"] - clips["start_s"]).median()) if len(clips) else 0.0
    part = "" if shown >= duration_s else f"; {begin:.0f} to {shown:.0f} s of {duration_s:.0f} s shown"
    heading(figure, f"{Path(path).name}: {len(clips)} clips of {length:g} s{part}")
    return figure


def _waveform(axes: Axes, samples: np.ndarray, rate_hz: int, start_s: float) -> None:
    """Lowest and highest sample of each column, so that no peak is lost."""
    per_column = max(1, round(ROW_S * rate_hz / COLUMNS))
    whole = samples[: len(samples) // per_column * per_column].reshape(-1, per_column)
    if len(whole):
        time = start_s + (np.arange(len(whole)) + 0.5) * per_column / rate_hz
        axes.fill_between(time, whole.min(axis=1), whole.max(axis=1), color=INK, linewidth=0.4)
