"""Predictions and truth of clips, as arrays."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd

from barn_owl.clips import labels_in
from barn_owl.errors import TableError

LIKELY = 0.5
"""Score above which a label of a multilabel clip is predicted."""
SCORE = "score:"
"""Prefix of the columns with the scores of labels."""


@dataclass(frozen=True, kw_only=True, eq=False)
class PredictionArrays:
    """Truth, predictions and scores of clips.

    truth, predicted : boolean, ``(clips, labels)``;

    Attributes
    ----------
    labels : list[str]
        Labels in the order of the columns.
    scores : np.ndarray
        Float64 from 0 to 1, ``(clips, labels)``.
    groups : np.ndarray
        Number of the group of each clip (recorder, session, file), from 0, ``(clips,)``.
    multilabel : bool
        Whether a clip may have several labels; otherwise exactly one is true, and one is predicted.

    Examples
    --------
    >>> predictions = barn_owl.open_run("first").predictions
    >>> answers = barn_owl.evaluate.read_prediction_arrays(predictions, ["hiss", "hum", "still", "tick"])
    >>> answers.scores.shape
    (48, 4)
    """

    labels: list[str]
    truth: np.ndarray
    scores: np.ndarray
    predicted: np.ndarray
    groups: np.ndarray
    multilabel: bool = False

    def __len__(self) -> int:
        return len(self.truth)

    @property
    def group_count(self) -> int:
        """How many groups there are."""
        return int(self.groups.max()) + 1 if len(self.groups) else 0

    @cached_property
    def true_numbers(self) -> np.ndarray:
        """Number of the true label of each clip; of several the first."""
        return np.asarray(self.truth.argmax(axis=1))

    @cached_property
    def predicted_numbers(self) -> np.ndarray:
        """Number of the label with the highest score of each clip."""
        return np.asarray(self.predicted.argmax(axis=1) if not self.multilabel else self.scores.argmax(axis=1))

    @cached_property
    def right(self) -> np.ndarray:
        """Whether all of a clip's labels are right, ``(clips,)``."""
        return np.asarray((self.truth == self.predicted).all(axis=1))

    def take(self, rows: np.ndarray) -> "PredictionArrays":
        """Return some of the clips; groups are renumbered in order.

        Parameters
        ----------
        rows : np.ndarray
            Numbers of clips.
        """
        return PredictionArrays(
            labels=self.labels, truth=self.truth[rows], scores=self.scores[rows], predicted=self.predicted[rows],
            groups=np.unique(self.groups[rows], return_inverse=True)[1], multilabel=self.multilabel,
        )  # fmt: skip


def read_prediction_arrays(
    predictions: pd.DataFrame, labels: Sequence[str], *, multilabel: bool = False
) -> PredictionArrays:
    """Read labels, predictions and scores from a table with ``predicted`` and columns ``score:LABEL``.

    Groups are taken from the column ``group``; where it is absent or blank, clips of a file are a group.

    Parameters
    ----------
    predictions : pd.DataFrame
        Table with ``predicted`` and ``score:LABEL`` for each label.
    labels : Sequence[str]
        Labels in the order of the scores.
    multilabel : bool
        Whether a clip may have several labels.

    Raises
    ------
    TableError
        If a column is missing, there is no row, a label is not in `labels` or a score is no number from 0 to 1; the
        row is named.

    Examples
    --------
    >>> run = barn_owl.open_run("first")
    >>> barn_owl.evaluate.read_prediction_arrays(run.predictions, run.model.labels).truth.shape
    (48, 4)
    """
    labels = list(labels)
    columns = [f"{SCORE}{label}" for label in labels]
    missing = [name for name in ("label", "predicted", *columns) if name not in predictions]
    if missing:
        raise TableError(f"the predictions have no column {missing[0]!r}; they need label, predicted and {columns}")
    if not len(predictions):
        raise TableError("there are no labeled clips to judge")
    truth = _marked(predictions["label"], labels, multilabel, "label")
    if not multilabel and not truth.any(axis=1).all():
        raise TableError(f"row {int(np.flatnonzero(~truth.any(axis=1))[0]) + 1} has no label to judge by")
    answers = _marked(predictions["predicted"], labels, multilabel, "predicted")
    scores = predictions[columns].to_numpy(dtype=np.float64)
    bad = ~((scores >= 0) & (scores <= 1 + 1e-6)).all(axis=1)
    if bad.any():
        raise TableError(f"row {int(np.flatnonzero(bad)[0]) + 1}: scores must be numbers from 0 to 1")
    return PredictionArrays(
        labels=labels,
        truth=truth,
        scores=scores,
        predicted=answers,
        groups=group_numbers(predictions),
        multilabel=multilabel,
    )


def group_numbers(clips: pd.DataFrame) -> np.ndarray:
    """Number the groups of a clip table, ``(rows,)``: by ``group``, else by file."""
    names = clips["file"].astype(str) if "file" in clips else pd.Series(range(len(clips))).astype(str)
    if "group" in clips:
        group = clips["group"].fillna("").astype(str).to_numpy()
        names = pd.Series(np.where(group != "", "group " + group.astype(object), "file " + names.to_numpy()))
    return np.asarray(pd.factorize(names)[0])


def _marked(texts: pd.Series, labels: list[str], multilabel: bool, column: str) -> np.ndarray:
    """Which labels each text names: boolean ``(rows, labels)``."""
    texts = texts.fillna("").astype(str)
    place = {label: number for number, label in enumerate(labels)}
    marked = np.zeros((len(texts), len(labels)), dtype=bool)
    codes, kinds = pd.factorize(texts)
    for code, text in enumerate(kinds):
        names = labels_in(text) if multilabel else [text] if text else []
        unknown = [name for name in names if name not in place]
        if unknown:
            row = int(np.flatnonzero(codes == code)[0]) + 1
            raise TableError(f"row {row}, {column}: {unknown[0]!r} is not one of {', '.join(labels)}")
        for name in names:
            marked[codes == code, place[name]] = True
    return marked
