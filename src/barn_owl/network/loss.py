"""From logits to probabilities and losses, without the logarithm of a rounded probability."""

import numpy as np


def log_softmax(logits: np.ndarray) -> np.ndarray:
    """Logarithm of the softmax over the last axis; same shape and type."""
    shifted = logits - logits.max(axis=-1, keepdims=True)
    return np.asarray(shifted - np.log(np.exp(shifted).sum(axis=-1, keepdims=True)))


def softmax(logits: np.ndarray) -> np.ndarray:
    """Softmax over the last axis: scores from 0 to 1 that sum to 1; same shape and type."""
    return np.asarray(np.exp(log_softmax(logits)))


def cross_entropy(logits: np.ndarray, targets: np.ndarray) -> tuple[float, np.ndarray]:
    """Mean cross-entropy over clips, and its gradient with respect to the logits.

    logits, targets : shape ``(clips, labels)``; each row of `targets` sums to the weight of its clip, mostly 1.
    """
    log_p = log_softmax(logits)
    loss = -float((targets * log_p).sum(dtype=np.float64)) / len(logits)
    return loss, (np.exp(log_p) * targets.sum(axis=1, keepdims=True) - targets) / np.asarray(
        len(logits), dtype=logits.dtype
    )


def sigmoid(logits: np.ndarray) -> np.ndarray:
    """Scores from 0 to 1, each label by itself; same shape and type."""
    return np.asarray(0.5 * (1 + np.tanh(0.5 * logits)), dtype=logits.dtype)


def binary_cross_entropy(logits: np.ndarray, targets: np.ndarray) -> tuple[float, np.ndarray]:
    """Mean over clips of the mean cross-entropy of the labels, each by itself; and its gradient.

    logits, targets : shape ``(clips, labels)``, targets from 0 to 1. Written as ``max(z, 0) - z t + log(1 +
    e^-|z|)``,
    which stays in range for any logit.
    """
    size = np.asarray(logits.size, dtype=logits.dtype)
    terms = np.maximum(logits, 0) - logits * targets + np.log1p(np.exp(-np.abs(logits)))
    return float(terms.sum(dtype=np.float64)) / logits.size, (sigmoid(logits) - targets) / size


def weighted_cross_entropy(logits: np.ndarray, wanted: np.ndarray, counts: np.ndarray) -> tuple[float, np.ndarray]:
    """Mean cross-entropy of outputs that are each by themselves and count differently; and its gradient.

    logits, wanted (from 0 to 1), counts : of the same shape.
    """
    terms = np.abs(logits)
    np.exp(np.negative(terms, out=terms), out=terms)
    np.log1p(terms, out=terms)
    terms += np.maximum(logits, 0)
    terms -= logits * wanted
    terms *= counts
    gradient = sigmoid(logits)
    gradient -= wanted
    gradient *= counts
    gradient /= np.asarray(logits.size, dtype=logits.dtype)
    return float(terms.sum(dtype=np.float64)) / logits.size, gradient


def sound_cross_entropy(logits: np.ndarray, inside: np.ndarray, labels: np.ndarray) -> tuple[float, np.ndarray]:
    """Mean cross-entropy of whole sounds, each of which has the mean logits of its steps; and its gradient.

    logits : ``(scenes, steps, labels)``; inside : share of each step in up to so many sounds of its scene, which sums
    to 1, or to 0 where there are fewer, ``(scenes, steps, sounds)``; labels : number of the label of each,
    ``(scenes, sounds)``.
    """
    there = inside.sum(axis=1) > 0.5
    count = max(int(there.sum()), 1)
    across = inside.swapaxes(1, 2)
    log_p = log_softmax(across @ logits)
    wanted = np.arange(logits.shape[-1]) == labels[..., None]
    loss = -float(log_p[wanted & there[..., None]].sum(dtype=np.float64)) / count
    back = (np.exp(log_p) - wanted) * (there[..., None] / np.asarray(count, dtype=logits.dtype))
    return loss, inside @ back.astype(logits.dtype)
