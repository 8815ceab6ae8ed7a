"""Figures of trainings: learning curves, and classifiers side by side."""

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from barn_owl.clips.table import require_columns
from barn_owl.runs import Run
from barn_owl.show.style import INK, LABEL_COLORS, draw_grid, heading, new_axes, new_figure

TRAIN, VALIDATION, TEST = LABEL_COLORS[0], LABEL_COLORS[1], LABEL_COLORS[2]


def curves_figure(run: Run, *, ax: Axes | None = None) -> Figure:
    """Draw losses and validation scores by epoch, with the best epoch and overfitting marked.

    Parameters
    ----------
    run : Run
        Run.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Raises
    ------
    ModelError
        If the run is incomplete.

    Examples
    --------
    >>> barn_owl.save_figure(barn_owl.show.curves_figure(barn_owl.open_run("first")), "curves.png")
    """
    curves, learning = run.curves, run.learning
    figure = new_figure(7.2, ax=ax)
    losses, scores = figure.subplots(2, 1, sharex=True, height_ratios=[3, 2])
    at = curves["epoch"]
    losses.plot(at, curves["train_loss"], color=TRAIN, linewidth=2, label="training, on mixtures")
    losses.plot(at, curves["validation_loss"], color=VALIDATION, linewidth=2, label="validation")
    losses.set_ylabel("loss (cross-entropy)")
    scores.plot(at, curves["validation_recall"], color=VALIDATION, linewidth=2, label="mean recall")
    scores.plot(at, curves["validation_f1"], color=VALIDATION, linewidth=1.5, linestyle=":", label="mean F1")
    scores.plot(
        [learning.best_epoch], [learning.reached], "D", color=INK,
        label=f"whole validation clips: {learning.reached:.2f}",
    )  # fmt: skip
    scores.set_ylabel("sounds in mixtures\nof validation clips" if learning.by_epoch else "validation windows")
    scores.set_ylim(0, 1.02)
    unit = "epoch" if learning.by_epoch else "candidate"
    scores.set_xlabel(unit)
    for axes in (losses, scores):
        axes.axvline(learning.best_epoch, color=INK, linewidth=1, linestyle="--")
        draw_grid(axes)
    is_late = learning.best_epoch > 0.7 * at.max()
    losses.annotate(
        f"kept: {unit} {learning.best_epoch}", (learning.best_epoch, losses.get_ylim()[1]),
        xytext=(-6 if is_late else 6, -14), ha="right" if is_late else "left", textcoords="offset points", color=INK,
    )  # fmt: skip
    if learning.by_epoch and learning.overfits:
        after = curves[curves["epoch"] >= learning.least_epoch]
        losses.fill_between(
            after["epoch"], after["validation_loss"].iloc[0], after["validation_loss"], color=VALIDATION, alpha=0.2,
            label=f"overfitting: validation loss up {learning.rise:.0%}",
        )  # fmt: skip
    losses.legend(loc="best", frameon=False)
    scores.legend(loc="best", frameon=False)
    sentences = [
        sentence for sentence in learning.words if not sentence.startswith("The model has")
    ] or learning.words
    heading(losses, (sentences or ["A single fit"])[0], size=13)
    return figure


def subsets_figure(table: pd.DataFrame, *, ax: Axes | None = None) -> Figure:
    """Draw scores against the number of training clips; a rising curve means that more clips help.

    Parameters
    ----------
    table : pd.DataFrame
        Result of `barn_owl.runs.train_subsets`.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Raises
    ------
    ModelError
        If the run is incomplete.
    """
    figure, axes = new_axes(5.6, ax=ax)
    lines = {
        "test_balanced_accuracy": (TEST, "o-", "test clips: balanced accuracy"),
        "validation_balanced_accuracy": (VALIDATION, "o-", "validation clips: balanced accuracy"),
        "event_f1": (TRAIN, "o--", "rehearsal: event F1"),
    }
    for name, (color, style, label) in lines.items():
        if table[name].notna().any():
            axes.plot(table["training_clips"], table[name], style, color=color, linewidth=2, label=label)
    axes.set_xscale("log")
    axes.set_xticks(table["training_clips"], [f"{count:,}" for count in table["training_clips"]])
    axes.minorticks_off()
    axes.set_ylim(0, 1.02)
    axes.set_xlabel("training clips")
    draw_grid(axes)
    axes.legend(loc="best", frameon=False)
    known = table.dropna(subset=["test_balanced_accuracy"])
    gain = known["test_balanced_accuracy"].diff().iloc[-1] if len(known) > 1 else np.nan
    heading(
        axes,
        "What more training clips bring"
        + ("" if np.isnan(gain) else f": {gain:+.2f} of balanced accuracy from the last ones"),
        size=13,
    )
    return figure


def classifiers_figure(ranking: pd.DataFrame, *, ax: Axes | None = None) -> Figure:
    """Draw classifiers by balanced accuracy on validation (which ranks them) and test, with their cost.

    Parameters
    ----------
    ranking : pd.DataFrame
        Result of `barn_owl.train_classifiers`.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> ranking = pd.DataFrame({"run": ["a", "b"], "classifier": ["trees", "cnn"], "seconds": [2.0, 40.0]})
    >>> ranking = ranking.assign(weights=[9000, 50000], multiply_adds=[1e5, 1e8])
    >>> ranking = ranking.assign(validation_balanced_accuracy=[0.8, 0.9], test_balanced_accuracy=[0.7, 0.9])
    >>> barn_owl.save_figure(barn_owl.show.classifiers_figure(ranking), "ranking.png")
    """
    require_columns(ranking, ["run", "validation_balanced_accuracy", "test_balanced_accuracy"], "ranking")
    figure, axes = new_axes(max(3.5, 0.75 * len(ranking) + 1.6), ax=ax)
    places = np.arange(len(ranking))[::-1]
    for name, color, shift in (("validation", VALIDATION, 0.19), ("test", TEST, -0.19)):
        values = ranking[f"{name}_balanced_accuracy"].fillna(0)
        axes.barh(places + shift, values, height=0.36, color=color, label=name)
        for place, value in zip(places, values, strict=True):
            axes.text(
                value - 0.008, place + shift, f"{value:.2f}", va="center", ha="right", color="white", fontsize=10
            )
    for place, row in zip(places, ranking.itertuples(), strict=True):
        cost = f"{row.weights:,} numbers, {row.multiply_adds / 1e6:.2f} M multiply-adds a second, {row.seconds:.0f} s"
        axes.text(1.01, place, cost, va="center", color=INK, fontsize=9, transform=axes.get_yaxis_transform())
    axes.set_yticks(places, ranking["run"])
    axes.set_xlim(0, 1)
    axes.set_xlabel("balanced accuracy")
    draw_grid(axes, axis="x")
    axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.12 if len(ranking) > 4 else -0.3), ncols=2, frameon=False)
    best = ranking.iloc[0]
    heading(axes, f"Best on the validation clips: {best['run']}, {best['validation_balanced_accuracy']:.0%}", size=13)
    return figure
