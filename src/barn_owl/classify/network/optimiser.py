"""AdamW on one flat vector, gradient clipping, and the course of the learning rate."""

import numpy as np


class AdamW:
    """Adam with decoupled weight decay: Loshchilov and Hutter, ICLR 2019, algorithm 2.

    weights : the vector that `step` changes in place, shape ``(n,)``.
    decay : weight decay; decayed : which entries it applies to, boolean ``(n,)``.
    """

    def __init__(
        self,
        weights: np.ndarray,
        *,
        decay: float,
        decayed: np.ndarray,
        beta1: float = 0.9,
        beta2: float = 0.99,
    ) -> None:
        self.weights = weights
        self.decay = (decay * decayed).astype(weights.dtype)
        self.beta1, self.beta2 = beta1, beta2
        self.count = 0
        self.first = np.zeros_like(weights)
        self.second = np.zeros_like(weights)
        self._a, self._b = np.empty_like(weights), np.empty_like(weights)

    def step(self, gradient: np.ndarray, rate: float) -> None:
        """Move the weights against `gradient`; `rate` is the learning rate of this step."""
        self.count += 1
        a, b = self._a, self._b  # in place: fresh arrays of this size cost as much as the sums
        np.subtract(gradient, self.first, out=a)
        a *= 1 - self.beta1
        self.first += a
        np.multiply(gradient, gradient, out=a)
        a -= self.second
        a *= 1 - self.beta2
        self.second += a
        np.sqrt(self.second, out=a)
        a *= 1 / np.sqrt(1 - self.beta2**self.count)
        a += 1e-8
        np.divide(self.first, a, out=a)
        a *= rate / (1 - self.beta1**self.count)
        np.multiply(self.decay, self.weights, out=b)
        b *= rate
        self.weights -= a
        self.weights -= b


def clip_norm(gradient: np.ndarray, longest: float) -> float:
    """Shorten `gradient` in place to length `longest` at most; return the length it had."""
    length = float(np.sqrt(np.dot(gradient, gradient)))
    if length > longest:
        gradient *= longest / length
    return length


def warm_cosine(step: int, steps: int, peak: float, warm_share: float = 0.1) -> float:
    """Learning rate at `step` of `steps`: a straight rise to `peak`, then half a cosine down to zero.

    >>> [round(warm_cosine(step, 100, 1.0), 2) for step in (0, 9, 55, 99)]
    [0.1, 1.0, 0.5, 0.0]
    """
    warm = max(1, round(warm_share * steps))
    if step < warm:
        return peak * (step + 1) / warm
    return peak * 0.5 * (1 + float(np.cos(np.pi * (step - warm) / max(1, steps - warm))))
