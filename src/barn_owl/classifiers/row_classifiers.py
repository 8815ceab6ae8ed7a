"""Row classifiers: one row is one pooled window.

A kind of classifier offers ``candidates``: it fits itself in several ways, or step by step, and gives one candidate
after the other, so that the caller can judge each and stop when it gets no better.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from barn_owl.classifiers.kind import ClassifierKind
from barn_owl.classifiers.pooled import PooledConfig, RowClassifier, rebuilt
from barn_owl.settings import Settings


def squared_distances(rows: np.ndarray, others: np.ndarray) -> np.ndarray:
    """Squared distance of each of `rows` to each of `others`, by one matrix product; ``(rows, others)``."""
    squares = np.einsum("nf,nf->n", rows, rows)[:, None] + np.einsum("nf,nf->n", others, others)
    squares -= 2 * (rows @ others.T)
    return np.maximum(squares, 0, out=squares)


@dataclass(frozen=True, kw_only=True)
class RowTask:
    """What is to be learned: rows ``(n, features)`` float32, targets ``(n, labels)`` from 0 to 1, weights ``(n,)``.

    watched : rows of the validation clips, whose logits are wanted with every candidate. Each label is on its own, as
    several may sound at once.
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
    """A classifier that could be kept: how to make it, its loss in training, its logits of the watched rows."""

    make: Callable[[], Any]
    train_loss: float
    watched: np.ndarray

    @classmethod
    def made(cls, classifier: RowClassifier, train_loss: float, watched: np.ndarray) -> "Candidate":
        """Give a classifier that is there already."""
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
    stops: Callable[[Any], tuple[int, int]] | None = None,
    searched: Mapping[str, Sequence[Any]] | None = None,
    drawn: int = 0,
) -> ClassifierKind:
    """Make the kind of a classifier of rows.

    candidates : fits it in several ways; rebuild : makes it of its arrays again, raises KeyError or ValueError where
    they do not fit. For the others see `ClassifierKind`.
    """
    return ClassifierKind(
        name=name, settings=settings, config=PooledConfig, candidates=candidates,
        rebuild=lambda config, arrays, features, labels, multilabel: rebuilt(  # noqa: ARG005
            config, arrays, features, labels, rebuild
        ),
        is_baseline=is_baseline, stops=stops, searched=searched or {}, drawn=drawn,
    )  # fmt: skip


def only(array: np.ndarray, kind: type[Any]) -> Any:
    """The only number of an array; raises ValueError if it does not have exactly one."""
    if array.size != 1:
        raise ValueError(f"one number was expected, there are {array.size}")
    return kind(array.ravel()[0])
