"""What every classifier of rows of numbers has in common: it gives logits for rows, and a row is a pooled window.

A kind of classifier offers ``candidates``: it fits itself in several ways, or step by step, and gives one candidate
after the other, so that whoever asked can judge each and stop when it gets no better.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol

import numpy as np

from barn_owl.classify.network import binary_cross_entropy, cross_entropy


class RowClassifier(Protocol):
    """A trained classifier of rows, ``(rows, features)``, each feature with mean 0 and deviation 1 in training."""

    def logits(self, rows: np.ndarray) -> np.ndarray:
        """Return float32 logits, ``(rows, labels)``."""

    def arrays(self) -> dict[str, np.ndarray]:
        """Return all that was learnt, by name."""

    def multiply_adds(self) -> int:
        """Count the multiply-adds, or steps that cost about as much, for one row."""


@dataclass(frozen=True, kw_only=True)
class RowTask:
    """What is to be learnt: rows ``(n, features)`` float32, targets ``(n, labels)`` from 0 to 1, weights ``(n,)``.

    watched : rows of the validation clips, whose logits are wanted with every candidate.
    overlapping : each label is by itself; otherwise the targets of a row sum to 1.
    """

    rows: np.ndarray
    targets: np.ndarray
    weights: np.ndarray
    watched: np.ndarray
    overlapping: bool
    rng: np.random.Generator

    @property
    def loss(self) -> Callable[[np.ndarray, np.ndarray], tuple[float, np.ndarray]]:
        """Loss of logits against targets, and its gradient."""
        return binary_cross_entropy if self.overlapping else cross_entropy

    def logits_of_shares(self, shares: np.ndarray) -> np.ndarray:
        """Logits whose softmax (or sigmoid, if labels overlap) is `shares`; they must be above 0 (and below 1)."""
        return (np.log(shares) - (np.log1p(-shares) if self.overlapping else 0)).astype(np.float32)


def squared_distances(rows: np.ndarray, others: np.ndarray) -> np.ndarray:
    """Squared distance of each of `rows` to each of `others`, by one matrix product; ``(rows, others)``."""
    squares = np.einsum("nf,nf->n", rows, rows)[:, None] + np.einsum("nf,nf->n", others, others)
    squares -= 2 * (rows @ others.T)
    return np.maximum(squares, 0, out=squares)


class Candidate(NamedTuple):
    """A classifier that could be kept: how to make it, its loss in training, its logits of the watched rows."""

    make: Callable[[], Any]
    train_loss: float
    watched: np.ndarray

    @classmethod
    def made(cls, classifier: RowClassifier, train_loss: float, watched: np.ndarray) -> "Candidate":
        """Give a classifier that is there already."""
        return cls(lambda: classifier, train_loss, watched)
