"""What every classifier of rows of numbers has in common: it gives logits for rows, and a row is a pooled window."""

from typing import Protocol

import numpy as np


class RowClassifier(Protocol):
    """A trained classifier of rows, ``(rows, features)``, each feature with mean 0 and deviation 1 in training."""

    def logits(self, rows: np.ndarray) -> np.ndarray:
        """Return float32 logits, ``(rows, labels)``."""

    def arrays(self) -> dict[str, np.ndarray]:
        """Return all that was learnt, by name."""

    def multiply_adds(self) -> int:
        """Count the multiply-adds, or steps that cost about as much, for one row."""


def squared_distances(rows: np.ndarray, others: np.ndarray) -> np.ndarray:
    """Squared distance of each of `rows` to each of `others`, by one matrix product; ``(rows, others)``."""
    squares = np.einsum("nf,nf->n", rows, rows)[:, None] + np.einsum("nf,nf->n", others, others)
    squares -= 2 * (rows @ others.T)
    return np.maximum(squares, 0, out=squares)
