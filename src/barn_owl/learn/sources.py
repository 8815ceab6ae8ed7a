"""Ingredients of mixtures: the sound within each clip, synthetic sounds, and noise."""

from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from barn_owl.arrays import power_of
from barn_owl.features import FrontEnd
from barn_owl.features.activity import (
    FAINT,
    QUIET_S,
    activity,
    frames_in,
    is_active,
    onset_frame,
    quiet_level,
    sounding,
)
from barn_owl.sound import synthetic_sound

LEAD_S, TAIL_S = 0.05, 0.8
"""Time kept before the onset of a sound, and at most after its last active frame."""
SYNTHETIC = 240
"""Synthetic sounds to choose from."""
SYNTHETIC_STREAM, NOISE_STREAM = 23, 29
"""Separates their random numbers from the random numbers of the training."""
NOISE_S = 20.0
TINY = 1e-20
"""Power far below any sound, so that nothing is divided by 0."""


@dataclass(frozen=True)
class ClipSound:
    """Which frames of a clip are its sound, and how loud that is: mean power of all bands together."""

    first: int
    last: int
    onset: int
    active: np.ndarray
    power: float
    quiet: np.ndarray | None

    def of_clip(self, frames: np.ndarray) -> "ClipSound":
        """The same within all frames of the clip."""
        active = np.zeros(len(frames), dtype=bool)
        active[self.first : self.last] = self.active
        return replace(self, first=0, last=len(frames), onset=self.first + self.onset, active=active)


def describe(front_end: FrontEnd, frames: np.ndarray) -> ClipSound:
    """Find the sound within the frames of a clip, ``(frames, width)``."""
    levels = frames[:, front_end.level_columns]
    if "log-mel" in front_end.widths:
        active, loud = sounding(levels, front_end.hop_s), is_active(levels)
        onset = onset_frame(levels, active)
    else:  # levels are not in dB: only activity is known
        stands_out = activity(levels, front_end.hop_s)
        active = loud = stands_out >= FAINT * stands_out.max()
        onset = int(active.argmax())
    at = np.flatnonzero(active)
    first = max(0, min(onset, int(at[0])) - round(LEAD_S / front_end.hop_s))
    # A decaying sound continues for a while below the background.
    last = min(int(np.flatnonzero(loud)[-1]), int(at[-1]) + round(TAIL_S / front_end.hop_s)) + 1
    power = float(power_of(levels[active]).sum(axis=1, dtype=np.float64).mean()) if front_end.is_log_mel else 1.0
    quiet = levels[~active]
    enough = len(quiet) >= frames_in(QUIET_S, front_end.hop_s)
    behind = power_of(quiet_level(quiet)) if front_end.is_log_mel and enough else None
    return ClipSound(first, last, onset - first, active[first:last], max(power, TINY), behind)


@lru_cache(maxsize=2)
def synthetic_sounds(front_end_json: str, seed: int) -> list[tuple[np.ndarray, ClipSound]]:
    """Frames of synthetic sounds, and which of them are the sound."""
    front_end = FrontEnd.model_validate_json(front_end_json)
    rng = np.random.default_rng([seed, SYNTHETIC_STREAM])
    still = np.zeros(front_end.frame + 2 * front_end.hop, dtype=np.float32)
    sounds = (np.concatenate([still, synthetic_sound(rng, front_end.rate_hz), still]) for _ in range(SYNTHETIC))
    all_frames = (front_end.frames(samples) for samples in sounds)
    return [(frames, describe(front_end, frames)) for frames in all_frames]


@lru_cache(maxsize=2)
def white_noise(front_end_json: str, seed: int) -> np.ndarray:
    """Power of white noise, each band with a mean of 1, ``(frames, bands)``."""
    front_end = FrontEnd.model_validate_json(front_end_json)
    rng = np.random.default_rng([seed, NOISE_STREAM])
    levels = front_end.frames(rng.standard_normal(round(NOISE_S * front_end.rate_hz)).astype(np.float32))
    power = power_of(levels)
    return np.asarray(power / power.mean(axis=0))
