"""Scores of clips: confusion, scores of all labels and of each, with intervals from a bootstrap over groups."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from barn_owl.errors import TableError
from barn_owl.evaluate.curves import Counts, areas, counts_of, ranked
from barn_owl.evaluate.intervals import draw, draws_inside, interval
from barn_owl.evaluate.prediction_arrays import PredictionArrays

ROUNDS = 1000
TOP_SCORES = 3
"""Number of highest scores among which the true label counts as found."""
SMALLEST_SCORE = 1e-15
"""Floor of scores in the log loss, which a score of 0 would make infinite; the step of a float near 1."""
THREADS = 2
"""Threads over labels; more wait for memory."""
MIN_THREADED_WORK = 20_000
"""Clips times rounds from which threads pay."""
VALUES_PER_BLOCK = 20_000_000
"""Values of a block of bootstrap rounds, 80 MB of float32."""


@dataclass(frozen=True, kw_only=True, eq=False, repr=False)
class Scores:
    """Scores of predictions, each table computed when it is first used.

    Precision is the share of correct clips among the clips predicted as a label, recall the share found of the clips
    that have it, F1 their harmonic mean. Means over labels leave out labels that do not occur; a label that is never
    predicted has precision 0 in them.

    Attributes
    ----------
    arrays : PredictionArrays
        Truth, predictions and scores of the clips.
    majority : str
        The most frequent label in training, for the majority baseline.
    rounds : int
        Bootstrap rounds of the intervals. 0: none.
    seed : int
        Seed of the bootstrap.
    curves : bool
        Whether the scores of curves are computed (ROC area, average precision, equal error rate), which take most of
        the time.

    Examples
    --------
    >>> scores = barn_owl.open_run("first").evaluate().scores
    >>> scores.confusion.shape
    (4, 4)
    >>> list(scores.by_label.index)
    ['hiss', 'hum', 'still', 'tick']
    """

    arrays: PredictionArrays
    majority: str = ""
    rounds: int = ROUNDS
    seed: int = 0
    curves: bool = True

    def __repr__(self) -> str:
        """Show number of clips and balanced accuracy."""
        return f"Scores({self.clips} clips, balanced accuracy {self.balanced_accuracy:.2f})"

    def _repr_html_(self) -> str:
        return str(self.overall.round(3).to_html()) + str(self.by_label.round(3).to_html())

    @property
    def clips(self) -> int:
        """Number of clips."""
        return len(self.arrays)

    @property
    def groups(self) -> int:
        """Number of groups of clips, from which the bootstrap draws."""
        return self.arrays.group_count

    @property
    def multilabel(self) -> bool:
        """Whether a clip may have several labels; there is no confusion matrix then."""
        return self.arrays.multilabel

    @property
    def overall(self) -> pd.DataFrame:
        """Scores of all labels: ``value``, ``low``, ``high`` (95 % interval; NaN with a single group)."""
        return self._tables[0]

    @property
    def by_label(self) -> pd.DataFrame:
        """Scores by label: ``recall``, ``recall_low``, ``recall_high`` and so on; clips: ``count``, ``predicted``."""
        return self._tables[1]

    @cached_property
    def _observed(self) -> dict[str, np.ndarray]:
        return observed(self.arrays, curves=False)[0]

    @property
    def accuracy(self) -> float:
        """Share of clips with all labels correct."""
        return float(self.arrays.right.mean())

    @property
    def balanced_accuracy(self) -> float:
        """Mean recall over labels; of multilabel clips, mean of recall and true negative rate."""
        return float(self._observed["balanced_accuracy"][0])

    @property
    def macro_f1(self) -> float:
        """Mean F1 over labels."""
        return float(self._observed["macro_f1"][0])

    @property
    def majority_accuracy(self) -> float:
        """Accuracy of always predicting the most frequent label of training."""
        return float(self.arrays.truth[:, self.arrays.labels.index(self.majority)].mean())

    @property
    def majority_balanced_accuracy(self) -> float:
        """Balanced accuracy of always predicting the most frequent label of training."""
        occurs = np.asarray(self.arrays.truth.any(axis=0))
        return float(occurs[self.arrays.labels.index(self.majority)] / occurs.sum())

    @cached_property
    def confusion(self) -> pd.DataFrame:
        """Number of clips by true label (rows) and predicted label (columns).

        Raises
        ------
        TableError
            If clips may have several labels.
        """
        if self.multilabel:
            raise TableError("clips with several labels have no confusion matrix")
        labels, arrays = self.arrays.labels, self.arrays
        counts = arrays.truth.T.astype(np.int64) @ arrays.predicted.astype(np.int64)
        return pd.DataFrame(counts, index=labels, columns=labels)

    @property
    def confusions(self) -> pd.DataFrame:
        """Wrong predictions by true and predicted label, most frequent first: label, confused_with, count, share."""
        counts, names = self.confusion.to_numpy(), np.asarray(self.arrays.labels, dtype=object)
        rows, columns = np.nonzero(counts * ~np.eye(len(counts), dtype=bool))
        count, share = counts[rows, columns], counts[rows, columns] / counts.sum(axis=1)[rows]
        table = pd.DataFrame({"label": names[rows], "confused_with": names[columns], "count": count, "share": share})
        return table.sort_values("count", ascending=False, kind="stable", ignore_index=True)

    def as_dict(self) -> dict[str, Any]:
        """Return the main scores as plain numbers for JSON; undefined scores are None."""
        found: dict[str, Any] = {"clips": self.clips, "exact" if self.multilabel else "accuracy": self.accuracy}
        found |= {"balanced_accuracy": self.balanced_accuracy, "macro_f1": self.macro_f1}
        if not self.multilabel:
            found |= {
                "majority_label": self.majority,
                "majority_accuracy": self.majority_accuracy,
                "majority_balanced_accuracy": self.majority_balanced_accuracy,
            }
        return found | {"labels": plain(self.by_label)}

    @cached_property
    def _tables(self) -> tuple[pd.DataFrame, pd.DataFrame]:
        arrays, groups = self.arrays, self.groups
        overall, by_label = observed(arrays, curves=self.curves)
        ends: dict[str, tuple[np.ndarray, np.ndarray]] = {}
        if groups > 1 and self.rounds:
            rng = np.random.default_rng(self.seed)
            block = max(1, min(self.rounds, VALUES_PER_BLOCK // max(len(arrays), len(arrays.labels) ** 2)))
            parts = []
            for at in range(0, self.rounds, block):
                units, drawn = draw(arrays.groups, min(block, self.rounds - at), rng)
                parts.append(scores_of(replace(arrays, groups=units), drawn, curves=self.curves))
            for names, place in ((overall, 0), (by_label, 1)):
                values = np.stack([np.concatenate([part[place][name] for part in parts], axis=-1) for name in names])
                low, high = interval(values, groups, inside=draws_inside(groups, len(arrays)))
                ends |= {f"{place}{name}": (low[at], high[at]) for at, name in enumerate(names)}
        unknown = np.full(len(arrays.labels), np.nan)
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
        columns["count"] = arrays.truth.sum(axis=0)
        columns["predicted"] = arrays.predicted.sum(axis=0)
        return table, pd.DataFrame(columns, index=pd.Index(arrays.labels, name="label"))


def plain(table: pd.DataFrame) -> dict[str, dict[str, Any]]:
    """Return the rows of a table as dictionaries by row name; numbers that are not finite become None."""
    columns = {str(key): [plain_number(value) for value in table[key].tolist()] for key in table}
    return {str(name): {key: values[row] for key, values in columns.items()} for row, name in enumerate(table.index)}


def plain_number(value: Any) -> Any:
    """Return a number as JSON can hold it, None where it is not finite; other values unchanged."""
    if isinstance(value, float | np.floating) and not np.isfinite(value):
        return None
    return value.item() if isinstance(value, np.generic) else value


def observed(
    answers: PredictionArrays, *, curves: bool = True
) -> tuple[dict[str, np.ndarray], dict[str, np.ndarray]]:
    """Return the scores of the clips without resampling; see `scores_of`."""
    return scores_of(replace(answers, groups=np.zeros(len(answers), dtype=np.intp)), np.ones((1, 1)), curves=curves)


def scores_of(
    answers: PredictionArrays, drawn: np.ndarray, *, curves: bool = True
) -> tuple[dict[str, np.ndarray], dict[str, np.ndarray]]:
    """Return scores for `drawn`, how often each group is drawn per round, ``(groups, rounds)``.

    Returns scores of all labels, ``(rounds,)`` each, and by label, ``(labels, rounds)`` each, NaN where undefined.
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
            if len(answers.labels) > TOP_SCORES:
                overall[f"among_best_{TOP_SCORES}"] = np.bincount(groups, _among_best(answers)) @ drawn / clips
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

    if len(answers) * drawn.shape[1] < MIN_THREADED_WORK:
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
    """Return the mean over the labels that occur in a round with a defined value."""
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
    return np.asarray((answers.scores > own[:, None]).sum(axis=1) < TOP_SCORES)


def _losses(answers: PredictionArrays) -> tuple[np.ndarray, np.ndarray]:
    """Log loss and Brier score of each clip: G. Brier, Monthly Weather Review 78 (1950), his sum over labels."""
    brier = ((answers.scores - answers.truth) ** 2).sum(axis=1)
    safe = answers.scores.clip(SMALLEST_SCORE, 1)
    if not answers.multilabel:
        return -np.log(safe[np.arange(len(answers)), answers.true_numbers]), brier
    missed = (1 - answers.scores).clip(SMALLEST_SCORE, 1)
    return -np.log(np.where(answers.truth, safe, missed)).mean(axis=1), brier
