"""From frames to one row: statistics over time."""

import numpy as np


def pool(frames: np.ndarray) -> np.ndarray:
    """Mean and standard deviation over time.

    frames : shape ``(..., frames, features)``. Returns float32, shape ``(..., 2 * features)``: all means,
    then all deviations. Sums are kept in float64.
    """
    mean = frames.mean(axis=-2, dtype=np.float64)
    deviation = frames.std(axis=-2, dtype=np.float64)
    return np.concatenate([mean, deviation], axis=-1).astype(np.float32)
