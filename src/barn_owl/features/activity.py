"""Where in a clip something happens."""

import numpy as np

QUIET_SHARE = 0.2


def activity(frames: np.ndarray) -> np.ndarray:
    """How far each frame stands out of the quiet of its own clip, in dB, mean over the bands.

    frames : log-mel in dB, shape ``(frames, bands)``. The quiet is each band's level that a fifth of the
    frames stay under, so a steady hum or hiss does not count, at whatever level it was recorded.
    Returns float32, shape ``(frames,)``, at least 0.
    """
    quiet = np.quantile(frames, QUIET_SHARE, axis=0).astype(np.float32)
    return np.asarray(np.maximum(frames - quiet, 0).mean(axis=1, dtype=np.float32))


def window_activity(frames: np.ndarray, window: int, step: int = 1) -> np.ndarray:
    """Sum of `activity` in each window of `window` frames, every `step` frames; float64, ``(windows,)``."""
    total = np.concatenate([[0.0], np.cumsum(activity(frames), dtype=np.float64)])
    return (total[window:] - total[:-window])[::step]


def lively(weights: np.ndarray, share: float = 0.6) -> np.ndarray:
    """Tell which windows hold at least `share` of the activity of the liveliest one; boolean, same shape."""
    return np.asarray(weights >= share * weights.max())
