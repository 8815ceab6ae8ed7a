"""The classifier of the trees family: sums of trees of decisions."""

import numpy as np


class Trees:
    """Sums of trees, all of one depth: at each node a feature is compared with a cut, ``<=`` to the left.

    features, cuts : ``(rounds, labels, 2^depth - 1)``, the nodes of a tree level by level; leaves : ``(rounds,
    labels, 2^depth)``; start : ``(labels,)``.
    """

    def __init__(self, features: np.ndarray, cuts: np.ndarray, leaves: np.ndarray, start: np.ndarray) -> None:
        nodes = features.shape[-1] if features.ndim == 3 else 0
        if not nodes or nodes & (nodes + 1) or cuts.shape != features.shape:
            raise ValueError(
                f"trees have {features.shape} nodes and {cuts.shape} cuts, which is none of their shapes"
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

    def arrays(self) -> dict[str, np.ndarray]:
        """Return all that was learnt."""
        return {"features": self.features, "cuts": self.cuts, "leaves": self.leaves, "start": self.start}

    def multiply_adds(self) -> int:
        """One step a level of each tree."""
        return int(self.features.shape[0] * self.features.shape[1] * self._depth)
