"""The confusion figure."""

import numpy as np
from matplotlib.figure import Figure

from barn_owl.evaluate import Scores
from barn_owl.show.style import DUSK, INK, new_figure

SMALLEST, LARGEST = 7, 15


def confusion_figure(scores: Scores, *, title: str = "") -> Figure:
    """Draw the confusion of true labels (rows) with predicted ones (columns), shaded by share of the row."""
    counts = scores.confusion.to_numpy()
    labels = [str(label) for label in scores.confusion.index]
    rows = counts.sum(axis=1, keepdims=True)
    shares = counts / np.maximum(rows, 1)
    figure = new_figure()
    axes = figure.add_subplot()
    image = axes.imshow(shares, cmap=DUSK.reversed(), vmin=0, vmax=1, aspect="auto")
    size = float(np.clip(150 / len(labels), SMALLEST, LARGEST))
    for row, column in zip(*np.nonzero(counts), strict=True):
        axes.text(
            column,
            row,
            f"{counts[row, column]}",
            ha="center",
            va="center",
            fontsize=size,
            color="white" if shares[row, column] > 0.45 else INK,
        )
    recall = scores.by_label["recall"]
    names = [
        f"{label}  {'' if np.isnan(share) else f'{share:.0%} of '}{total}"
        for label, share, total in zip(labels, recall, rows[:, 0], strict=True)
    ]
    axes.set_xticks(range(len(labels)), labels, rotation=35 if len(labels) > 4 else 0, ha="right")
    axes.set_yticks(range(len(labels)), names)
    axes.set_xlabel("predicted label")
    axes.set_ylabel("true label, share found, clips")
    axes.set_xticks(np.arange(-0.5, len(labels)), minor=True)
    axes.set_yticks(np.arange(-0.5, len(labels)), minor=True)
    axes.grid(which="minor", color="white", linewidth=2)
    axes.tick_params(which="both", length=0)
    axes.spines[:].set_visible(False)
    axes.set_title(title or _finding(scores), loc="left", fontsize=14, color=INK)
    figure.colorbar(image, ax=axes, label="share of the true label's clips", pad=0.01, fraction=0.03)
    return figure


def _finding(scores: Scores) -> str:
    start = f"Balanced accuracy {scores.balanced_accuracy:.0%} over {scores.clips} clips"
    if not len(scores.confusions):
        return f"{start}, no confusion at all"
    worst = scores.confusions.iloc[0]
    return f"{start}; most often {worst['label']} is taken for {worst['taken_for']} ({worst['count']} clips)"
