"""What every kind of classifier has in common: it scores windows of frames.

A family sees standardised frames, ``(frames, features)``, and gives logits for every window of `window` frames,
one each `step` frames. It also gives local logits, which look at `reach` frames only: they tell where inside
a window the sound is.
"""

from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np


@dataclass(frozen=True, kw_only=True)
class Cost:
    """What a family costs: numbers it keeps, and multiply-adds to score one window."""

    weights: int
    multiply_adds: int


class Family(Protocol):
    """A trained classifier of windows."""

    name: str
    window: int
    step: int
    reach: int

    def logits(self, frames: np.ndarray, extras: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
        """Return the logits of all windows, ``(windows, labels)``, and the local ones, ``(steps, labels)``.

        extras : what further columns of the table say, ``(extras,)``, for a family that looks at them.
        """

    def hidden(self, frames: np.ndarray, extras: np.ndarray | None = None) -> np.ndarray:
        """Return what is decided by, for all windows, ``(windows, features)``; like sounds are near each other."""

    def arrays(self) -> dict[str, np.ndarray]:
        """Return all that was learnt, by name."""

    def shape(self) -> dict[str, Any]:
        """Return what is needed to build the family again before its arrays are loaded."""

    def cost(self) -> Cost:
        """Say how large it is and how much work a window is."""
