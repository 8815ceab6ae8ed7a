"""The majority classifier: a baseline that always predicts the commonest label."""

from collections.abc import Iterator
from typing import Any

import numpy as np

from barn_owl.classifiers.row_classifiers import Candidate, RowTask, logits_of_shares, rows_kind
from barn_owl.network import binary_cross_entropy


class Majority:
    """Classifier that returns the share of each label in training; shares : ``(labels,)``, as logits."""

    def __init__(self, shares: np.ndarray) -> None:
        self.shares = shares

    def logits(self, rows: np.ndarray) -> np.ndarray:
        """Return the same logits for every row."""
        return np.broadcast_to(self.shares, (len(rows), len(self.shares))).copy()

    def state(self) -> dict[str, np.ndarray]:
        """Return the shares."""
        return {"shares": self.shares}

    def multiply_adds(self) -> int:
        """Nothing is computed."""
        return 0


def candidates(task: RowTask, _settings: Any) -> Iterator[Candidate]:
    """Yield the only candidate: shares, with a positive and a negative clip added for each label."""
    made = Majority(logits_of_shares((task.targets.sum(axis=0) + 1) / (len(task.targets) + 2)))
    loss = binary_cross_entropy(made.logits(task.rows), task.targets)[0]
    yield Candidate.made(made, loss, made.logits(task.watched))


KIND = rows_kind(
    "majority", candidates=candidates, rebuild=lambda arrays: Majority(arrays["shares"]), is_baseline=True
)
