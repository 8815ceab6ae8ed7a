"""The logistic classifier: an independent logistic regression per label."""

from collections.abc import Iterator

import numpy as np
import scipy
from pydantic import Field

from barn_owl.classifiers.row_classifiers import Candidate, RowTask, rows_kind
from barn_owl.network import sigmoid
from barn_owl.settings import Settings


class LogisticSettings(Settings):
    """Logistic regression on pooled features, per label."""

    penalty: float | None = Field(default=None, gt=0)
    """L2 penalty. Default: the best of several on the validation clips."""


class Linear:
    """Logits are linear in the row; kernel : ``(features, labels)``; bias : ``(labels,)``."""

    def __init__(self, kernel: np.ndarray, bias: np.ndarray) -> None:
        self.kernel, self.bias = kernel, bias

    @classmethod
    def of(cls, weights: np.ndarray) -> "Linear":
        """Create it from the result of `fit_logistic`."""
        return cls(weights[:-1].astype(np.float32), weights[-1].astype(np.float32))

    def logits(self, rows: np.ndarray) -> np.ndarray:
        """Return the logits; see `RowClassifier`."""
        return np.asarray(rows @ self.kernel + self.bias)

    def state(self) -> dict[str, np.ndarray]:
        """Return kernel and bias."""
        return {"kernel": self.kernel, "bias": self.bias}

    def multiply_adds(self) -> int:
        """Return the size of the kernel."""
        return self.kernel.size


PENALTIES = (1.0, 0.3, 0.1, 0.03, 0.01, 0.003, 0.001)
"""From nearly flat to nearly free, half a power of ten apart: the best lies inside on every problem tried."""


def candidates(task: RowTask, settings: LogisticSettings) -> Iterator[Candidate]:
    """Yield a candidate for each penalty, the strongest first; each starts from the solution of the previous."""
    penalties = PENALTIES if settings.penalty is None else (settings.penalty,)
    rows, weights = task.rows.astype(np.float64), None
    for penalty in penalties:
        weights, loss = fit_logistic(rows, task.targets, task.weights, penalty, start=weights)
        made = Linear.of(weights)
        yield Candidate.made(made, loss, made.logits(task.watched))


def fit_logistic(
    rows: np.ndarray, targets: np.ndarray, weights: np.ndarray, penalty: float, *, start: np.ndarray | None = None
) -> tuple[np.ndarray, float]:
    """Minimize the weighted mean cross-entropy plus ``penalty / 2`` times the squared coefficients.

    rows : float64, ``(n, features)``; targets : ``(n, labels)``; weights : of the rows, ``(n,)``. The bias is not
    penalized. The loss of a row is the mean over its labels.

    Returns the coefficients, ``(features + 1, labels)`` with the bias last, and the cross-entropy reached. Solved by
    L-BFGS (Liu and Nocedal, Mathematical Programming 1989) as SciPy has it.
    """
    targets = targets.astype(np.float64)
    shares = (weights / weights.sum()).astype(np.float64)[:, None]
    features, labels = rows.shape[1], targets.shape[1]

    def objective(flat: np.ndarray) -> tuple[float, np.ndarray]:
        w = flat.reshape(features + 1, labels)
        logits = rows @ w[:-1] + w[-1]
        terms = np.maximum(logits, 0) - logits * targets + np.log1p(np.exp(-np.abs(logits)))
        loss = float((shares * terms).sum()) / labels
        residual = shares * (sigmoid(logits) - targets) / labels
        gradient = np.empty_like(w)
        np.matmul(rows.T, residual, out=gradient[:-1])
        gradient[:-1] += penalty * w[:-1]
        residual.sum(axis=0, out=gradient[-1])
        return loss + penalty / 2 * float((w[:-1] ** 2).sum()), gradient.ravel()

    first = np.zeros((features + 1, labels)) if start is None else start
    found = scipy.optimize.minimize(
        objective, first.ravel(), jac=True, method="L-BFGS-B", options={"maxiter": 1000, "ftol": 1e-13, "gtol": 1e-5}
    )
    best = found.x.reshape(features + 1, labels)
    return best, float(found.fun) - penalty / 2 * float((best[:-1] ** 2).sum())


KIND = rows_kind(
    "logistic",
    settings=LogisticSettings,
    candidates=candidates,
    rebuild=lambda arrays: Linear(arrays["kernel"], arrays["bias"]),
    drawn=1,
    searched={"pooling.window_s": [0.3, 0.5, 1.0]},
)
