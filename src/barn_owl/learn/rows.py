"""Rows of pooled windows to learn from, and what is offered for them.

A kind of classifier offers ``candidates``: it fits itself in several ways, or step by step, and gives one candidate
after the other, so that whoever asked can judge each and stop when it gets no better.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from barn_owl.model.rows import RowClassifier
from barn_owl.network import binary_cross_entropy, cross_entropy


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


class Candidate(NamedTuple):
    """A classifier that could be kept: how to make it, its loss in training, its logits of the watched rows."""

    make: Callable[[], Any]
    train_loss: float
    watched: np.ndarray

    @classmethod
    def made(cls, classifier: RowClassifier, train_loss: float, watched: np.ndarray) -> "Candidate":
        """Give a classifier that is there already."""
        return cls(lambda: classifier, train_loss, watched)
