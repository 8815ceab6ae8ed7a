"""What a model has heard: how much a sound is like the training clips of a label, whatever its score.

A classifier divides all sounds among its labels, also those it was never taught. A sound that is none of them often
gets a high score all the same, but lies elsewhere in what the family decides by (Sun et al., ICML 2022, use the
distance to the nearest training examples there).
"""

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

NEAREST = 3
MOST = 300
"""Clips of a label that are kept: more would make files large and tell little more."""
SHARES = np.linspace(0, 1, 21)
FEWEST = 5
OWN = 0.5
"""How far a label's limit follows how near its own training clips are to each other; 0 would be one limit for all."""
ENOUGH = 0.97
"""More likeness than this is not asked for: clips that are all of one place say nothing about how others differ."""
ANY = -50.0
"""Nearness that everything has."""


@dataclass(frozen=True, kw_only=True, eq=False)
class Known:
    """Training clips as the family sees them.

    hidden : one row a clip, of length 1, float32 ``(clips, features)``; labels : which labels each has, boolean
    ``(clips, labels)``. usual : how near clips that were not trained on are to those of their label where they are
    nearest, over half of how near these are to each other, at the shares 0, 0.05, ... 1 of them: float32 ``(21,)``.
    """

    hidden: np.ndarray
    labels: np.ndarray
    usual: np.ndarray

    def alike(self, hidden: np.ndarray) -> np.ndarray:
        """Mean cosine to the three nearest clips of each label: float32 ``(rows, labels)``, 1 for the same."""
        if not len(hidden):
            return np.empty((0, self.labels.shape[1]), dtype=np.float32)
        unit, columns = _unit(hidden), []
        for own in self._by_label:
            count = min(NEAREST, own.shape[1])
            near = (
                np.partition(unit @ own, own.shape[1] - count, axis=1)[:, -count:]
                if count
                else np.ones((len(unit), 1))
            )
            columns.append(near.mean(axis=1))
        return np.stack(columns, axis=1).astype(np.float32)

    @cached_property
    def _by_label(self) -> list[np.ndarray]:
        """The clips of each label, ``(features, clips)``."""
        return [np.ascontiguousarray(self.hidden[own].T) for own in self.labels.T]

    @cached_property
    def reach(self) -> np.ndarray:
        """How near the training clips of a label are to the nearest others of it, in the median, ``(labels,)``."""
        found = np.full(len(self._by_label), np.nan)
        for number, own in enumerate(self._by_label):
            count = min(NEAREST, own.shape[1] - 1)
            if count > 0:
                each = own.T @ own
                np.fill_diagonal(each, -1)
                near = np.partition(each, -count, axis=1)[:, -count:].mean(axis=1)
                found[number] = np.median(nearness(near))
        every = np.median(found[np.isfinite(found)]) if np.isfinite(found).any() else 0.0
        return np.where(np.isfinite(found), found, every)

    def limits(self, share: float) -> np.ndarray:
        """How alike a sound must be to each label so that about this share of true sounds is lost, ``(labels,)``.

        More is asked of a label whose training clips are near each other, but only half as much more: what a label
        sounds like varies with the recorder too, and that is much the same for all.
        """
        near = OWN * self.reach + np.interp(share, SHARES, self.usual)
        return np.minimum(1 - np.exp(-near), ENOUGH)

    def measured(self, alike: np.ndarray, right: np.ndarray) -> "Known":
        """Return this with what is usual; with fewer than five clips to go by, anything is.

        alike : how alike clips that were not trained on are to each label at most, ``(clips, labels)``; right : which
        of them were rightly said to be it, boolean.
        """
        over = (nearness(alike) - OWN * self.reach)[right]
        usual = np.quantile(over, SHARES) if len(over) >= FEWEST else np.full(len(SHARES), ANY)
        return replace(self, usual=usual.astype(np.float32))

    def arrays(self) -> dict[str, np.ndarray]:
        """All of it, by name."""
        return {"hidden": self.hidden, "labels": self.labels.astype(np.uint8), "usual": self.usual}


def nearness(alike: np.ndarray) -> np.ndarray:
    """``-log(1 - alike)``: a scale on which 0.9 and 0.99 are as far apart as 0.99 and 0.999."""
    return np.asarray(-np.log(np.maximum(1 - alike, 1e-6)))


def heard(train: np.ndarray, labels: np.ndarray) -> Known:
    """Take what the family decides by for training clips, ``(clips, features)``, and which labels each has.

    labels : boolean ``(clips, labels)``. What is usual is not known yet: anything is; see `Known.measured`.
    """
    kept = np.unique(np.concatenate([_spread(np.flatnonzero(own)) for own in labels.T]))
    usual = np.full(len(SHARES), ANY, dtype=np.float32)
    return Known(hidden=_unit(train[kept]), labels=labels[kept], usual=usual)


def _spread(clips: np.ndarray) -> np.ndarray:
    """Take at most `MOST` of the clips, evenly over all of them: tables list one recorder after the other."""
    return clips if len(clips) <= MOST else clips[np.linspace(0, len(clips) - 1, MOST).astype(int)]


def _unit(rows: np.ndarray) -> np.ndarray:
    length = np.linalg.norm(rows, axis=1, keepdims=True)
    return np.asarray(rows / np.maximum(length, 1e-12), dtype=np.float32)
