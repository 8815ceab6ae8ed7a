"""Confusion matrix, and the difference between two."""

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.figure import Figure

from barn_owl.errors import TableError
from barn_owl.evaluate import Evaluation, Scores
from barn_owl.evaluate.breakdown import confusable_order
from barn_owl.show.style import DUSK, INK, LABEL_COLORS, heading, new_axes

SMALLEST, LARGEST = 7, 15
MAX_NAMED, MAX_COUNTED = 60, 40
"""Labels above which only every second, third and so on is named, and above which counts are left to the shade."""
LOSS_AND_GAIN = LinearSegmentedColormap.from_list(
    "barn_owl_loss_and_gain", [LABEL_COLORS[1], "#fdf6e6", LABEL_COLORS[0]]
)


def confusion_figure(evaluation: Evaluation, *, title: str = "", ax: Axes | None = None) -> Figure:
    """Draw the confusion matrix: true labels (rows), predicted labels (columns), shaded by share of the row.

    Frequently confused labels are adjacent.

    Parameters
    ----------
    evaluation : Evaluation
        Evaluation with a single label per clip.
    title : str
        Title; default: the most frequent confusion.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Returns
    -------
    Figure
        A figure of Matplotlib.

    Raises
    ------
    TableError
        If clips may have several labels.

    Examples
    --------
    >>> evaluation = barn_owl.open_run("first").evaluate()
    >>> barn_owl.save_figure(barn_owl.show.confusion_figure(evaluation), "confusion.png")
    """
    scores = evaluation.scores
    order = confusable_order(scores.confusion)
    table = scores.confusion.loc[order, order]
    counts = table.to_numpy()
    shares = counts / np.maximum(counts.sum(axis=1, keepdims=True), 1)
    figure, axes = new_axes(ax=ax)
    image = axes.imshow(shares, cmap=DUSK.reversed(), vmin=0, vmax=1, aspect="auto", interpolation="nearest")
    if len(order) <= MAX_COUNTED:
        _count(axes, counts, shares > 0.45)
    recall = scores.by_label["recall"].loc[order]
    names = [
        f"{label}  {'' if np.isnan(share) else f'{share:.0%} of '}{total}"
        for label, share, total in zip(order, recall, counts.sum(axis=1), strict=True)
    ]
    _name(axes, order, names)
    axes.set(xlabel="predicted label", ylabel="true label (recall, clips)")
    heading(axes, title or _finding(scores))
    figure.colorbar(image, ax=axes, label="share of the clips of the true label", pad=0.01, fraction=0.03)
    return figure


def confusion_difference_figure(
    first: Evaluation, second: Evaluation, *, names: tuple[str, str], ax: Axes | None = None
) -> Figure:
    """Draw the difference between two confusion matrices of the same labels, second minus first.

    On the diagonal more is better, off it less: both are drawn in the color of a gain.

    Parameters
    ----------
    first : Evaluation
        Evaluations of the same labels.
    second : Evaluation
        Evaluations of the same labels.
    names : tuple[str, str]
        Names of the two.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Raises
    ------
    TableError
        If the labels differ.

    Examples
    --------
    >>> runs = [barn_owl.open_run(name).evaluate() for name in ("first", "second")]
    >>> figure = barn_owl.show.confusion_difference_figure(*runs, names=("first", "second"))
    >>> barn_owl.save_figure(figure, "difference.png")
    """
    if sorted(first.labels) != sorted(second.labels):
        raise TableError("the two confusions are of different labels")
    before, after = first.scores.confusion, second.scores.confusion
    order = confusable_order(before + after)
    shares = [_row_shares(counts.loc[order, order]) for counts in (before, after)]
    change = 100 * (shares[1] - shares[0])
    gain = np.where(np.eye(len(order), dtype=bool), change, -change)
    figure, axes = new_axes(ax=ax)
    most = max(float(np.abs(gain).max()), 1.0)
    image = axes.imshow(gain, cmap=LOSS_AND_GAIN, vmin=-most, vmax=most, aspect="auto", interpolation="nearest")
    if len(order) <= MAX_COUNTED:
        size = float(np.clip(150 / len(order), SMALLEST, LARGEST))
        for row, column in zip(*np.nonzero(np.round(change)), strict=True):
            axes.text(
                column, row, f"{change[row, column]:+.0f}", ha="center", va="center", fontsize=size,
                color="white" if abs(gain[row, column]) > 0.6 * most else INK,
            )  # fmt: skip
    _name(axes, order, order)
    axes.set(xlabel="predicted label", ylabel="true label")
    better = float(np.trace(change)) / max(int((before.sum(axis=1) > 0).sum()), 1)
    heading(axes, f"{names[1]} against {names[0]}: balanced accuracy {better:+.1f} points")
    bar = figure.colorbar(image, ax=axes, pad=0.01, fraction=0.03)
    # The number in a cell is the change of its share, which is for the worse where labels are mixed up.
    bar.set_ticks([-most, 0, most], labels=["worse", "same", "better"])
    return figure


def _row_shares(confusion: pd.DataFrame) -> np.ndarray:
    counts = confusion.to_numpy()
    return np.asarray(counts / np.maximum(counts.sum(axis=1, keepdims=True), 1))


def _count(axes: Axes, counts: np.ndarray, dark: np.ndarray) -> None:
    size = float(np.clip(150 / len(counts), SMALLEST, LARGEST))
    for row, column in zip(*np.nonzero(counts), strict=True):
        axes.text(
            column, row, f"{counts[row, column]}", ha="center", va="center", fontsize=size,
            color="white" if dark[row, column] else INK,
        )  # fmt: skip


def _name(axes: Axes, columns: list[str], rows: list[str]) -> None:
    """Name rows and columns, as many as fit legibly, with a white grid between the cells."""
    every = -(-len(rows) // MAX_NAMED)
    named = range(0, len(rows), every)
    size = float(np.clip(400 / len(rows), 6, 10))
    axes.set_xticks(
        named, columns[::every], rotation=90 if len(rows) > 20 else 35 if len(rows) > 4 else 0,
        ha="center" if len(rows) > 20 or len(rows) <= 4 else "right", fontsize=size,
    )  # fmt: skip
    axes.set_yticks(named, rows[::every], fontsize=size)
    if len(rows) <= MAX_NAMED:
        axes.set_xticks(np.arange(-0.5, len(rows)), minor=True)
        axes.set_yticks(np.arange(-0.5, len(rows)), minor=True)
        axes.grid(which="minor", color="white", linewidth=2 if len(rows) <= 20 else 0.5)
    axes.tick_params(which="both", length=0)
    axes.spines[:].set_visible(False)


def _finding(scores: Scores) -> str:
    start = f"Balanced accuracy {scores.balanced_accuracy:.0%} over {scores.clips} clips"
    if not len(scores.confusions):
        return f"{start}, no confusion at all"
    worst = scores.confusions.iloc[0]
    total = round(worst["count"] / worst["share"])
    confusion = f"{worst['count']} of {total} {worst['label']} clips classified as {worst['confused_with']}"
    return f"{start}; most frequent confusion: {confusion}"
