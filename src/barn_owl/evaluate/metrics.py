"""All scores of a set of predictions at once, for any number of bootstrap samples."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
import pandas as pd

from barn_owl.evaluate.curves import Counts, areas, counts_of, ranked
from barn_owl.evaluate.intervals import draw, draws_inside, interval
from barn_owl.evaluate.prediction_arrays import PredictionArrays

ROUNDS = 1000
BEST_OF = 3
"""Labels among which the right one is looked for, alongside the best alone."""
SMALLEST_SCORE = 1e-15
"""A score of 0 for what is true would make the log loss infinite; this is the step of a float near 1."""
THREADS = 2
"""Threads over labels: more would wait for memory."""
WORTH_THREADS = 20_000
"""Clips times rounds; fewer are ranked before threads have started."""
VALUES_AT_ONCE = 20_000_000
"""80 MB of float32."""


@dataclass(frozen=True, kw_only=True)
class Metrics:
    """Scores with confidence intervals.

    Attributes
    ----------
    overall : pd.DataFrame
        One row a score: ``value``, ``low``, ``high`` (95 % interval).
    by_label : pd.DataFrame
        The same by label in columns ``recall``, ``recall_low``, ``recall_high`` and so on, with ``count``.
    groups : int
        That the intervals stand on.

    Examples
    --------
    >>> measured = barn_owl.open_run("first").evaluate().metrics
    >>> list(measured.by_label.index)
    ['hiss', 'hum', 'still', 'tick']
    """

    overall: pd.DataFrame
    by_label: pd.DataFrame
    groups: int

    def _repr_html_(self) -> str:
        return str(self.overall.round(3).to_html()) + str(self.by_label.round(3).to_html())


def measure(answers: PredictionArrays, *, rounds: int = ROUNDS, seed: int = 0, curves: bool = True) -> Metrics:
    """Compute all scores, with 95 % intervals from `rounds` bootstrap samples of groups.

    Of labels that do not occur, only precision can be told, and means over labels leave them out. Precision of a
    label that is never predicted is 0 in those means. With one group alone no interval can be had: it is NaN.

    Parameters
    ----------
    curves : bool
        Whether the scores of curves are among them (ROC area, average precision, equal error rate), which
        take most of the time.

    Examples
    --------
    >>> answers = barn_owl.open_run("first").evaluate().arrays
    >>> measured = barn_owl.evaluate.measure(answers, rounds=100)
    >>> bool(0 <= measured.overall["value"].iloc[0] <= 1)
    True
    """
    groups = answers.group_count
    overall, by_label = observed(answers, curves=curves)
    ends: dict[str, tuple[np.ndarray, np.ndarray]] = {}
    if groups > 1 and rounds:
        rng = np.random.default_rng(seed)
        block = max(1, min(rounds, VALUES_AT_ONCE // max(len(answers), len(answers.labels) ** 2)))
        parts = []
        for at in range(0, rounds, block):
            units, drawn = draw(answers.groups, min(block, rounds - at), rng)
            parts.append(scores_of(replace(answers, groups=units), drawn, curves=curves))
        for names, place in ((overall, 0), (by_label, 1)):
            values = np.stack([np.concatenate([part[place][name] for part in parts], axis=-1) for name in names])
            low, high = interval(values, groups, inside=draws_inside(groups, len(answers)))
            ends |= {f"{place}{name}": (low[at], high[at]) for at, name in enumerate(names)}
    unknown = np.full(len(answers.labels), np.nan)
    table = pd.DataFrame(
        [
            (value[0], *(float(end) for end in ends.get(f"0{name}", (np.nan, np.nan))))
            for name, value in overall.items()
        ],
        index=pd.Index(list(overall), name="score"),
        columns=["value", "low", "high"],
    )
    columns: dict[str, np.ndarray] = {}
    for name, value in by_label.items():
        low, high = ends.get(f"1{name}", (unknown, unknown))
        columns |= {name: value[:, 0], f"{name}_low": low, f"{name}_high": high}
    columns["count"] = answers.truth.sum(axis=0)
    columns["predicted"] = answers.predicted.sum(axis=0)
    return Metrics(
        overall=table, by_label=pd.DataFrame(columns, index=pd.Index(answers.labels, name="label")), groups=groups
    )


def observed(
    answers: PredictionArrays, *, curves: bool = True
) -> tuple[dict[str, np.ndarray], dict[str, np.ndarray]]:
    """Scores of the clips as they are, in one round; see `scores_of`."""
    return scores_of(replace(answers, groups=np.zeros(len(answers), dtype=np.intp)), np.ones((1, 1)), curves=curves)


def scores_of(
    answers: PredictionArrays, drawn: np.ndarray, *, curves: bool = True
) -> tuple[dict[str, np.ndarray], dict[str, np.ndarray]]:
    """Scores for groups drawn as often as `drawn` says, ``(groups, rounds)``.

    Returns those of all labels, ``(rounds,)`` each, and by label, ``(labels, rounds)`` each, NaN where nothing is
    known.
    """
    groups = answers.groups
    clips = np.bincount(groups) @ drawn
    label_scores = _counted(answers, drawn)
    right, predictions, count = (label_scores.pop(name) for name in ("right", "predicted", "count"))
    occurs = count > 0
    with np.errstate(invalid="ignore", divide="ignore"):
        all_right = np.bincount(groups, answers.right) @ drawn / clips
        overall = {"exact" if answers.multilabel else "accuracy": all_right}
        recall, f1 = label_scores["recall"], label_scores["f1"]
        precision = np.where(np.isnan(label_scores["precision"]), 0.0, label_scores["precision"])
        left_alone = 1 - (predictions - right) / (clips - count)
        balanced = (recall + left_alone) / 2 if answers.multilabel else recall
        overall["balanced_accuracy"] = _mean(balanced, occurs)
        for name, value in (("precision", precision), ("recall", recall), ("f1", f1)):
            overall[f"macro_{name}"] = _mean(value, occurs)
            overall[f"weighted_{name}"] = (np.where(occurs, value, 0) * count).sum(axis=0) / count.sum(axis=0)
        overall["micro_precision"] = right.sum(axis=0) / predictions.sum(axis=0)
        overall["micro_recall"] = right.sum(axis=0) / count.sum(axis=0)
        overall["micro_f1"] = 2 * right.sum(axis=0) / (predictions.sum(axis=0) + count.sum(axis=0))
        if not answers.multilabel:
            overall |= _agreement(right.sum(axis=0), predictions, count, clips)
            if len(answers.labels) > BEST_OF:
                overall[f"among_best_{BEST_OF}"] = np.bincount(groups, _among_best(answers)) @ drawn / clips
        log_loss, brier = _losses(answers)
        overall["log_loss"] = np.bincount(groups, log_loss) @ drawn / clips
        overall["brier"] = np.bincount(groups, brier) @ drawn / clips
    if curves:
        of_curves = _of_curves(answers, drawn)
        overall |= {name: _mean(value, occurs) for name, value in of_curves.items()}
        label_scores |= of_curves
    return overall, label_scores


def _counted(answers: PredictionArrays, drawn: np.ndarray) -> dict[str, np.ndarray]:
    both = answers.truth & answers.predicted
    right, predictions, count = (
        _by_group(marks, answers) @ drawn for marks in (both, answers.predicted, answers.truth)
    )
    with np.errstate(invalid="ignore", divide="ignore"):
        return {
            "precision": right / np.where(predictions > 0, predictions, np.nan),
            "recall": right / np.where(count > 0, count, np.nan),
            "f1": np.where(count > 0, 2 * right / (predictions + count), np.nan),
            "right": right, "predicted": predictions, "count": count,
        }  # fmt: skip


def _of_curves(answers: PredictionArrays, drawn: np.ndarray) -> dict[str, np.ndarray]:
    def rank(label: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        score, has = answers.scores[:, label], answers.truth[:, label]
        return areas(ranked(score, has, answers.groups, len(drawn)), drawn)

    if len(answers) * drawn.shape[1] < WORTH_THREADS:
        ranks = [rank(label) for label in range(len(answers.labels))]
    else:
        with ThreadPoolExecutor(THREADS) as threads:
            ranks = list(threads.map(rank, range(len(answers.labels))))
    names = "roc_area", "average_precision", "equal_error_rate"
    return {name: np.stack(values) for name, values in zip(names, zip(*ranks, strict=True), strict=True)}


def _by_group(marks: np.ndarray, answers: PredictionArrays) -> Counts:
    """Count marks, ``(clips, labels)``, by group, ``(labels, groups)``."""
    clip, label = np.nonzero(marks)
    return counts_of(label, answers.groups[clip], (len(answers.labels), answers.group_count))


def _mean(values: np.ndarray, occurs: np.ndarray) -> np.ndarray:
    """Mean over the labels that occur in a round and whose value is known."""
    known = occurs & np.isfinite(values)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(np.where(known, values, 0).sum(axis=0) / known.sum(axis=0))


def _agreement(
    right: np.ndarray, predictions: np.ndarray, count: np.ndarray, clips: np.ndarray
) -> dict[str, np.ndarray]:
    """Cohen's kappa (1960) and Matthews' correlation for many labels (Gorodkin 2004), from sums of the confusion."""
    expected = (predictions * count).sum(axis=0)
    covered = right * clips - expected
    spread = np.sqrt((clips**2 - (predictions**2).sum(axis=0)) * (clips**2 - (count**2).sum(axis=0)))
    return {
        "kappa": np.where(clips**2 > expected, covered / (clips**2 - expected), np.nan),
        "matthews": np.where(spread > 0, covered / np.where(spread > 0, spread, 1), 0.0),
    }


def _among_best(answers: PredictionArrays) -> np.ndarray:
    own = answers.scores[np.arange(len(answers)), answers.true_numbers]
    return np.asarray((answers.scores > own[:, None]).sum(axis=1) < BEST_OF)


def _losses(answers: PredictionArrays) -> tuple[np.ndarray, np.ndarray]:
    """Log loss and Brier score of each clip: G. Brier, Monthly Weather Review 78 (1950), his sum over labels."""
    brier = ((answers.scores - answers.truth) ** 2).sum(axis=1)
    safe = answers.scores.clip(SMALLEST_SCORE, 1)
    if not answers.multilabel:
        return -np.log(safe[np.arange(len(answers)), answers.true_numbers]), brier
    missed = (1 - answers.scores).clip(SMALLEST_SCORE, 1)
    return -np.log(np.where(answers.truth, safe, missed)).mean(axis=1), brier
