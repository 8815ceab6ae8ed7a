"""Figures of an evaluation: scores by label, curves by threshold, calibration; and several side by side."""

import numpy as np
import scipy
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from barn_owl.evaluate import Comparison, Evaluation
from barn_owl.show.style import INK, LABEL_COLORS, draw_grid, heading, new_axes, new_figure

MAX_CURVES = 8
MIN_RATE = 0.002
RATES = (0.005, 0.02, 0.05, 0.1, 0.2, 0.4, 0.6, 0.8, 0.95)


def labels_figure(evaluation: Evaluation, *, ax: Axes | None = None) -> Figure:
    """Draw recall and precision of each label with 95 % intervals, lowest first.

    Parameters
    ----------
    evaluation : Evaluation
        Evaluation of a run.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> evaluation = barn_owl.open_run("first").evaluate()
    >>> barn_owl.save_figure(barn_owl.show.labels_figure(evaluation), "labels.png")
    """
    table = evaluation.scores.by_label
    table = table[table["count"] > 0].sort_values("recall", ascending=False)
    figure, axes = new_axes(float(np.clip(2 + 0.45 * len(table), 4.5, 30)), ax=ax)
    at = np.arange(len(table))
    styles = ("recall", 0.15, LABEL_COLORS[0], "o"), ("precision", -0.15, LABEL_COLORS[1], "s")
    for name, shift, color, marker in styles:
        value = table[name].to_numpy()
        known = np.isfinite(table[f"{name}_low"].to_numpy()) & np.isfinite(value)
        low, high = table[f"{name}_low"].to_numpy()[known], table[f"{name}_high"].to_numpy()[known]
        axes.hlines(at[known] + shift, low, high, color=color, linewidth=2.5, alpha=0.5)
        axes.plot(value, at + shift, marker, color=color, label=name, markersize=7)
    axes.set_yticks(at, [f"{label} ({count})" for label, count in zip(table.index, table["count"], strict=True)])
    axes.set_xlim(-0.02, 1.02)
    axes.set(xlabel="value; line: 95 % interval over groups", ylabel="label (clips)")
    axes.legend(loc="lower left", frameon=False)
    draw_grid(axes)
    worst = table.iloc[-1]
    heading(axes, f"{worst.name} is the weakest: {worst['recall']:.0%} of its clips are found")
    return figure


def thresholds_figure(evaluation: Evaluation, *, ax: Axes | None = None) -> Figure:
    """Draw ROC, precision-recall and detection-error curves by label; of many labels, those with the smallest area.

    Parameters
    ----------
    evaluation : Evaluation
        Evaluation of a run.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> evaluation = barn_owl.open_run("first").evaluate()
    >>> barn_owl.save_figure(barn_owl.show.thresholds_figure(evaluation), "thresholds.png")
    """
    table = evaluation.scores.by_label
    labels = list(table[table["roc_area"].notna()].sort_values("roc_area").index[:MAX_CURVES])
    figure = new_figure(5.0, ax=ax)
    if not labels:  # each label needs clips that have it and clips that lack it
        figure.text(0.5, 0.5, "No curves: all clips have one label", ha="center", fontsize=14, color=INK)
        return figure
    roc, precision, errors = figure.subplots(1, 3)
    for number, label in enumerate(labels):
        curve, row = evaluation.curve(str(label)), table.loc[label]
        color = LABEL_COLORS[number % len(LABEL_COLORS)]
        roc.plot(curve["false_alarm_rate"], curve["recall"], color=color, label=f"{label}  {row['roc_area']:.2f}")
        precision.plot(
            curve["recall"], curve["precision"], color=color, label=f"{label}  {row['average_precision']:.2f}"
        )
        errors.plot(
            _probit(curve["false_alarm_rate"]), _probit(curve["miss_rate"]), color=color,
            label=f"{label}  {row['equal_error_rate']:.0%}",
        )  # fmt: skip
    roc.set(xlabel="false alarm rate", ylabel="recall", title="ROC (area)")
    precision.set(
        xlabel="recall", ylabel="precision", title="Precision and recall (average precision)", ylim=(0, 1.03)
    )
    errors.set(xlabel="false alarm rate", ylabel="miss rate", title="Detection error trade-off (equal error rate)")
    ticks = [float(scipy.special.ndtri(rate)) for rate in RATES]
    names = [f"{100 * rate:g} %" for rate in RATES]
    errors.set_xticks(ticks, names, rotation=60, fontsize=8)
    errors.set_yticks(ticks, names, fontsize=8)
    for axes in (roc, precision, errors):
        axes.title.set_fontsize(11)
        corner = "upper right" if axes is errors else "lower right" if axes is roc else "lower left"
        axes.legend(fontsize=8, frameon=False, loc=corner)
        draw_grid(axes)
    left = len(table) - len(labels)
    if left > 0:
        heading(figure, f"The {len(labels)} labels with the smallest area of {len(table)}", size=11)
    return figure


