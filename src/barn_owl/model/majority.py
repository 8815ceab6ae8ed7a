"""The classifier of the majority family: the baseline that says the same of everything."""

import numpy as np


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
