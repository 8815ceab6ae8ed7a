"""Rows of pooled windows to learn from, and what is offered for them.

A kind of classifier offers ``candidates``: it fits itself in several ways, or step by step, and gives one candidate
after the other, so that whoever asked can judge each and stop when it gets no better.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from barn_owl.model.rows import RowClassifier


@dataclass(frozen=True, kw_only=True)
class RowTask:
    """What is to be learnt: rows ``(n, features)`` float32, targets ``(n, labels)`` from 0 to 1, weights ``(n,)``.

    watched : rows of the validation clips, whose logits are wanted with every candidate. Each label is by itself, as
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
