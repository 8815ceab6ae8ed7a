"""Targets of mixtures: activity and onsets of each step, and the labels of segments."""

from collections.abc import Sequence
from dataclasses import dataclass, fields

import numpy as np


@dataclass(frozen=True)
class FrameTargets:
    """Targets of a batch of mixtures, and their loss weights.

    scores : wanted activity, then wanted onsets, ``(mixtures, steps, 2 * tracks)``, 0 to 1.
    weights : their loss weights, in the same shape.
    inside : 1 for each step of a segment, ``(mixtures, steps, segments)``.
    labels : wanted probabilities of the labels and of none of them, ``(mixtures, segments, labels + 1)``.
    """

    scores: np.ndarray
    weights: np.ndarray
    inside: np.ndarray
    labels: np.ndarray

    def __len__(self) -> int:
        return len(self.scores)

    def __getitem__(self, rows: slice) -> "FrameTargets":
        return FrameTargets(*(array[rows] for array in self._arrays()))

    def _arrays(self) -> list[np.ndarray]:
        return [getattr(self, field.name) for field in fields(self)]

    @classmethod
    def concatenate(cls, parts: Sequence["FrameTargets"]) -> "FrameTargets":
        """Return the targets of several batches as one batch."""
        return cls(*(np.concatenate(arrays) for arrays in zip(*(part._arrays() for part in parts), strict=True)))
