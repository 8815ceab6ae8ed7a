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
OTHERS, EASE = 0.9, 0.05


@dataclass(frozen=True, kw_only=True, eq=False)
class Known:
    """Training clips as the family sees them.

    hidden : one row a clip, of length 1, float32 ``(clips, features)``; labels : which labels each has, boolean
    ``(clips, labels)``. usual : how alike clips that were not trained on are to those of their label, at the shares
    0, 0.05, ... 1 of them: float32 ``(labels, 21)``; others : how alike nine in ten clips of other labels are at
    most, ``(labels,)``.
    """

    hidden: np.ndarray
    labels: np.ndarray
    usual: np.ndarray
    others: np.ndarray

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

    def limits(self, share: float) -> np.ndarray:
        """How alike a sound must be to each label so that at most this share of its own sounds is lost,
        ``(labels,)``.

        A little less is asked for where there is room between the label's own sounds and those of other labels: few
        clips tell little about how far a label reaches.
        """
        own = np.array([np.interp(share, SHARES, row) for row in self.usual])
        return np.asarray(own - EASE * np.maximum(own - self.others, 0))

    def arrays(self) -> dict[str, np.ndarray]:
        """All of it, by name."""
        return {
            "hidden": self.hidden,
            "labels": self.labels.astype(np.uint8),
            "usual": self.usual,
            "others": self.others,
        }


def learn_known(train: np.ndarray, labels: np.ndarray, watched: np.ndarray, watched_labels: np.ndarray) -> Known:
    """Take what the family decides by for training clips, and see how alike other clips are to them.

    train, watched : ``(clips, features)``; labels, watched_labels : boolean ``(clips, labels)``, of `watched` only
    what was rightly said. A label with fewer than five of those takes the usual likeness of all labels together.
    """
    kept = np.unique(np.concatenate([_spread(np.flatnonzero(own)) for own in labels.T]))
    nothing = np.empty(0, dtype=np.float32)
    known = Known(hidden=_unit(train[kept]), labels=labels[kept], usual=nothing, others=nothing)
    alike = known.alike(watched)
    every, pairs = alike[watched_labels], list(zip(alike.T, watched_labels.T, strict=True))
    usual = [
        np.quantile(own if len(own) >= FEWEST else every if len(every) else np.zeros(1), SHARES)
        for own in (column[has] for column, has in pairs)
    ]
    others = [np.quantile(lack, OTHERS) if len(lack := column[~own]) else 0.0 for column, own in pairs]
    return replace(known, usual=np.asarray(usual, dtype=np.float32), others=np.asarray(others, dtype=np.float32))


def _spread(clips: np.ndarray) -> np.ndarray:
    """Take at most `MOST` of the clips, evenly over all of them: tables list one recorder after the other."""
    return clips if len(clips) <= MOST else clips[np.linspace(0, len(clips) - 1, MOST).astype(int)]


def _unit(rows: np.ndarray) -> np.ndarray:
    length = np.linalg.norm(rows, axis=1, keepdims=True)
    return np.asarray(rows / np.maximum(length, 1e-12), dtype=np.float32)
