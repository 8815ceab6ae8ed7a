"""The majority family: the baseline that says the same of everything."""

from collections.abc import Iterator

import numpy as np

from barn_owl.classify.rows import Candidate, RowTask


class Majority:
    """Gives each label the share it has in training, whatever the row; shares : ``(labels,)``, as logits."""

    def __init__(self, shares: np.ndarray) -> None:
        self.shares = shares

    def logits(self, rows: np.ndarray) -> np.ndarray:
        """Return the same logits for every row."""
        return np.broadcast_to(self.shares, (len(rows), len(self.shares))).copy()

    def arrays(self) -> dict[str, np.ndarray]:
        """Return the shares."""
        return {"shares": self.shares}

    def multiply_adds(self) -> int:
        """Nothing is computed."""
        return 0


def candidates(task: RowTask) -> Iterator[Candidate]:
    """Give the one candidate: shares as they are, counted without weights, with one clip more for every label."""
    labels = task.targets.shape[1]
    shares = (task.targets.sum(axis=0) + 1) / (len(task.targets) + (2 if task.overlapping else labels))
    made = Majority(task.logits_of_shares(shares))
    yield Candidate.made(made, task.loss(made.logits(task.rows), task.targets)[0], made.logits(task.watched))
