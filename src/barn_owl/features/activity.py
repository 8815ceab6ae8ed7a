"""Where in a clip something happens."""

import numpy as np
import scipy

QUIET_SHARE = 0.2
MARGIN_DB = 6.0
"""Noise that is steady on the whole still goes up and down by this much."""
SMOOTH_FRAMES = 5
LEAST_DB = 0.05
"""Mean activity of a window under which nothing stands out; that of steady noise is 0.001."""


def activity(frames: np.ndarray, margin_db: float = MARGIN_DB) -> np.ndarray:
    """How far each frame stands out of the quiet of its own clip, in dB, mean over the bands.

    frames : log-mel in dB, shape ``(frames, bands)``. The quiet is each band's level that a fifth of the
    frames stay under, and a margin that steady noise does not cross, so a hum or hiss does not count, at whatever
    level it was recorded; levels are means of five frames. Returns float32, shape ``(frames,)``, at least 0.
    """
    smooth = scipy.ndimage.uniform_filter1d(frames, SMOOTH_FRAMES, axis=0, mode="nearest")
    quiet = np.quantile(smooth, QUIET_SHARE, axis=0).astype(np.float32)
    return np.asarray(np.maximum(smooth - quiet - np.float32(margin_db), 0).mean(axis=1, dtype=np.float32))


def window_activity(frames: np.ndarray, window: int, step: int = 1) -> np.ndarray:
    """Sum of `activity` in each window of `window` frames, every `step` frames; float64, ``(windows,)``."""
    total = np.concatenate([[0.0], np.cumsum(activity(frames), dtype=np.float64)])
    return (total[window:] - total[:-window])[::step]


def lively(weights: np.ndarray, window: int, share: float = 0.6) -> np.ndarray:
    """Tell which windows of `window` frames hold at least `share` of the activity of the liveliest one; boolean.

    weights : what `window_activity` gave. Where nothing stands out, such as in steady noise, all of them count.
    """
    most = weights.max()
    return np.asarray(weights >= (share * most if most > LEAST_DB * window else 0))
