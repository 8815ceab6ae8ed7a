"""Augmentation of log-mel frames: different microphones, rooms and sources."""

from functools import lru_cache

import numpy as np
from scipy.signal import lfilter

from barn_owl.features import FrontEnd
from barn_owl.learn.plan import AugmentSettings
from barn_owl.learn.sources import ClipSound

SHORTEST = 3
"""Frames that a sound keeps, however much faster it is played."""
BUMPS = 6
"""Points between which a random response is drawn."""
SHIFTS_A_BAND = 20
"""Shifts along the bands are multiples of this part of a band, so that few have to be worked out."""
LOWEST_CUT_HZ = 3500.0
"""Lowest cut-off of low-pass filtering: that of recordings at 8 kHz."""
DECAY_S, DIRECT_DB = (0.2, 1.0), (-3.0, 12.0)
"""Reverberation times of rooms, and their direct-to-reverberant ratios."""
TAIL_SHARE = 0.5
"""Part of the reverberation time that is kept behind a sound: down to -30 dB."""


class Augment:
    """Draws changes as a plan wishes them, for the frames of a front end."""

    def __init__(self, settings: AugmentSettings, front_end: FrontEnd) -> None:
        self._settings, self._hop_s, self._adds = settings, front_end.hop_s, front_end.is_log_mel
        # A random response is a mixture of a slope and of bumps.
        self._slope = np.linspace(-0.5, 0.5, front_end.width).astype(np.float32)
        self._bumps = hats(front_end.width, BUMPS)
        # A model of high frequencies keeps the lower half of its bands, or nothing would be left to classify.
        self._first_cut = max(int(np.searchsorted(front_end.centers_hz, LOWEST_CUT_HZ)), front_end.bands // 2)

    def pace(self, rng: np.random.Generator) -> float:
        """Draw by how much longer a sound is."""
        return 1 + rng.uniform(-1, 1) * self._settings.tempo_percent / 100

    def warped(
        self, frames: np.ndarray, sound: ClipSound, rng: np.random.Generator, pace: float
    ) -> tuple[np.ndarray, np.ndarray, int]:
        """Change tempo, shift and warp the bands; return the frames, the active frames and the onset."""
        if pace != 1:
            length = max(SHORTEST, round(len(frames) * pace))
            at = np.minimum(np.arange(length) / pace, len(frames) - 1)
            frames = _between(frames, at)
            active = sound.active[at.astype(int)]
        else:
            active = sound.active
        if self._adds and self._settings.shift_bands:
            shift = rng.uniform(-1, 1) * self._settings.shift_bands
            frames = frames @ _shift(frames.shape[1], round(shift * SHIFTS_A_BAND))
        if self._adds and self._settings.warp_percent:
            warp = rng.uniform(-1, 1) * self._settings.warp_percent
            frames = frames @ _warp(frames.shape[1], round(warp))
        return frames, active, int(sound.onset * pace)

    def reverberated(
        self, power: np.ndarray, active: np.ndarray, rng: np.random.Generator
    ) -> tuple[np.ndarray, np.ndarray]:
        """Put some sounds into a room: their power and their active frames, both including reverberation."""
        if rng.random() >= self._settings.reverb:
            return power, active
        power = reverberant(power, rng.uniform(*DECAY_S) / self._hop_s, rng.uniform(*DIRECT_DB))
        return power, np.pad(active, (0, len(power) - len(active)))

    def response_db(self, rng: np.random.Generator) -> np.ndarray:
        """A smooth response in dB, ``(bands,)``: a slope and bumps, as of another microphone or place."""
        tilt = self._settings.tilt_db
        return np.float32(rng.uniform(-1, 1) * tilt) * self._slope + self.bump_db(tilt / 4, rng)

    def slope_db(self, fall_db: float) -> np.ndarray:
        """A slope that falls by this amount from the lowest band to the highest, ``(bands,)``."""
        return self._slope * np.float32(-fall_db)

    def bump_db(self, deviation_db: float, rng: np.random.Generator) -> np.ndarray:
        """Smooth bumps, ``(bands,)``."""
        return rng.normal(0, deviation_db, BUMPS).astype(np.float32) @ self._bumps

    def narrow(self, power: np.ndarray, rng: np.random.Generator) -> None:
        """Mask the highest bands, or a few neighboring bands, of some mixtures, in place."""
        bands = power.shape[1]
        if rng.random() < self._settings.low_pass and self._first_cut < bands:
            power[:, int(rng.integers(self._first_cut, bands)) :] *= np.float32(10 ** -rng.uniform(3, 8))
        if rng.random() < self._settings.mask and bands >= 12:
            width = int(rng.integers(1, bands // 6))
            low = int(rng.integers(bands - width))
            power[:, low : low + width] = power[:, low : low + width].mean() * np.float32(0.01)


def reverberant(power: np.ndarray, decay: float, direct_db: float) -> np.ndarray:
    """Power of bands, ``(frames, bands)``, with that of the reverberation behind it, as far as it matters.

    decay : frames where it falls by 60 dB; direct_db : direct-to-reverberant ratio. Echoes
    are independent, so their powers add: each frame is followed by an exponential decay (Polack's model; Kuttruff,
    Room Acoustics, chapter 4).
    """
    keep = 10 ** (-6 / decay)
    padded = np.pad(power, ((0, round(decay * TAIL_SHARE)), (0, 0)))
    share = (1 - keep) * 10 ** (-direct_db / 10)
    padded += lfilter([0, share], [1, -keep], padded, axis=0).astype(np.float32)
    return padded


@lru_cache(maxsize=64)
def hats(size: int, points: int) -> np.ndarray:
    """Triangles over `size` places whose mixture goes by straight lines between `points` values, ``(points,
    size)``."""
    places = np.linspace(0, points - 1, size)
    return np.maximum(0, 1 - np.abs(places - np.arange(points)[:, None])).astype(np.float32)


def _between(frames: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Values at places between frames, by straight lines."""
    low = at.astype(int)
    here = frames.take(low, 0)
    step = frames.take(np.minimum(low + 1, len(frames) - 1), 0)
    step -= here
    step *= (at - low).astype(np.float32)[:, None]
    here += step
    return here


@lru_cache(maxsize=256)
def _shift(bands: int, steps: int) -> np.ndarray:
    """Matrix that moves frames up by this many steps of a band, linearly interpolated, ``(bands, bands)``."""
    from_ = np.clip(np.arange(bands) - steps / SHIFTS_A_BAND, 0, bands - 1)
    return np.maximum(0, 1 - np.abs(np.arange(bands)[:, None] - from_)).astype(np.float32)


@lru_cache(maxsize=256)
def _warp(bands: int, percent: int) -> np.ndarray:
    """Matrix that compresses the mel axis by this many percent, linearly interpolated, ``(bands, bands)``.

    Vocal tract length perturbation (N. Jaitly and G. Hinton, ICML Workshop on Deep Learning for Audio, 2013).
    """
    from_ = np.clip(np.arange(bands) * (1 + percent / 100), 0, bands - 1)
    return np.maximum(0, 1 - np.abs(np.arange(bands)[:, None] - from_)).astype(np.float32)
