"""What every kind of classifier has in common: it scores windows of frames.

A family sees standardised frames, ``(frames, features)``, and gives logits for every window of `window` frames,
one each `step` frames. It also gives local logits, which look at `reach` frames only: they tell where inside
a window the sound is.
"""

from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol

import numpy as np


@dataclass(frozen=True, kw_only=True)
class Cost:
    """What a family costs: numbers it keeps, and multiply-adds to score one window."""

    weights: int
    multiply_adds: int


class Judged(NamedTuple):
    """Logits of all windows, ``(windows, labels)``, and local ones, ``(steps, labels)``; and what these are decided
    by.

    That is what the last layer, or the classifier of rows, is given for each window: ``(windows, features)``.
    """

    windows: np.ndarray
    local: np.ndarray
    hidden: np.ndarray


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

    def judge(self, frames: np.ndarray, extras: np.ndarray | None = None) -> "Judged":
        """Return logits as above, and what they are decided by: in it like sounds are near each other."""

    def arrays(self) -> dict[str, np.ndarray]:
        """Return all that was learnt, by name."""

    def shape(self) -> dict[str, Any]:
        """Return what is needed to build the family again before its arrays are loaded."""

    def cost(self) -> Cost:
        """Say how large it is and how much work a window is."""
