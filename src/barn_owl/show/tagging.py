"""The tagging figure: spectrogram, scores and events on a common time axis."""

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.colors import to_rgba
from matplotlib.figure import Figure

from barn_owl.audio import audio_info, read_audio
from barn_owl.classifiers.base import label_scores
from barn_owl.clips import read_clip_table
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import AudioError
from barn_owl.learn.rehearsal import EVENTS, FILE, TRUTH
from barn_owl.model import DecodingSettings, Model
from barn_owl.model.loading import ModelLike, as_model
from barn_owl.model.settings import DecodingLike, as_decoding
from barn_owl.runs import Run
from barn_owl.show.sound import mel_ticks
from barn_owl.show.style import INK, draw_frames, draw_grid, heading, label_colors, label_lines, new_figure
from barn_owl.tag.decoding import EventDecoder, decided
from barn_owl.tag.score_trace import ScoreTrace, trace_of_samples
from barn_owl.tag.scoring import ScoreBlock
from barn_owl.tag.smoothing import Smoother

if TYPE_CHECKING:
    from barn_owl.tag.event_classifier import Dropped

MAX_DURATION_S, REHEARSAL_S = 3600.0, 90.0
MARKERS = {
    "too short": "v", "too long": "^", "within the refractory time": "x", "overlaps a higher score": "+",
    "below min_known_probability": "s", "below the threshold of its label": "d",
}  # fmt: skip
"""Why a label with a high enough score was rejected, and how that is marked."""
MAX_NAMES = 12
"""Labels up to which their lines are named."""
COLUMNS = 2400
"""Points of a line over time: about two a pixel are enough."""


def tagging_figure(
    model: ModelLike,
    path: str | Path,
    events: TableOrPath,
    *,
    truth: TableOrPath | None = None,
    start_s: float = 0.0,
    end_s: float | None = None,
    decoding: DecodingLike | None = None,
    scores: bool = True,
    trace: ScoreTrace | None = None,
    ax: Axes | None = None,
) -> Figure:
    """Draw a stretch of a recording: log-mel spectrogram, scores of all labels over time, and events as bars.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model, run, or the path of either.
    path : str | Path
        Recording.
    events : pd.DataFrame | str | Path
        Event table or its path.
    truth : pd.DataFrame | str | Path | None
        True events or the path of their table; drawn below the detected events.
    start_s : float
        Part to draw, in seconds. Default: up to an hour from the start.
    end_s : float | None
        Part to draw, in seconds. Default: up to an hour from the start.
    decoding : DecodingSettings | None
        Decoding settings, for thresholds and smoothing of the drawn scores. Default: those of the model.
    scores : bool
        Whether scores are drawn; where a score reaches ``threshold`` without an event, a mark shows the reason.
    trace : ScoreTrace | None
        Scores of the recording, if available; else the stretch is scored.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Raises
    ------
    AudioError
        If the stretch is not in the recording.

    Examples
    --------
    >>> model = barn_owl.load_model("first")
    >>> events = barn_owl.read_events("events.csv")
    >>> barn_owl.save_figure(barn_owl.show.tagging_figure(model, "night.wav", events), "tagging.png")
    """
    model = as_model(model)
    decoding = as_decoding(decoding, model.decoding)
    events = as_clip_table(events, "events")
    truth = None if truth is None else as_clip_table(truth, "truth")
    length_s, shown_decoding = audio_info(path).duration_s, decoding or model.decoding
    end_s = min(length_s, start_s + MAX_DURATION_S) if end_s is None else min(end_s, length_s)
    if not 0 <= start_s < end_s:
        raise AudioError(f"{path}: there is nothing between {start_s:g} s and {end_s:g} s to draw")
    samples, _ = read_audio(
        path, rate_hz=model.front_end.rate_hz, start_s=start_s, end_s=end_s, channel=model.clips.channel
    )
    reported = model.event_labels
    colors = label_colors(reported)

    figure = new_figure(ax=ax)
    heights = [4, 2, 3] if scores else [4, 3]
    spectrogram, *traces, bars = figure.subplots(len(heights), 1, sharex=True, height_ratios=heights)
    _draw_spectrogram(figure, spectrogram, model, samples, start_s)
    for axes in traces:
        kept = trace_of_samples(model, samples) if trace is None else trace.between(start_s, end_s)
        _draw_scores(axes, model, kept, start_s, shown_decoding, colors)
    shown = _within(events, start_s, end_s)
    _draw_bars(bars, reported, colors, shown, _within(truth, start_s, end_s) if truth is not None else None)
    for axes in (*traces, bars):
        draw_grid(axes)
    bars.set_xlim(start_s, end_s)
    bars.set_xlabel("time, s")
    minutes = (end_s - start_s) / 60
    heading(
        spectrogram,
        f"{Path(path).name}: {len(shown)} events of {shown['label'].nunique()} labels in {minutes:.3g} minutes",
    )
    return figure


