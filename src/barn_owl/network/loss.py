"""Probabilities and losses from logits, numerically stable."""

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
    """Scores from 0 to 1, each label independent; same shape and type."""
    return np.asarray(0.5 * (1 + np.tanh(0.5 * logits)), dtype=logits.dtype)


def binary_cross_entropy(logits: np.ndarray, targets: np.ndarray) -> tuple[float, np.ndarray]:
    """Return the mean over clips of the mean binary cross-entropy of the labels, and its gradient.

    logits, targets : shape ``(clips, labels)``, targets from 0 to 1. Written as ``max(z, 0) - z t + log(1 +
    e^-|z|)``,
    which stays in range for any logit.
    """
    size = np.asarray(logits.size, dtype=logits.dtype)
    terms = np.maximum(logits, 0) - logits * targets + np.log1p(np.exp(-np.abs(logits)))
    return float(terms.sum(dtype=np.float64)) / logits.size, (sigmoid(logits) - targets) / size


def weighted_cross_entropy(logits: np.ndarray, wanted: np.ndarray, counts: np.ndarray) -> tuple[float, np.ndarray]:
    """Return the weighted mean binary cross-entropy of independent outputs, and its gradient.

    logits, wanted (targets from 0 to 1), counts (loss weights) : of the same shape.
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


def attention_pool(logits: np.ndarray, attention: np.ndarray, inside: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Mean logits of stretches of steps, each step weighted by the exponential of its attention.

    logits : ``(clips, steps, labels)``; attention : ``(clips, steps)``; inside : 1 for each step of a stretch, 0
    elsewhere, ``(clips, steps, stretches)``. Returns the means, ``(clips, stretches, labels)``, and the weights,
    ``(clips, stretches, steps)``, which sum to 1 over the steps of a stretch; both are 0 for a stretch without steps.
    """
    masked = np.where(inside > 0, attention[..., None], np.float32(-np.inf)).swapaxes(1, 2)
    highest = masked.max(axis=-1, keepdims=True)
    weights = np.exp(masked - np.where(np.isfinite(highest), highest, 0))
    weights /= np.maximum(weights.sum(axis=-1, keepdims=True), np.float32(1e-30))
    return weights @ logits, weights


def stretch_cross_entropy(
    logits: np.ndarray,
    attention: np.ndarray,
    inside: np.ndarray,
    wanted: np.ndarray,
    counts: np.ndarray,
    *,
    multilabel: bool,
) -> tuple[float, np.ndarray, np.ndarray]:
    """Mean cross-entropy of stretches of steps, each named by its `attention_pool` logits; and its gradients.

    wanted : what each stretch is, ``(clips, stretches, labels)``; each row sums to 1, or, where labels are scored by
    themselves (`multilabel`), a target from 0 to 1 for each. counts : loss weight of each stretch, ``(clips,
    stretches)``; stretches without steps are ignored. Returns the loss and its gradients with respect to logits and
    attention, in their shapes.
    """
    pooled, weights = attention_pool(logits, attention, inside)
    counts = counts * inside.any(axis=1)
    counts = counts / np.maximum(counts.sum(), np.asarray(1e-30, dtype=logits.dtype))
    if multilabel:
        terms = np.maximum(pooled, 0) - pooled * wanted + np.log1p(np.exp(-np.abs(pooled)))
        loss, back = float((counts * terms.sum(axis=-1)).sum(dtype=np.float64)), sigmoid(pooled) - wanted
    else:
        log_p = log_softmax(pooled)
        loss = -float((counts * (wanted * log_p).sum(axis=-1)).sum(dtype=np.float64))
        back = np.exp(log_p) - wanted
    back *= counts[..., None]
    # With p the weights of a stretch, s its pooled logits: ds/dlogits = p, and ds/dattention = p (logits - s).
    across = weights.swapaxes(1, 2)
    towards = logits @ back.swapaxes(1, 2) - (pooled * back).sum(axis=-1)[:, None]
    return loss, across @ back, (across * towards).sum(axis=-1)


def step_cross_entropy(
    logits: np.ndarray, inside: np.ndarray, wanted: np.ndarray, weights: np.ndarray, *, multilabel: bool
) -> tuple[float, np.ndarray]:
    """Mean cross-entropy of the steps of segments, the same for short and long segments; and its gradient.

    logits : ``(clips, steps, labels)``. inside, wanted : see `stretch_cross_entropy`; each step of a segment has
    its labels. weights : loss weight of each segment, ``(clips, segments)``. Returns the loss and its gradient with
    respect to the logits.
    """
    weights = weights * inside.any(axis=1)
    weights = weights / np.maximum(weights.sum(), np.asarray(1e-30, dtype=logits.dtype))
    shares = inside / np.maximum(inside.sum(axis=1, keepdims=True), 1) * weights[:, None]
    targets, total = shares @ wanted, shares.sum(axis=-1)[..., None]
    if multilabel:
        terms = total * (np.maximum(logits, 0) + np.log1p(np.exp(-np.abs(logits)))) - logits * targets
        return float(terms.sum(dtype=np.float64)), total * sigmoid(logits) - targets
    log_p = log_softmax(logits)
    return -float((targets * log_p).sum(dtype=np.float64)), total * np.exp(log_p) - targets
