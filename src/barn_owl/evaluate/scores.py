"""Accuracy, per-label scores and the confusion table."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from barn_owl.clips import labels_in
from barn_owl.errors import TableError


def confusion_table(truth: Sequence[str], predicted: Sequence[str], labels: Sequence[str]) -> pd.DataFrame:
    """Count clips by true label (rows) and predicted label (columns), both in the order of `labels`.

    Raises
    ------
    TableError
        If the two differ in length or hold a label that is not in `labels`.

    Examples
    --------
    >>> confusion_table(["a", "a", "b"], ["a", "b", "b"], ["a", "b"])
       a  b
    a  1  1
    b  0  1
    """
    if len(truth) != len(predicted):
        raise TableError(f"{len(truth)} true labels do not match {len(predicted)} predicted ones")
    place = {label: number for number, label in enumerate(labels)}
    unknown = sorted({label for label in [*truth, *predicted] if label not in place})
    if unknown:
        raise TableError(f"labels that are not among {', '.join(labels)}: {', '.join(map(repr, unknown))}")
    counts = np.zeros((len(labels), len(labels)), dtype=np.int64)
    np.add.at(counts, ([place[label] for label in truth], [place[label] for label in predicted]), 1)
    return pd.DataFrame(counts, index=list(labels), columns=list(labels))


@dataclass(frozen=True, kw_only=True)
class Scores:
    """Scores of predicted labels in a single-label task.

    Attributes
    ----------
    confusion : pd.DataFrame
        Counts, true labels in rows.
    majority : str
        The label that is most frequent in training.

    Examples
    --------
    >>> scores = barn_owl.evaluate.score_labels(["bell", "gull"], ["bell", "bell"], ["bell", "gull"], majority="bell")
    >>> scores.balanced_accuracy
    0.5
    """

    confusion: pd.DataFrame
    majority: str

    @property
    def clips(self) -> int:
        """Number of clips judged."""
        return int(self.confusion.to_numpy().sum())

    @property
    def accuracy(self) -> float:
        """Share of clips whose label is right."""
        return float(np.trace(self.confusion.to_numpy()) / self.clips)

    @property
    def balanced_accuracy(self) -> float:
        """Mean recall over the labels that occur: each label counts the same however many clips it has."""
        return float(np.nanmean(self.by_label["recall"]))

    @property
    def macro_f1(self) -> float:
        """Mean F1 over the labels that occur."""
        return float(np.nanmean(self.by_label["f1"]))

    @property
    def majority_accuracy(self) -> float:
        """Accuracy of always saying the label that is most frequent in training."""
        return float(self.confusion.loc[self.majority].sum() / self.clips)

    @property
    def majority_balanced_accuracy(self) -> float:
        """Balanced accuracy of the same: one over the number of labels that occur, or 0."""
        occur = self.confusion.sum(axis=1) > 0
        return float(occur[self.majority] / occur.sum())

    @cached_property
    def by_label(self) -> pd.DataFrame:
        """Precision, recall, F1 and count by label; NaN where a score has nothing to stand on.

        Precision is the share of right ones among the clips given a label, recall the share found of the
        clips that have it, F1 their harmonic mean ``2 * right / (given + count)``.
        """
        counts = self.confusion.to_numpy()
        return label_table(np.diag(counts), counts.sum(axis=0), counts.sum(axis=1), list(self.confusion.index))

    @property
    def confusions(self) -> pd.DataFrame:
        """Wrong answers by true and predicted label, the most frequent first: label, confused_with, count, share."""
        counts = self.confusion.to_numpy()
        rows, columns = np.nonzero(counts * ~np.eye(len(counts), dtype=bool))
        names = np.asarray(self.confusion.index, dtype=object)
        table = pd.DataFrame(
            {
                "label": names[rows],
                "confused_with": names[columns],
                "count": counts[rows, columns],
                "share": counts[rows, columns] / counts.sum(axis=1)[rows],
            }
        )
        return table.sort_values("count", ascending=False, kind="stable", ignore_index=True)

    def as_dict(self) -> dict[str, Any]:
        """All scores as plain numbers for JSON; undefined scores are None."""
        return {
            "clips": self.clips,
            "accuracy": self.accuracy,
            "balanced_accuracy": self.balanced_accuracy,
            "majority_label": self.majority,
            "majority_accuracy": self.majority_accuracy,
            "majority_balanced_accuracy": self.majority_balanced_accuracy,
            "labels": plain(self.by_label),
            "macro_f1": self.macro_f1,
        }


def score_labels(truth: Sequence[str], predicted: Sequence[str], labels: Sequence[str], *, majority: str) -> Scores:
    """Compare predicted with true labels; see `Scores`.

    Raises
    ------
    TableError
        If there is nothing to judge.

    Examples
    --------
    >>> scores = barn_owl.evaluate.score_labels(["bell", "gull"], ["bell", "bell"], ["bell", "gull"], majority="bell")
    >>> scores.accuracy
    0.5
    """
    if not len(truth):
        raise TableError("there are no labeled clips to judge")
    return Scores(confusion=confusion_table(truth, predicted, labels), majority=majority)


@dataclass(frozen=True, kw_only=True)
class MultilabelScores:
    """Scores of predicted labels in a multilabel task; each label is judged separately.

    truth, predicted : boolean, ``(clips, labels)``.

    >>> has = np.array([[True, False], [True, True]])
    >>> scores = barn_owl.evaluate.MultilabelScores(truth=has, predicted=has, labels=["bell", "gull"])
    >>> scores.macro_f1
    1.0
    """

    truth: np.ndarray
    predicted: np.ndarray
    labels: list[str]

    @property
    def clips(self) -> int:
        """Number of clips judged."""
        return len(self.truth)

    @property
    def exact(self) -> float:
        """Share of clips with every label right."""
        return float((self.truth == self.predicted).all(axis=1).mean())

    @property
    def macro_f1(self) -> float:
        """Mean F1 over the labels that occur."""
        return float(np.nanmean(self.by_label["f1"]))

    @property
    def balanced_accuracy(self) -> float:
        """Mean, over the labels that occur, of recall and of the share left alone of clips that lack the label."""
        left = (~self.truth & ~self.predicted).sum(axis=0) / np.maximum((~self.truth).sum(axis=0), 1)
        both = (self.by_label["recall"].to_numpy() + left) / 2
        return float(np.nanmean(both))

    @cached_property
    def by_label(self) -> pd.DataFrame:
        """Precision, recall, F1 and count by label; see `Scores.by_label`."""
        right, given, count = (self.truth & self.predicted).sum(0), self.predicted.sum(0), self.truth.sum(0)
        return label_table(right, given, count, self.labels)

    def as_dict(self) -> dict[str, Any]:
        """All scores as plain numbers for JSON; undefined scores are None."""
        return {
            "clips": self.clips,
            "exact": self.exact,
            "macro_f1": self.macro_f1,
            "balanced_accuracy": self.balanced_accuracy,
            "labels": plain(self.by_label),
        }


def label_table(right: np.ndarray, given: np.ndarray, count: np.ndarray, labels: Sequence[str]) -> pd.DataFrame:
    """Precision, recall and F1 from counts by label: right ones, clips given the label, clips that have it."""
    table = {
        "precision": np.where(given > 0, right / np.maximum(given, 1), np.nan),
        "recall": np.where(count > 0, right / np.maximum(count, 1), np.nan),
        "f1": np.where(count > 0, 2 * right / np.maximum(given + count, 1), np.nan),
        "count": count,
    }
    return pd.DataFrame(table, index=list(labels))


def plain(table: pd.DataFrame) -> dict[str, dict[str, Any]]:
    """Rows of a table as dictionaries, by the name of the row; what is no finite number becomes None."""
    columns = {str(key): [plain_number(value) for value in table[key].tolist()] for key in table}
    return {str(name): {key: values[row] for key, values in columns.items()} for row, name in enumerate(table.index)}


def plain_number(value: Any) -> Any:
    """A number as JSON can hold it, None where it is not finite; anything else as it is."""
    if isinstance(value, float | np.floating) and not np.isfinite(value):
        return None
    return value.item() if isinstance(value, np.generic) else value


def score_multilabel(truth: Sequence[str], predicted: Sequence[str], labels: Sequence[str]) -> MultilabelScores:
    """Compare predicted with true labels, several per clip, written as ``a|b``.

    Raises
    ------
    TableError
        If there is nothing to judge.
    """
    if not len(truth):
        raise TableError("there are no labeled clips to judge")
    marked = [
        np.array([[label in labels_in(text) for label in labels] for text in split]) for split in (truth, predicted)
    ]
    return MultilabelScores(truth=marked[0], predicted=marked[1], labels=list(labels))