def _draw_scores(
    axes: Axes, model: Model, kept: ScoreTrace, start_s: float, decoding: DecodingSettings, colors: dict[str, str]
) -> None:
    """Draw the scores, the two thresholds, and why some candidates were rejected."""
    smoother = Smoother(round(decoding.smoothing_s / model.step_s))
    activity = np.concatenate([smoother.push(kept.activity), smoother.finish(kept.activity.shape[1])])
    step = max(1, len(activity) // COLUMNS)
    activity, scores = (_thinned(values, step) for values in (activity, label_scores(activity, kept.label_logits)))
    times = start_s + kept.first_s + np.arange(len(scores)) * kept.step_s * step
    if model.classifies_segments:  # the scores that thresholds are compared with
        axes.fill_between(times, activity[:, 0], color=INK, alpha=0.12, linewidth=0, label="any label")
    for label, line in label_lines(list(colors)).items():
        axes.plot(times, scores[:, model.labels.index(label)], **line, linewidth=1.3, label=label)
    for threshold, name in ((decoding.threshold, "threshold"), (decoding.release_threshold, "release_threshold")):
        axes.axhline(threshold, color=INK, linewidth=0.8, linestyle=(0, (4, 3)))
        axes.annotate(name, (1.002, threshold), xycoords=("axes fraction", "data"), va="center", fontsize=9)
    dropped: list[Dropped] = []
    blocks = [ScoreBlock(first=0, activity=kept.activity, onsets=kept.onsets, label_logits=kept.label_logits)]
    list(decided(blocks, EventDecoder.of(model, decoding, dropped)))
    for reason, marker in MARKERS.items():
        own = [one for one in dropped if one.reason == reason]
        if own:
            places = [start_s + (one.start_s + one.end_s) / 2 for one in own], [one.score for one in own]
            axes.plot(*places, marker, color=INK, markersize=6, label=f"dropped: {reason} ({len(own)})")
    axes.set_ylim(-0.02, 1.02)
    axes.set_ylabel("score")
    if len(colors) <= MAX_NAMES or dropped:
        lines, names = axes.get_legend_handles_labels()
        shown = [at for at, name in enumerate(names) if len(colors) <= MAX_NAMES or name not in colors]
        axes.legend(
            [lines[at] for at in shown], [names[at] for at in shown],
            loc="lower left", bbox_to_anchor=(0, 1.0), ncols=7, frameon=False,
            fontsize=9, borderaxespad=0.1, handlelength=1.2, columnspacing=1.2,
        )  # fmt: skip


def _thinned(values: np.ndarray, step: int) -> np.ndarray:
    """The highest of each `step` rows."""
    return np.asarray(values[: len(values) // step * step].reshape(-1, step, values.shape[1]).max(axis=1))


def rehearsal_figure(run: Run, *, ax: Axes | None = None) -> Figure:
    """Draw the first 90 s of the rehearsal of a run: spectrogram, events and truth.

    Scores are not drawn, since they are not kept.

    Parameters
    ----------
    run : Run
        Run.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Raises
    ------
    AudioError
        If sound cannot be read.
    """
    truth, events = (read_clip_table(run.folder / name, may_be_empty=True) for name in (TRUTH, EVENTS))
    path = run.folder / FILE
    end_s = min(REHEARSAL_S, audio_info(path).duration_s)
    figure = tagging_figure(run.model, path, events, truth=truth, end_s=end_s, scores=False, ax=ax)
    expected = run.expectation or {}
    heading(
        figure.axes[0],
        f"Rehearsal: {expected.get('recall', 0):.0%} of the events are found, "
        f"{expected.get('precision', 0):.0%} of those reported are right",
    )
    return figure


def _draw_spectrogram(figure: Figure, axes: Axes, model: Model, samples: np.ndarray, start_s: float) -> None:
    front_end = model.front_end.but(features=["log-mel"])
    frames = front_end.frames(samples)
    step = max(1, len(frames) // COLUMNS)
    frames = frames[: len(frames) // step * step].reshape(-1, step, frames.shape[1]).max(axis=1)
    length = len(frames) * step * model.front_end.hop_s
    image = draw_frames(axes, frames, (start_s, start_s + length), np.quantile(frames, [0.05, 0.999]))
    mel_ticks(axes, front_end)
    axes.set_ylabel("mel band, Hz")
    figure.colorbar(image, ax=axes, label="dB re full scale", pad=0.01, fraction=0.03)


def _within(table: pd.DataFrame, start_s: float, end_s: float) -> pd.DataFrame:
    return table[(table["end_s"] > start_s) & (table["start_s"] < end_s)]


def _draw_bars(
    axes: Axes, labels: list[str], colors: dict[str, str], events: pd.DataFrame, truth: pd.DataFrame | None
) -> None:
    """Draw a line for each label: events above, truth below and paler; unknown sounds on a separate line."""
    place = {label: row for row, label in enumerate(labels)}
    height = 0.34 if truth is not None else 0.6
    offset = -height / 2 if truth is not None else 0.0
    for event in events[events["label"].isin(place)].itertuples():
        axes.barh(
            place[event.label] + offset,
            event.end_s - event.start_s,
            height,
            event.start_s,
            color=colors[event.label],
            edgecolor=colors[event.label],
            linewidth=1,  # so that events narrower than a pixel are visible
        )
    names = list(labels)
    if truth is not None:
        unknown = truth.get("unknown", pd.Series("", index=truth.index)).fillna("").astype(str)
        for row, name in zip(truth.itertuples(), unknown, strict=True):
            at = len(labels) if name else place.get(row.label)
            if at is None:
                continue
            color = "#8a8a8a" if name else to_rgba(colors[row.label], 0.35)
            edge = "#5a5a5a" if name else colors[row.label]
            axes.barh(at - offset, row.end_s - row.start_s, height, row.start_s, color=color, edgecolor=edge)
        if (unknown != "").any():
            names.append("unknown sounds")
        axes.set_ylabel("events (above), truth (below)")
    axes.set_yticks(range(len(names)), names)
    axes.set_ylim(len(names) - 0.45, -0.55)
