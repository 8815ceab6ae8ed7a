"""Exemplars: log-mel examples of each label, kept to train on new labels without forgetting."""

from dataclasses import dataclass

import numpy as np

STEP_DB = 0.75
"""Levels are kept in so large steps: far finer than two takes of a sound differ."""


@dataclass(frozen=True, eq=False)
class Exemplar:
    """A sound of a label: log-mel in dB, ``(frames, bands)``. Of several labels at once: ``bell|gull``.

    held_out : it is from the test split, and no training uses it: it shows whether a label is forgotten.
    """

    label: str
    frames: np.ndarray
    held_out: bool = False


def packed(frames: np.ndarray, floor_db: float) -> np.ndarray:
    """Levels as bytes above the floor."""
    return np.clip(np.round((frames - floor_db) / STEP_DB), 0, 255).astype(np.uint8)


def unpacked(levels: np.ndarray, floor_db: float, width: int) -> np.ndarray:
    """Return levels in dB; raises ValueError when they are not from `packed`."""
    if levels.dtype != np.uint8 or levels.ndim != 2 or levels.shape[1] != width or not len(levels):
        raise ValueError(f"exemplars are bytes of shape (frames, {width}), got {levels.dtype} {levels.shape}")
    return (levels * np.float32(STEP_DB) + np.float32(floor_db)).astype(np.float32)
