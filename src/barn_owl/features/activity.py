"""Active frames of a clip."""

import numpy as np
import scipy

from barn_owl.arrays import power_of, quantile

QUIET_SHARE = 0.2
MARGIN_DB = 6.0
"""Level above the quiet that steady noise reaches by chance."""
SMOOTH_S = 0.08
STANDS_OUT_DB = 1.0
"""Activity that steady noise never has."""
FAINT = 0.1
"""Share of the largest activity of a clip that counts as quiet."""
QUIET_S = 0.24
"""Length above which loud, steady sound counts as background."""
NO_QUIET_DB, QUIETER_DB, SHORT_S = 15.0, 50.0, 0.8
"""See `clip_background`."""
TAIL_DB, ATTACK_DB = 30.0, 20.0
"""Levels below the loudest frame, down to which a frame is active, and down to which a frame may be the onset."""


def frames_in(seconds: float, hop_s: float) -> int:
    """Count the frames that begin within a time, at least 1."""
    return max(1, round(seconds / hop_s))


def activity(frames: np.ndarray, hop_s: float, margin_db: float = MARGIN_DB) -> np.ndarray:
    """Return the level of each frame above the quiet of its clip, in dB, mean over bands.

    frames : log-mel in dB, shape ``(frames, bands)``, `hop_s` seconds apart. Levels are means over 0.08 s, and count
    from `margin_db` above the `quiet_level` of their band, so that steady hum and hiss are not active. Returns
    float32, shape ``(frames,)``, at least 0.
    """
    smooth = scipy.ndimage.uniform_filter1d(frames, frames_in(SMOOTH_S, hop_s), axis=0, mode="nearest")
    quiet = quiet_level(smooth)
    return np.asarray(np.maximum(smooth - quiet - np.float32(margin_db), 0).mean(axis=1, dtype=np.float32))


def quiet_level(frames: np.ndarray) -> np.ndarray:
    """Level in dB that each band of a clip keeps under for a fifth of the time; float32, ``(bands,)``."""
    return quantile(frames, QUIET_SHARE).astype(np.float32)


def sounding(levels: np.ndarray, hop_s: float) -> np.ndarray:
    """Return the active frames of a clip; boolean, ``(frames,)``.

    levels : log-mel in dB, ``(frames, bands)``, `hop_s` seconds apart. Active frames are within 30 dB of the
    loudest and stand out of the quiet of the clip. Where no frame stands out, as in steady noise, or quiet is rare,
    as in a clip that is cut close, all frames within 30 dB are active.
    """
    loud, stands_out = is_active(levels), activity(levels, hop_s)
    active = loud & (stands_out > FAINT * stands_out.max())
    has_quiet = (loud & ~active).sum() >= frames_in(QUIET_S, hop_s)
    return active if has_quiet and stands_out.max() >= STANDS_OUT_DB else loud


def is_active(levels: np.ndarray) -> np.ndarray:
    """Return which frames are within 30 dB of the loudest; boolean, ``(frames,)``."""
    total = total_db(levels)
    return np.asarray(total >= total.max() - TAIL_DB)


def clip_background(levels: np.ndarray, hop_s: float, floor_db: float) -> np.ndarray:
    """Return the level around a clip, given as levels `hop_s` seconds apart: its quiet; dB, ``(bands,)``.

    A short clip with a quiet hardly below its loudest moment is cut close, and is surrounded by a much lower level. A
    longer clip is steady, and continues.
    """
    quiet = quiet_level(levels)
    above = float(total_db(levels).max() - total_db(quiet[None])[0])
    if above < NO_QUIET_DB and len(levels) <= frames_in(SHORT_S, hop_s):
        quiet = np.maximum(quiet - np.float32(QUIETER_DB - above), np.float32(floor_db))
    return quiet


def total_db(levels: np.ndarray) -> np.ndarray:
    """Level in dB of all bands of a frame together, ``(frames,)``."""
    return np.asarray(10 * np.log10(power_of(levels).sum(axis=1, dtype=np.float64)), dtype=np.float32)


def onset_frame(levels: np.ndarray, active: np.ndarray) -> int:
    """Onset of a sound: the first active frame within 20 dB of its loudest."""
    total = np.where(active, total_db(levels), -np.inf)
    return int(np.argmax(total >= total.max() - ATTACK_DB))
