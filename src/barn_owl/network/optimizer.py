"""AdamW on a flat vector, gradient clipping, and the learning rate schedule."""

import math

import numpy as np

from barn_owl.arrays import aligned_empty

BLOCK = 16_384
"""Weights that are moved at a time."""


class AdamW:
    """Adam with decoupled weight decay: Loshchilov and Hutter, ICLR 2019, algorithm 2.

    weights : the vector that `step` changes in place, shape ``(n,)``.
    decay : weight decay; decayed : which entries it applies to, boolean ``(n,)``.
    """

    def __init__(
        self, weights: np.ndarray, *, decay: float, decayed: np.ndarray, beta1: float = 0.9, beta2: float = 0.99
    ) -> None:
        self.weights = weights
        self.decay = aligned_empty(weights.shape, weights.dtype)
        self.decay[:] = decay * decayed
        self.beta1, self.beta2 = beta1, beta2
        self.count = 0
        self.first, self.second = (aligned_empty(weights.shape, weights.dtype) for _ in range(2))
        self.first[:] = self.second[:] = 0
        """Moments without their factors 1 - beta, which are applied with the remaining factors."""
        self._a, self._b = (aligned_empty(BLOCK, weights.dtype) for _ in range(2))

    def step(self, gradient: np.ndarray, rate: float) -> None:
        """Move the weights against `gradient`; `rate` is the learning rate of this step."""
        self.count += 1
        for at in range(0, len(self.weights), BLOCK):
            self._move(gradient, slice(at, at + BLOCK), rate)

    def _move(self, gradient: np.ndarray, block: slice, rate: float) -> None:
        """Update a block of the weights: small blocks stay in the cache, updates in place need no memory."""
        g, w, first, second = gradient[block], self.weights[block], self.first[block], self.second[block]
        a, b = self._a[: len(g)], self._b[: len(g)]
        first *= self.beta1
        first += g
        second *= self.beta2
        second += np.multiply(g, g, out=a)
        # rate * m / (sqrt(v) + 1e-8) with all factors in two Python floats; NumPy floats would promote to float64
        root = math.sqrt((1 - self.beta2) / (1 - self.beta2**self.count))
        np.sqrt(second, out=a)
        a += 1e-8 / root
        np.divide(first, a, out=a)
        a *= rate * (1 - self.beta1) / (1 - self.beta1**self.count) / root
        np.multiply(self.decay[block], rate, out=b)
        b *= w
        w -= a
        w -= b


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
