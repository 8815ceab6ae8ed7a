"""The trees classifier: gradient-boosted trees on binned features."""

from collections.abc import Iterator
from functools import partial

import numpy as np
from pydantic import Field

from barn_owl.classifiers.row_classifiers import Candidate, RowTask, logits_of_shares, rows_kind
from barn_owl.network import binary_cross_entropy, sigmoid
from barn_owl.settings import Settings


class TreesSettings(Settings):
    """Gradient-boosted trees on pooled features, cut at quantiles."""

    rounds: int = Field(default=200, ge=1, le=10_000)
    """Maximum number of boosting rounds."""
    depth: int = Field(default=3, ge=1, le=8)
    """Depth of each tree."""
    learning_rate: float = Field(default=0.1, gt=0, le=1)
    """Learning rate (shrinkage)."""
    feature_share: float = Field(default=0.2, gt=0, le=1)
    """Share of the features that each round considers."""
    window_share: float = Field(default=0.7, gt=0, le=1)
    """Share of the windows that each round uses."""
    penalty: float = Field(default=1.0, ge=0)
    """L2 penalty of leaf values."""
    patience: int = Field(default=30, ge=1)
    """Rounds without improvement after which boosting stops."""


class Trees:
    """Sums of trees of equal depth: each node compares a feature with a cut, ``<=`` to the left.

    features, cuts : ``(rounds, labels, 2^depth - 1)``, the nodes of a tree level by level; leaves : ``(rounds,
    labels, 2^depth)``; start : ``(labels,)``.
    """

    def __init__(self, features: np.ndarray, cuts: np.ndarray, leaves: np.ndarray, start: np.ndarray) -> None:
        nodes = features.shape[-1] if features.ndim == 3 else 0
        if not nodes or nodes & (nodes + 1) or cuts.shape != features.shape:
            raise ValueError(
                f"trees have {features.shape} nodes and {cuts.shape} splits, which does not match their shapes"
            )
        if leaves.shape != (*features.shape[:2], nodes + 1) or start.shape != features.shape[1:2]:
            raise ValueError(f"trees have leaves of shape {leaves.shape} and begin with {start.shape}")
        if features.dtype.kind not in "iu" or features.min(initial=0) < 0:
            raise ValueError("trees look at features by their number from 0 on")
        self.features, self.cuts, self.leaves, self.start = features, cuts, leaves, start
        self._depth = int(np.log2(leaves.shape[-1]))

    def logits(self, rows: np.ndarray) -> np.ndarray:
        """Return the logits; see `RowClassifier`."""
        nodes = self.features.shape[-1]
        features, cuts = self.features.reshape(-1, nodes), self.cuts.reshape(-1, nodes)
        trees = np.arange(len(features))
        node = np.zeros((len(rows), len(features)), dtype=np.intp)
        for _ in range(self._depth):
            met = np.take_along_axis(rows, features[trees, node], axis=1)
            node = 2 * node + 1 + (met > cuts[trees, node])
        reached = self.leaves.reshape(-1, nodes + 1)[trees, node - nodes]
        summed = reached.reshape(len(rows), *self.leaves.shape[:2]).sum(axis=1, dtype=np.float64)
        return (summed + self.start).astype(np.float32)

    def state(self) -> dict[str, np.ndarray]:
        """Return all that was learned."""
        return {"features": self.features, "cuts": self.cuts, "leaves": self.leaves, "start": self.start}

    def multiply_adds(self) -> int:
        """Return the number of comparisons: the depth of each tree."""
        return int(self.features.shape[0] * self.features.shape[1] * self._depth)


STEPS = 32
"""Number of bins per feature, at its quantiles."""
MIN_FEATURES = 6
"""Features that a round sees at least, where there are this many."""
MIN_WEIGHT = 0.5
"""Curvature (about: undecided rows) that each side of a cut needs at least."""


def candidates(task: RowTask, settings: TreesSettings) -> Iterator[Candidate]:
    """Yield a candidate after each round: a tree per label, fitted to the gradient of the loss.

    Friedman, "Greedy Function Approximation", Annals of Statistics 2001, with Newton steps in the leaves; each round
    sees a drawn part of the rows (Friedman, "Stochastic Gradient Boosting", 2002) and of the features.
    """
    edges = [np.unique(np.quantile(column, np.arange(1, STEPS) / STEPS)) for column in task.rows.T]
    codes, watched_codes = _codes(task.rows, edges), _codes(task.watched, edges)
    weights = (task.weights / task.weights.mean())[:, None]
    shares = (weights * task.targets).mean(axis=0).clip(1e-3, 1 - 1e-3)
    start = logits_of_shares(shares)
    logits = np.tile(start, (len(codes), 1)).astype(np.float64)
    watched = np.tile(start, (len(watched_codes), 1)).astype(np.float64)
    grown: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = []
    shared = max(min(MIN_FEATURES, codes.shape[1]), round(settings.feature_share * codes.shape[1]))
    for _ in range(settings.rounds):
        p = sigmoid(logits)
        gradient, curvature = weights * (p - task.targets), weights * np.maximum(p * (1 - p), 1e-4)
        rows = np.sort(task.rng.permutation(len(codes))[: max(2, round(settings.window_share * len(codes)))])
        columns = task.rng.permutation(codes.shape[1])[:shared]
        tree = _grow(codes[rows][:, columns], gradient[rows], curvature[rows], settings)
        features, steps, leaves = columns[tree[0]], tree[1], tree[2] * settings.learning_rate
        grown.append((features, _cuts(features, steps, edges), leaves))
        logits += _reached(codes, features, steps, leaves)
        watched += _reached(watched_codes, features, steps, leaves)
        loss = binary_cross_entropy(logits, task.targets)[0]
        yield Candidate(partial(_stacked, tuple(grown), start), loss, watched.astype(np.float32))


