"""Classifiers of rows, the pooled features of a window.

A kind has ``candidates``, which fits the classifier in several ways, or step by step, and yields candidates, so that
the caller can evaluate each and stop without further improvement.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from math import inf
from typing import Any, NamedTuple

import numpy as np

from barn_owl.classifiers.kind import RowsKind
from barn_owl.classifiers.pooled import PooledConfig, RowClassifier, rebuilt
from barn_owl.settings import Settings


def squared_distances(rows: np.ndarray, others: np.ndarray) -> np.ndarray:
    """Return squared Euclidean distances between two sets of rows, ``(rows, others)``, by a matrix product."""
    squares = np.einsum("nf,nf->n", rows, rows)[:, None] + np.einsum("nf,nf->n", others, others)
    squares -= 2 * (rows @ others.T)
    return np.maximum(squares, 0, out=squares)


@dataclass(frozen=True, kw_only=True)
class RowTask:
    """Training data of a classifier of rows. Labels are independent, as several may be active at once.

    Attributes
    ----------
    rows : np.ndarray
        Pooled features with mean 0 and deviation 1, float32, ``(n, features)``.
    targets : np.ndarray
        1 where a label is active, else 0, float32, ``(n, labels)``.
    weights : np.ndarray
        Loss weight of each row, float32, ``(n,)``.
    watched : np.ndarray
        Rows of validation clips, float32, ``(m, features)``; every candidate has its logits of them.
    rng : np.random.Generator
        Source of all random choices.
    """

    rows: np.ndarray
    targets: np.ndarray
    weights: np.ndarray
    watched: np.ndarray
    rng: np.random.Generator


def logits_of_shares(shares: np.ndarray) -> np.ndarray:
    """Logits whose sigmoid is `shares`, which are above 0 and below 1."""
    return np.asarray(np.log(shares) - np.log1p(-shares), dtype=np.float32)


class Candidate(NamedTuple):
    """A fitted classifier to choose from.

    Attributes
    ----------
    make : Callable[[], RowClassifier]
        Returns the classifier.
    train_loss : float
        Cross-entropy on the training rows, for the curves; NaN if unknown.
    watched : np.ndarray
        Its logits of ``RowTask.watched``, float32, ``(m, labels)``: log-odds that each label is active.
    """

    make: Callable[[], Any]
    train_loss: float
    watched: np.ndarray

    @classmethod
    def made(cls, classifier: RowClassifier, train_loss: float, watched: np.ndarray) -> "Candidate":
        """Return the candidate of a classifier that is fitted already.

        Parameters
        ----------
        classifier : RowClassifier
            Fitted classifier.
        train_loss : float
            Cross-entropy on the training rows; NaN if unknown.
        watched : np.ndarray
            Its logits of the validation rows.
        """
        return cls(lambda: classifier, train_loss, watched)


class NoSettings(Settings):
    """A classifier without any."""


def rows_kind(
    name: str,
    *,
    candidates: Callable[[RowTask, Any], Iterator[Candidate]],
    rebuild: Callable[[dict[str, np.ndarray]], RowClassifier],
    settings: type[Settings] = NoSettings,
    is_baseline: bool = False,
    stops: Callable[[Any], tuple[float, int]] = lambda settings: (inf, 0),  # noqa: ARG005
    searched: Mapping[str, Sequence[Any]] | None = None,
    drawn: int = 0,
) -> RowsKind:
    """Create the kind of a classifier of rows, for `register_classifier`.

    Parameters
    ----------
    name : str
        Name in plans and model files.
    candidates : Callable[[RowTask, Any], Iterator[Candidate]]
        Fits the classifier to a `RowTask` with its settings, and yields candidates, the best of which is kept.
    rebuild : Callable[[dict[str, np.ndarray]], RowClassifier]
        Creates the trained classifier from the arrays of its ``state``; raises KeyError or ValueError if they do not
        fit.
    settings : type[Settings]
        Settings: its section of a plan.
    is_baseline : bool
        Whether the classifier ignores the sound, so that no rehearsal is made.
    stops : Callable[[Any], tuple[float, int]]
        For settings, after how many candidates without improvement to stop, and their largest number.
    searched : Mapping[str, Sequence[Any]] | None
        Keys of the plan that a search varies, with their values.
    drawn : int
        Relative frequency of the classifier in a search.

    Returns
    -------
    RowsKind
        The kind.

    Examples
    --------
    >>> from barn_owl.classifiers import logistic
    >>> barn_owl.classifiers.rows_kind("mine", candidates=logistic.candidates, rebuild=logistic.KIND.rebuild).name
    'mine'
    """
    return RowsKind(
        name=name, settings=settings, config=PooledConfig, candidates=candidates,
        rebuild=lambda config, arrays, features, labels, multilabel: rebuilt(  # noqa: ARG005
            config, arrays, features, labels, rebuild
        ),
        is_baseline=is_baseline, searched=searched or {}, drawn=drawn, stops=stops,
    )  # fmt: skip


def only(array: np.ndarray, kind: type[Any]) -> Any:
    """Return the only number of an array; raises ValueError for a different size."""
    if array.size != 1:
        raise ValueError(f"one number was expected, there are {array.size}")
    return kind(array.ravel()[0])
