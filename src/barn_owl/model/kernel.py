"""The classifier of the kernel family: log-odds that are linear in how alike a row is to others."""

import numpy as np

from barn_owl.model.rows import squared_distances


class Kernel:
    """Logits are a weighted sum of how alike a row is to each landmark, ``exp(-d^2 / (2 width^2 features))``.

    landmarks : ``(m, features)``; coefficients : ``(m, labels)``; bias : ``(labels,)``.
    """

    def __init__(self, landmarks: np.ndarray, width: float, coefficients: np.ndarray, bias: np.ndarray) -> None:
        if landmarks.ndim != 2 or coefficients.ndim != 2 or not 1e-6 < width < 1e6:
            raise ValueError(
                f"landmarks {landmarks.shape} with {coefficients.shape} weights, width {width} cannot be"
            )
        self.landmarks, self.width, self.coefficients, self.bias = landmarks, width, coefficients, bias

    def logits(self, rows: np.ndarray) -> np.ndarray:
        """Return the logits; see `RowClassifier`."""
        return np.asarray(alike(rows, self.landmarks, self.width) @ self.coefficients + self.bias)

    def arrays(self) -> dict[str, np.ndarray]:
        """Return all that was learnt."""
        return {
            "landmarks": self.landmarks,
            "width": np.array([self.width], dtype=np.float32),
            "coefficients": self.coefficients,
            "bias": self.bias,
        }

    def multiply_adds(self) -> int:
        """One for each feature and label of each landmark."""
        return self.landmarks.size + self.coefficients.size


def alike(rows: np.ndarray, others: np.ndarray, width: float) -> np.ndarray:
    """How alike each of `rows` is to each of `others`: ``exp(-d^2 / (2 width^2 features))``; ``(rows, others)``."""
    squares = squared_distances(rows, others)
    squares *= -1 / (2 * width**2 * rows.shape[1])
    return np.asarray(np.exp(squares, out=squares))
