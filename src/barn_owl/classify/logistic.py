"""The logistic family: multinomial logistic regression on pooled features."""

import time
from collections.abc import Iterator
from contextlib import closing
from typing import Any

import numpy as np
from scipy.optimize import minimize

from barn_owl.classify.dataset import ClipFrames, WindowDrawer
from barn_owl.classify.fitted import (
    Examples,
    Fitted,
    Progress,
    Watcher,
    background_clips,
    judge_logits,
    standardisation,
    window_frames,
)
from barn_owl.classify.network import log_softmax
from barn_owl.classify.network.loss import smoothed
from barn_owl.classify.plan import Plan
from barn_owl.classify.variants import Variants
from barn_owl.features import pool

PENALTIES = (1.0, 0.3, 0.1, 0.03, 0.01, 0.003, 0.001)
DRAWS = 4
"""Windows of each clip that are fitted to."""


class Logistic:
    """Multinomial logistic regression on the mean and the deviation of each band over the window.

    kernel : ``(2 * bands, labels)``; bias : ``(labels,)``.
    """

    name = "logistic"
    step = 4

    def __init__(self, frames: int, kernel: np.ndarray, bias: np.ndarray) -> None:
        self.window, self.kernel, self.bias = frames, kernel, bias
        self.reach = min(32, frames)

    def logits(self, frames: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return the logits of all windows, and of short stretches of `reach` frames; see `Family`."""
        return self._of(frames, self.window), self._of(frames, self.reach)

    def _of(self, frames: np.ndarray, length: int) -> np.ndarray:
        view = np.lib.stride_tricks.sliding_window_view(frames, length, axis=0)[:: self.step]
        return np.asarray(pool(view.swapaxes(1, 2)) @ self.kernel + self.bias)

    def arrays(self) -> dict[str, np.ndarray]:
        """Kernel and bias."""
        return {"kernel": self.kernel, "bias": self.bias}

    def shape(self) -> dict[str, Any]:
        """Length of the window."""
        return {"frames": self.window}


def _turns(plan: Plan, labels: list[str], train: Examples, workers: int) -> Iterator[ClipFrames]:
    """The training clips as often as windows are drawn of them: first as they are, then with their sound changed."""
    yield train.clips
    if not (plan.sound.any and train.sources):
        yield from [train.clips] * (DRAWS - 1)
        return
    with closing(Variants(train.sources, background_clips(plan, labels, train), plan)) as variants:
        for turn in range(1, DRAWS):
            yield ClipFrames(variants.of_all(turn, workers))


def fit_logistic_family(
    plan: Plan, labels: list[str], train: Examples, validation: Examples, *, workers: int, watch: Watcher
) -> Fitted:
    """Fit the family for each penalty that the plan allows and keep what is best on the validation clips."""
    rng = np.random.default_rng(plan.seed)
    mean, deviation = standardisation(train.clips)
    window = window_frames(plan)
    every = np.arange(len(train.numbers))
    pooled = np.concatenate(
        [
            pool((WindowDrawer(clips, window, plan.clips, plan.front_end).draw(every, rng) - mean) / deviation)
            for clips in _turns(plan, labels, train, workers)
        ]
    )
    centre, spread = pooled.mean(axis=0), np.maximum(pooled.std(axis=0), 1e-3)
    x = ((pooled - centre) / spread).astype(np.float64)
    numbers = np.tile(train.numbers, DRAWS)
    watched = pool((WindowDrawer(validation.clips, window, plan.clips, plan.front_end).central() - mean) / deviation)
    penalties = PENALTIES if plan.logistic.penalty is None else (plan.logistic.penalty,)
    weights = np.zeros((x.shape[1] + 1, len(labels)))
    best_loss, best, begin = np.inf, weights, time.perf_counter()
    fitted = Fitted(family=Logistic(window, *_unscaled(best, centre, spread)), mean=mean, deviation=deviation)
    try:
        for number, penalty in enumerate(penalties, start=1):
            weights, train_loss = fit_logistic(x, numbers, len(labels), penalty, start=weights)
            kernel, bias = _unscaled(weights, centre, spread)
            loss, recall = judge_logits(watched @ kernel + bias, validation.numbers)
            is_best = loss < best_loss
            if is_best:
                best_loss, best = loss, weights
            line = Progress(
                epoch=number, epochs=len(penalties), train_loss=train_loss, validation_loss=loss,
                validation_recall=recall, best=is_best, seconds=time.perf_counter() - begin,
            )  # fmt: skip
            fitted.curves.append(line)
            watch(line)
    except KeyboardInterrupt:
        if not fitted.curves:
            raise
        fitted.interrupted = True
    fitted.family = Logistic(window, *_unscaled(best, centre, spread))
    return fitted


def fit_logistic(
    x: np.ndarray, numbers: np.ndarray, labels: int, penalty: float, *, start: np.ndarray | None = None
) -> tuple[np.ndarray, float]:
    """Minimise the mean cross-entropy plus ``penalty / 2`` times the squared coefficients, labels weighted alike.

    x : float64, ``(rows, features)``; numbers : label of each row. The bias is not penalised.

    Returns the weights, ``(features + 1, labels)`` with the bias last, and the mean cross-entropy reached.
    """
    rows, features = x.shape
    counts = np.bincount(numbers, minlength=labels)
    weight = (rows / np.count_nonzero(counts) / np.maximum(counts, 1))[numbers][:, None]
    targets = smoothed(numbers, labels, 0.0).astype(np.float64)

    def objective(flat: np.ndarray) -> tuple[float, np.ndarray]:
        w = flat.reshape(features + 1, labels)
        log_p = log_softmax(x @ w[:-1] + w[-1])
        loss = -float((weight * targets * log_p).sum()) / rows + penalty / 2 * float((w[:-1] ** 2).sum())
        residual = weight * (np.exp(log_p) - targets) / rows
        gradient = np.vstack([x.T @ residual + penalty * w[:-1], residual.sum(axis=0)])
        return loss, gradient.ravel()

    first = np.zeros((features + 1, labels)) if start is None else start
    found = minimize(objective, first.ravel(), jac=True, method="L-BFGS-B", options={"maxiter": 500, "ftol": 1e-10})
    weights = found.x.reshape(features + 1, labels)
    return weights, float(found.fun) - penalty / 2 * float((weights[:-1] ** 2).sum())


def _unscaled(weights: np.ndarray, centre: np.ndarray, spread: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Turn weights for standardised features into kernel and bias for the features as they are; float32."""
    kernel = weights[:-1] / spread[:, None]
    return kernel.astype(np.float32), (weights[-1] - centre @ kernel).astype(np.float32)
