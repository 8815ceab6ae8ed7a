"""The kernel classifier: logistic regression in the feature space of a Gaussian kernel."""

from collections.abc import Iterator

import numpy as np
import scipy
from pydantic import Field

from barn_owl.classifiers.logistic import fit_logistic
from barn_owl.classifiers.row_classifiers import Candidate, RowTask, only, rows_kind, squared_distances
from barn_owl.settings import Settings


class KernelSettings(Settings):
    """Logistic regression in the space of a Gaussian (RBF) kernel on pooled features."""

    penalty: float | None = Field(default=None, gt=0)
    """L2 penalty. Default: the best of several on the validation clips."""
    width: float | None = Field(default=None, gt=0)
    """Width of the kernel in standard deviations per feature. Default: the best of several."""
    landmarks: int = Field(default=800, ge=10, le=10_000)
    """Maximum number of training windows in the kernel (Nystroem approximation)."""


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

    def state(self) -> dict[str, np.ndarray]:
        """Return all that was learned."""
        return {
            "landmarks": self.landmarks,
            "width": np.array([self.width], dtype=np.float32),
            "coefficients": self.coefficients,
            "bias": self.bias,
        }

    def multiply_adds(self) -> int:
        """Return the number of features and labels per landmark, times landmarks."""
        return self.landmarks.size + self.coefficients.size


def alike(rows: np.ndarray, others: np.ndarray, width: float) -> np.ndarray:
    """Return the Gaussian kernel of two sets of rows: ``exp(-d^2 / (2 width^2 features))``; ``(rows, others)``."""
    squares = squared_distances(rows, others)
    squares *= -1 / (2 * width**2 * rows.shape[1])
    return np.asarray(np.exp(squares, out=squares))


WIDTHS = (0.7, 1.2, 2.0)
PENALTIES = (3e-2, 1e-2, 3e-3, 1e-3, 3e-4, 1e-4)
SMALLEST = 1e-6
"""Directions where the landmarks differ less than this, relative to the largest, are skipped."""


def candidates(task: RowTask, settings: KernelSettings) -> Iterator[Candidate]:
    """Yield a candidate for each width and penalty.

    With no more rows than landmarks this is kernel logistic regression itself; else the rows are seen through a drawn
    part of them: Williams and Seeger, "Using the Nystroem Method to Speed Up Kernel Machines", NIPS 2000.
    """
    chosen = np.sort(task.rng.permutation(len(task.rows))[: settings.landmarks])
    landmarks = np.ascontiguousarray(task.rows[chosen])
    for width in WIDTHS if settings.width is None else (settings.width,):
        values, vectors = scipy.linalg.eigh(alike(landmarks, landmarks, width).astype(np.float64))
        kept = values > SMALLEST * values[-1]
        # Inner products of these features are the kernel: K_nm K_mm^-1 K_mn.
        into = vectors[:, kept] / np.sqrt(values[kept])
        features = alike(task.rows, landmarks, width) @ into
        weights = None
        for penalty in PENALTIES if settings.penalty is None else (settings.penalty,):
            weights, loss = fit_logistic(features, task.targets, task.weights, penalty, start=weights)
            coefficients, bias = (into @ weights[:-1]).astype(np.float32), weights[-1].astype(np.float32)
            made = Kernel(landmarks, width, coefficients, bias)
            yield Candidate.made(made, loss, made.logits(task.watched))


KIND = rows_kind(
    "kernel",
    settings=KernelSettings,
    candidates=candidates,
    rebuild=lambda a: Kernel(a["landmarks"], only(a["width"], float), a["coefficients"], a["bias"]),
)
