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

    def step(self, gradient: np.ndarray, rate: float) -> None:
        """Move the weights against `gradient`; `rate` is the learning rate of this step."""
        self.count += 1
        self.first += (1 - self.beta1) * (gradient - self.first)
        self.second += (1 - self.beta2) * (gradient * gradient - self.second)
        root = np.sqrt(self.second / (1 - self.beta2**self.count))
        root += 1e-8
        move = self.first / root
        move *= 1 / (1 - self.beta1**self.count)
        move += self.decay * self.weights
        move *= rate
        self.weights -= move


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
