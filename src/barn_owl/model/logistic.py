"""The classifier of the logistic family: log-odds that are linear in the row."""

import numpy as np


class Linear:
    """Logits are linear in the row; kernel : ``(features, labels)``; bias : ``(labels,)``."""

    def __init__(self, kernel: np.ndarray, bias: np.ndarray) -> None:
        self.kernel, self.bias = kernel, bias

    @classmethod
    def of(cls, weights: np.ndarray) -> "Linear":
        """Take what `fit_logistic` gives."""
        return cls(weights[:-1].astype(np.float32), weights[-1].astype(np.float32))

    def logits(self, rows: np.ndarray) -> np.ndarray:
        """Return the logits; see `RowClassifier`."""
        return np.asarray(rows @ self.kernel + self.bias)

    def arrays(self) -> dict[str, np.ndarray]:
        """Return kernel and bias."""
        return {"kernel": self.kernel, "bias": self.bias}

    def multiply_adds(self) -> int:
        """One for each entry of the kernel."""
        return self.kernel.size
