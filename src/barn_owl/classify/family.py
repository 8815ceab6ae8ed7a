"""What every kind of classifier has in common: it scores windows of frames.

A family sees standardised frames, ``(frames, bands)``, and gives logits for every window of `window` frames,
one each `step` frames. It also gives local logits, which look at `reach` frames only: they tell where inside
a window the sound is.
"""

from typing import Any, Protocol

import numpy as np


class Family(Protocol):
    """A trained classifier of windows."""

    name: str
    window: int
    step: int
    reach: int

    def logits(self, frames: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return the logits of all windows, ``(windows, labels)``, and the local ones, ``(steps, labels)``."""

    def arrays(self) -> dict[str, np.ndarray]:
        """Return all that was learnt, by name."""

    def shape(self) -> dict[str, Any]:
        """Return what is needed to build the family again before its arrays are loaded."""