def _probit(rate: "np.ndarray") -> np.ndarray:
    """Rates on the scale of normal deviates: Martin et al., Eurospeech 1997."""
    return np.asarray(scipy.special.ndtri(np.clip(rate, MIN_RATE, 1 - MIN_RATE)))


def calibration_figure(evaluation: Evaluation, *, ax: Axes | None = None) -> Figure:
    """Draw the reliability diagram, and the share of clips above each score.

    Parameters
    ----------
    evaluation : Evaluation
        Evaluation of a run.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> evaluation = barn_owl.open_run("first").evaluate()
    >>> barn_owl.save_figure(barn_owl.show.calibration_figure(evaluation), "calibration.png")
    """
    table, coverage = evaluation.calibration, evaluation.coverage
    figure = new_figure(5.0, ax=ax)
    promise, left = figure.subplots(1, 2)
    promise.plot([0, 1], [0, 1], color=INK, linewidth=1, linestyle="--", label="perfect calibration")
    parts = f"{len(table)} parts of equal size"
    promise.plot(table["score"], table["right"], "o-", color=LABEL_COLORS[0], label=parts)
    promise.set(xlim=(0, 1.02), ylim=(0, 1.02), xlabel="mean score", ylabel="observed accuracy")
    error = evaluation.calibration_error
    heading(promise, f"Scores and shares that are right: {error:.2f} apart on average", size=12)
    promise.legend(frameon=False, loc="upper left")
    left.plot(coverage["answered"], coverage["right"], color=LABEL_COLORS[1])
    left.set(xlim=(0, 1.02), ylim=(min(0.5, float(coverage["right"].min())), 1.02))
    left.set(xlabel="coverage: share of clips with a label, highest score first", ylabel="accuracy of these clips")
    heading(left, f"{evaluation.coverage_at(0.95):.0%} of the clips can be answered with 95 % right", size=12)
    for axes in (promise, left):
        draw_grid(axes)
    return figure


def comparison_figure(comparison: Comparison, *, ax: Axes | None = None) -> Figure:
    """Draw the balanced accuracy of each run with its interval, and the recall of each label by run.

    Parameters
    ----------
    comparison : Comparison
        Result of `barn_owl.evaluate.compare`.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> runs = {name: barn_owl.open_run(name).evaluate() for name in ("first", "second")}
    >>> barn_owl.save_figure(barn_owl.show.comparison_figure(barn_owl.evaluate.compare(runs)), "comparison.png")
    """
    scores, by_label = comparison.scores, comparison.by_label.dropna(how="all")
    figure = new_figure(float(np.clip(3.2 + 0.3 * len(by_label) + 0.4 * len(scores), 5, 30)), ax=ax)
    top, bottom = figure.subplots(2, 1, height_ratios=[len(scores) + 1, len(by_label) + 2])
    names = [str(name) for name in scores.index]
    for number, name in enumerate(names):
        row, color = scores.loc[name], LABEL_COLORS[number % len(LABEL_COLORS)]
        if np.isfinite(row["balanced_accuracy_low"]):
            ends = row["balanced_accuracy_low"], row["balanced_accuracy_high"]
            top.hlines(number, *ends, color=color, linewidth=3, alpha=0.5)
        top.plot(row["balanced_accuracy"], number, "o", color=color, markersize=8)
        shift = 0.5 * ((number + 0.5) / len(names) - 0.5)
        bottom.plot(by_label[name], np.arange(len(by_label)) + shift, "o", color=color, label=name, markersize=6)
    top.set_yticks(range(len(names)), names)
    top.invert_yaxis()
    top.set_xlabel("balanced accuracy; line: 95 % interval over groups")
    bottom.set_yticks(range(len(by_label)), list(by_label.index))
    bottom.invert_yaxis()
    bottom.set_xlim(-0.02, 1.02)
    bottom.set_xlabel("recall by label")
    bottom.legend(frameon=False, loc="lower left")
    for axes in (top, bottom):
        draw_grid(axes)
    best = str(scores["balanced_accuracy"].idxmax())
    sure = _surely_best(comparison, best)
    heading(top, f"{best} is ahead on {comparison.clips} common clips" + ("" if sure else ", but within noise"))
    return figure


def _surely_best(comparison: Comparison, best: str) -> bool:
    """Return whether the intervals of the differences to the first run are disjoint."""
    pairs, first = comparison.pairs, str(comparison.scores.index[0])
    if best == first:
        return bool((pairs["high"] < 0).all())
    return len(pairs) == 1 and bool(pairs.loc[best, "low"] > 0)
