"""The nearest classifier: votes of the nearest training rows."""

from collections.abc import Iterator

import numpy as np
from pydantic import Field

from barn_owl.classifiers.row_classifiers import Candidate, RowTask, only, rows_kind, squared_distances
from barn_owl.settings import Settings


class NearestSettings(Settings):
    """Nearest neighbors among the pooled training windows."""

    neighbors: int | None = Field(default=None, ge=1, le=1000)
    """Number of neighbors. Default: the best of several on the validation clips."""


DOUBT = 0.5
"""Prior weight, half for and half against each label: a single near row is no certainty."""


ROWS_PER_BLOCK = 512
"""Rows whose distances are computed at once: some megabytes."""


class Nearest:
    """Share of each label among the nearest training rows, weighted by similarity.

    rows : ``(n, features)``; votes : ``(n, labels)``, 1 for each label that a row has. A neighbor at
    distance d counts ``1 / (d + s)``, s the mean distance of the neighbors.
    """

    def __init__(self, rows: np.ndarray, votes: np.ndarray, neighbors: int) -> None:
        if rows.ndim != 2 or votes.ndim != 2 or len(rows) != len(votes) or not 1 <= neighbors <= len(rows):
            raise ValueError(f"{neighbors} neighbors of rows {rows.shape} with votes {votes.shape} cannot be")
        self.rows, self.votes, self.neighbors = rows, votes, neighbors

    def nearest(self, rows: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray]:
        """Numbers and distances of the `count` nearest training rows, the nearest first; each ``(rows, count)``."""
        squares = squared_distances(rows, self.rows)
        near = np.argpartition(squares, count - 1, axis=1)[:, :count]
        found = np.take_along_axis(squares, near, axis=1)
        order = np.argsort(found, axis=1, kind="stable")
        distances = np.sqrt(np.take_along_axis(found, order, axis=1))
        return np.take_along_axis(near, order, axis=1), distances

    def logits(self, rows: np.ndarray) -> np.ndarray:
        """Return logits of the shares; see `RowClassifier`."""
        parts = [rows[at : at + ROWS_PER_BLOCK] for at in range(0, len(rows), ROWS_PER_BLOCK)]
        found = [self.nearest(part, self.neighbors) for part in parts]
        return np.concatenate([self.logits_of(*one) for one in found])

    def logits_of(self, near: np.ndarray, distances: np.ndarray) -> np.ndarray:
        """Logits from the neighbors' numbers and distances."""
        weight = 1 / (distances + distances.mean(axis=1, keepdims=True) + 1e-6)
        weight *= near.shape[1] / weight.sum(axis=1, keepdims=True)
        votes = np.einsum("rn,rnl->rl", weight, self.votes[near])
        shares = (votes + DOUBT / 2) / (near.shape[1] + DOUBT)
        return np.asarray(np.log(shares / np.maximum(1 - shares, 1e-3)), dtype=np.float32)

    def state(self) -> dict[str, np.ndarray]:
        """Return the training rows, their votes, and how many neighbors are requested."""
        return {"rows": self.rows, "votes": self.votes, "neighbors": np.array([self.neighbors], dtype=np.int64)}

    def multiply_adds(self) -> int:
        """Return the number of features of all training rows."""
        return self.rows.size


NEIGHBORS = (1, 3, 5, 9, 15, 25)
"""Odd, so that two labels are never even."""


def candidates(task: RowTask, settings: NearestSettings) -> Iterator[Candidate]:
    """Yield a candidate for each number of neighbors; neighbors are searched once."""
    counts: tuple[int, ...] = NEIGHBORS if settings.neighbors is None else (settings.neighbors,)
    counts = tuple(sorted({min(count, len(task.rows)) for count in counts}))
    whole = Nearest(task.rows, task.targets, counts[-1])
    near, distances = whole.nearest(task.watched, counts[-1])
    for count in counts:
        made = Nearest(task.rows, task.targets, count)
        watched = made.logits_of(near[:, :count], distances[:, :count])
        # Each training row is its nearest neighbor, so a training loss would be meaningless.
        yield Candidate.made(made, float("nan"), watched)


KIND = rows_kind(
    "nearest",
    settings=NearestSettings,
    candidates=candidates,
    rebuild=lambda arrays: Nearest(arrays["rows"], arrays["votes"], only(arrays["neighbors"], int)),
)
