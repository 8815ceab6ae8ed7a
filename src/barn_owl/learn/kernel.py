"""Fitting the kernel family: logistic regression in the space of a Gaussian kernel."""

from collections.abc import Iterator

import numpy as np
import scipy

from barn_owl.learn.logistic import fit_logistic
from barn_owl.learn.plan import KernelSettings
from barn_owl.learn.rows import Candidate, RowTask
from barn_owl.model.kernel import Kernel, alike

WIDTHS = (0.7, 1.2, 2.0)
PENALTIES = (3e-2, 1e-2, 3e-3, 1e-3, 3e-4, 1e-4)
SMALLEST = 1e-6
"""Directions in which the landmarks differ less than this, relative to the largest, are left out."""


def candidates(task: RowTask, settings: KernelSettings) -> Iterator[Candidate]:
    """Give a candidate for each width and penalty.

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
