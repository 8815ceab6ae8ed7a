"""Level normalization and detection of silence."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from barn_owl.audio.loudness import integrated_loudness
from barn_owl.audio.samples import as_mono, as_samples
from barn_owl.errors import PlanError

FRAME_S = 0.01
"""Length of a level measurement: shorter than any gap worth cutting."""
QUIET_SHARE = 0.1
"""Share of the frames that are treated as background: a cut clip is mostly sound."""
LOWEST_DB = -120.0
"""Level of digital silence: below 16 and above 24 bit."""


def decibel(amplitude: np.ndarray | float) -> np.ndarray:
    """``20 log10(amplitude)``, not below -120 dB."""
    return 20 * np.log10(np.maximum(amplitude, 10 ** (LOWEST_DB / 20)))


MEASURES: dict[str, Callable[[np.ndarray, int], float]] = {
    "peak": lambda samples, _: float(decibel(np.abs(samples).max(initial=0))),
    "rms": lambda samples, _: float(decibel(np.sqrt(np.mean(samples.astype(np.float64) ** 2)))),
    "loudness": integrated_loudness,
}


def set_level(samples: np.ndarray, rate_hz: int, target_db: float, *, measure: str = "rms") -> np.ndarray:
    """Scale samples so that their peak (dBFS), RMS (dB re 1.0) or loudness (LUFS) is `target_db`.

    Parameters
    ----------
    samples : np.ndarray
        Shape ``(samples,)`` or ``(samples, channels)``.
    rate_hz : int
        Sample rate in Hz.
    target_db : float
        Level to reach, in dB or LUFS.
    measure : str
        ``peak``, ``rms`` or ``loudness``.

    Returns
    -------
    np.ndarray
        Float32 of the same shape, which may exceed full scale. Silence is returned unchanged; sound too short for a
        loudness (0.4 s) is scaled to the RMS instead.

    Raises
    ------
    PlanError
        For an unknown measure.

    Examples
    --------
    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> quieter = barn_owl.audio.set_level(samples, rate_hz, -30.0)
    >>> round(float(10 * np.log10(np.mean(quieter.astype(float) ** 2))), 1)
    -30.0
    """
    if measure not in MEASURES:
        raise PlanError(f"there is no measure {measure!r}; there are {', '.join(MEASURES)}")
    samples = as_samples(samples)
    now = MEASURES[measure](samples, rate_hz) if len(samples) else -np.inf
    if np.isnan(now):
        now = MEASURES["rms"](samples, rate_hz)
    if now <= LOWEST_DB:
        return samples.astype(np.float32)
    return (samples * 10 ** ((target_db - now) / 20)).astype(np.float32)


@dataclass(frozen=True, kw_only=True)
class Gate:
    """When sound counts as active, measured on the level of 10 ms frames.

    Attributes
    ----------
    threshold_db, release_db : float
        Above the quiet of the sound (the level a tenth of its frames stay under), activity begins above the
        first and ends below the second.
    lowest_db : float
        Level re 1.0 below which sound is never active.
    hold_s : float
        Gaps up to this length are closed.
    pad_s : float
        Added on either side.
    min_duration_s : float
        Shorter activity is dropped, before padding.

    Examples
    --------
    >>> barn_owl.audio.Gate(threshold_db=20.0).threshold_db
    20.0
    """

    threshold_db: float = 12.0
    release_db: float = 6.0
    lowest_db: float = -70.0
    hold_s: float = 0.1
    pad_s: float = 0.05
    min_duration_s: float = 0.02

    def __post_init__(self) -> None:
        if self.release_db > self.threshold_db:
            raise PlanError(f"release_db must be at most threshold_db={self.threshold_db:g}, got {self.release_db:g}")
        if min(self.hold_s, self.pad_s, self.min_duration_s) < 0:
            raise PlanError("hold_s, pad_s and min_duration_s must not be negative")


def find_activity(samples: np.ndarray, rate_hz: int, gate: Gate | None = None) -> np.ndarray:
    """Find the active stretches of a signal.

    Parameters
    ----------
    samples : np.ndarray
        Types and shapes as for `barn_owl.FrontEnd.frames`.
    rate_hz : int
        Sample rate in Hz.
    gate : Gate | None
        Thresholds of activity. Default: `Gate()`.

    Returns
    -------
    np.ndarray
        Start and end of each stretch in seconds, float64, shape ``(stretches, 2)``, in order and without overlap.
        Steady sound is a single stretch, unless it is below ``gate.lowest_db``.

    Raises
    ------
    AudioError
        For samples of another type or shape.

    Examples
    --------
    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> barn_owl.audio.find_activity(samples, rate_hz).shape[1]
    2
    """
    samples = as_mono(samples)
    gate, hop = gate or Gate(), max(1, round(FRAME_S * rate_hz))
    if len(samples) < hop:
        return np.empty((0, 2))
    frames = samples[: len(samples) // hop * hop].reshape(-1, hop)
    level = decibel(np.sqrt(np.einsum("fs,fs->f", frames, frames) / hop))
    quiet = max(float(np.quantile(level, QUIET_SHARE)), gate.lowest_db)
    runs = two_threshold_runs(level, quiet + gate.threshold_db, quiet + gate.release_db)
    if not len(runs) and np.median(level) > gate.lowest_db:
        runs = np.array([[0, len(level)]])  # steady sound has no quiet to compare with
    times = runs * hop / rate_hz
    times = _joined(times, gate.hold_s)
    times = times[times[:, 1] - times[:, 0] >= gate.min_duration_s]
    padded = np.clip(times + np.array([-gate.pad_s, gate.pad_s]), 0, len(samples) / rate_hz)
    return _joined(padded, 0.0)


def two_threshold_runs(values: np.ndarray, on: float, off: float) -> np.ndarray:
    """Return runs of `values` above `off` that reach `on`: first and last-plus-one index, ``(runs, 2)``."""
    above = np.concatenate([[False], values >= off, [False]])
    runs = np.flatnonzero(above[1:] != above[:-1]).reshape(-1, 2)
    reached = np.concatenate([[0], np.cumsum(values >= on)])
    return runs[reached[runs[:, 1]] > reached[runs[:, 0]]]


def _joined(times: np.ndarray, max_gap_s: float) -> np.ndarray:
    if not len(times):
        return times.reshape(0, 2)
    apart = times[1:, 0] - times[:-1, 1] > max_gap_s
    return np.stack([times[np.r_[True, apart], 0], times[np.r_[apart, True], 1]], axis=1)


def remove_silence(samples: np.ndarray, rate_hz: int, gate: Gate | None = None) -> np.ndarray:
    """Return the active stretches of mono `samples`, concatenated; all samples if nothing is active.

    Parameters
    ----------
    samples : np.ndarray
        Mono samples.
    rate_hz : int
        Sample rate in Hz.
    gate : Gate | None
        Thresholds of activity. Default: `Gate()`.

    Examples
    --------
    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> len(barn_owl.audio.remove_silence(samples, rate_hz)) < len(samples)
    True
    """
    samples = as_mono(samples)
    active = np.round(find_activity(samples, rate_hz, gate) * rate_hz).astype(int)
    return np.concatenate([samples[start:end] for start, end in active]) if len(active) else samples
