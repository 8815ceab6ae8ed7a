"""The figure of a check: clips by label and severity, durations and levels."""

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from barn_owl.clips import Check
from barn_owl.show.style import draw_grid, heading, new_figure

SEVERITY_COLORS = {"": "#9fb3c8", "note": "#E69F00", "warning": "#D55E00", "error": "#000000"}
SEVERITY_MARKERS = {"": "o", "note": "s", "warning": "^", "error": "X"}
SEVERITY_NAMES = {"": "nothing found", "note": "note", "warning": "warning", "error": "error"}
MAX_ROWS = 40
MAX_TICKS = 6
LINE_INCHES, HEAD_INCHES = 0.42, 2.2


def check_figure(check: Check, *, ax: Axes | None = None) -> Figure:
    """Draw clips by label and severity, their durations and levels, for the commonest 40 labels.

    Parameters
    ----------
    check : Check
        Result of `barn_owl.check_clips`.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> check = barn_owl.check_clips(barn_owl.read_clip_table("clips.csv"))
    >>> barn_owl.save_figure(barn_owl.show.check_figure(check), "check.png")
    """
    clips = check.by_clip
    labels = clips["label"].value_counts().index[:MAX_ROWS].tolist()
    figure = new_figure(height=max(5.0, HEAD_INCHES + LINE_INCHES * len(labels)), ax=ax)
    measured = bool(clips["seconds"].notna().any())
    panels = figure.subplots(1, 3 if measured else 1, sharey=True, squeeze=False)[0]
    _bars(panels[0], clips, labels)
    if measured:
        _strip(panels[1], clips, labels, "seconds", "duration, s")
        _few_ticks(panels[1], clips["seconds"])
        panels[1].set_title("durations", loc="left", fontsize=10)
        _strip(panels[2], clips, labels, "level_db", "RMS level, dB re full scale")
        panels[2].set_title("RMS levels", loc="left", fontsize=10)
    found = (clips["worst"] != "").sum()
    heading(figure, f"{found} of {len(clips)} clips to look at: {check.summary}")
    return figure


def _few_ticks(axes: Axes, seconds: pd.Series) -> None:
    """A logarithmic axis with at most six round lengths, however far the clips reach."""
    axes.set_xscale("log")
    low, high = seconds.min() / 1.1, seconds.max() * 1.1
    axes.set_xlim(low, high)
    steps = (1, 2, 5) if high > 5 * low else (1, 1.5, 2, 3, 4, 5, 7)
    round_ones = [step * 10.0**power for power in range(-3, 5) for step in steps]
    inside = [length for length in round_ones if low <= length <= high]
    axes.set_xticks(inside[:: -(-len(inside) // MAX_TICKS) or 1])
    axes.xaxis.set_major_formatter("{x:g}")
    axes.minorticks_off()


def _bars(axes: Axes, clips: pd.DataFrame, labels: list[str]) -> None:
    left = np.zeros(len(labels))
    for severity, color in SEVERITY_COLORS.items():
        of_it = clips.loc[clips["worst"] == severity, "label"].value_counts().reindex(labels, fill_value=0).to_numpy()
        axes.barh(range(len(labels)), of_it, left=left, color=color, label=SEVERITY_NAMES[severity], height=0.7)
        left += of_it
    axes.set_yticks(range(len(labels)), [label or "(no label)" for label in labels])
    axes.invert_yaxis()
    axes.set_xlabel("clips")
    axes.set_title("clips by worst finding", loc="left", fontsize=10)
    draw_grid(axes, axis="x")
    axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.1), ncols=2, frameon=False, fontsize=9)


def _strip(axes: Axes, clips: pd.DataFrame, labels: list[str], column: str, unit: str) -> None:
    """Draw every clip as a dot in the row of its label, with jitter against overlap."""
    place = clips["label"].map({label: row for row, label in enumerate(labels)}).to_numpy(dtype=float)
    apart = np.random.default_rng(0).uniform(-0.28, 0.28, len(clips))
    for severity, color in SEVERITY_COLORS.items():
        own = (clips["worst"] == severity).to_numpy() & ~np.isnan(place)
        axes.scatter(
            clips[column].to_numpy()[own], (place + apart)[own], s=14 if not severity else 30, color=color,
            marker=SEVERITY_MARKERS[severity], alpha=0.8, linewidths=0,
        )  # fmt: skip
    axes.set_xlabel(unit)
    draw_grid(axes)