def _stacked(grown: tuple[tuple[np.ndarray, ...], ...], start: np.ndarray) -> Trees:
    features, cuts, leaves = (np.stack(parts) for parts in zip(*grown, strict=True))
    return Trees(features.astype(np.int32), cuts.astype(np.float32), leaves.astype(np.float32), start)


def _codes(rows: np.ndarray, edges: list[np.ndarray]) -> np.ndarray:
    """Step of each feature that each row is on: ``value <= edges[step]``; uint8, ``(rows, features)``."""
    codes = np.empty(rows.shape, dtype=np.uint8)
    for feature, own in enumerate(edges):
        codes[:, feature] = np.searchsorted(own.astype(np.float32), rows[:, feature], side="left")
    return codes


def _cuts(features: np.ndarray, steps: np.ndarray, edges: list[np.ndarray]) -> np.ndarray:
    """Values that the cuts at `steps` stand for; a node that is not cut sends everything to the left."""
    cuts = np.full(features.shape, np.inf, dtype=np.float32)
    for at in np.ndindex(features.shape):
        if steps[at] < len(edges[features[at]]):
            cuts[at] = edges[features[at]][steps[at]]
    return cuts


def _reached(codes: np.ndarray, features: np.ndarray, steps: np.ndarray, leaves: np.ndarray) -> np.ndarray:
    """Return the leaf values of rows in a tree per label; ``(rows, labels)``."""
    labels, nodes = features.shape
    every = np.arange(labels)
    node = np.zeros((len(codes), labels), dtype=np.intp)
    for _ in range(int(np.log2(nodes + 1))):
        node = 2 * node + 1 + (np.take_along_axis(codes, features[every, node], axis=1) > steps[every, node])
    return leaves[every, node - nodes]


def _grow(
    codes: np.ndarray, gradient: np.ndarray, curvature: np.ndarray, settings: TreesSettings
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Grow a tree per label, all labels at once, level by level.

    Returns the features and steps of the nodes, ``(labels, 2^depth - 1)``, and the leaves, ``(labels, 2^depth)``.
    """
    rows, labels = gradient.shape
    features, steps = [], []
    every = np.arange(labels)
    place = np.zeros((rows, labels), dtype=np.intp)
    gradient32, curvature32 = np.ascontiguousarray(gradient.T), np.ascontiguousarray(curvature.T)
    for level in range(settings.depth):
        g, h = _histograms(codes, place, 2**level, gradient32, curvature32)
        feature, step = _best_cuts(g, h, settings.penalty)
        features.append(feature)
        steps.append(step)
        met = np.take_along_axis(codes, feature[every, place], axis=1)
        place = 2 * place + (met > step[every, place])
    flat = (place + every * 2**settings.depth).ravel()
    size = labels * 2**settings.depth
    g_leaf = np.bincount(flat, gradient.ravel(), size).reshape(labels, -1)
    h_leaf = np.bincount(flat, curvature.ravel(), size).reshape(labels, -1)
    leaves = -g_leaf / (h_leaf + settings.penalty)
    return np.concatenate(features, axis=1), np.concatenate(steps, axis=1), leaves


def _histograms(
    codes: np.ndarray, place: np.ndarray, nodes: int, gradient: np.ndarray, curvature: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Sums of gradient and curvature by label, node, feature and step."""
    features = codes.shape[1]
    own = codes + np.arange(features) * STEPS
    size = nodes * features * STEPS
    sums = np.empty((2, len(gradient), size))
    for label in range(len(gradient)):
        index = (own + place[:, label, None] * (features * STEPS)).ravel()
        for number, values in enumerate((gradient[label], curvature[label])):
            sums[number, label] = np.bincount(index, np.repeat(values, features), size)
    return tuple(sums.reshape(2, len(gradient), nodes, features, STEPS))


def _best_cuts(g: np.ndarray, h: np.ndarray, penalty: float) -> tuple[np.ndarray, np.ndarray]:
    """Feature and step of the best cut of each node, ``(labels, nodes)``; step STEPS where none is worth it."""
    left_g, left_h = np.cumsum(g, axis=-1), np.cumsum(h, axis=-1)
    all_g, all_h = left_g[..., -1:], left_h[..., -1:]
    right_g, right_h = all_g - left_g, all_h - left_h
    gain = left_g**2 / (left_h + penalty + 1e-9) + right_g**2 / (right_h + penalty + 1e-9)
    gain -= all_g**2 / (all_h + penalty + 1e-9)
    gain[(left_h < MIN_WEIGHT) | (right_h < MIN_WEIGHT)] = 0
    flat = gain.reshape(*gain.shape[:2], -1)
    best = flat.argmax(axis=-1)
    is_worth = np.take_along_axis(flat, best[..., None], axis=-1)[..., 0] > 1e-9
    return best // STEPS, np.where(is_worth, best % STEPS, STEPS)


def _rebuild(arrays: dict[str, np.ndarray]) -> Trees:
    made = Trees(arrays["features"], arrays["cuts"], arrays["leaves"], arrays["start"])
    if made.features.max(initial=0) >= len(arrays["center"]):
        raise ValueError(f"a tree looks at feature {made.features.max()} of {len(arrays['center'])}")
    return made


KIND = rows_kind(
    "trees",
    settings=TreesSettings,
    candidates=candidates,
    rebuild=_rebuild,
    stops=lambda settings: (settings.patience, settings.rounds),
)
