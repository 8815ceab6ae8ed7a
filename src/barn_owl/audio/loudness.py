"""Loudness by ITU-R BS.1770-4: K-weighting, gating, momentary loudness; true peak by its annex 2.

All channels count alike (the standard's weights for front channels); surround weights are not applied.
"""

from functools import lru_cache

import numpy as np

from barn_owl.audio.samples import NOT_FINITE, as_samples
from barn_owl.errors import AudioError

BLOCK_S = 0.4
"""Length of a gating block; blocks overlap by three quarters."""
STEP_S = 0.1
ABSOLUTE_GATE = -70.0
RELATIVE_GATE = -10.0
OFFSET = -0.691
"""Makes a 997 Hz full-scale sine in one channel read -3.01 LUFS."""


@lru_cache(maxsize=16)
def k_weighting(rate_hz: int) -> np.ndarray:
    """Return the K-weighting filter as two second-order sections, float64, shape ``(2, 6)``.

    The standard lists coefficients at 48 kHz only; at further rates, the same analog prototypes are transformed by
    the bilinear transform (a shelf of +4 dB above 1.7 kHz and a high-pass at 38 Hz), which yields the listed
    coefficients at 48 kHz.
    """
    shelf_hz, shelf_db, shelf_q = 1681.974450955533, 3.999843853973347, 0.7071752369554196
    pass_hz, pass_q = 38.13547087602444, 0.5003270373238773
    k = np.tan(np.pi * shelf_hz / rate_hz)
    high, band = 10 ** (shelf_db / 20), 10 ** (shelf_db / 20 * 0.4996667741545416)
    norm = 1 + k / shelf_q + k * k
    shelf = [
        (high + band * k / shelf_q + k * k) / norm,
        2 * (k * k - high) / norm,
        (high - band * k / shelf_q + k * k) / norm,
        1.0,
        2 * (k * k - 1) / norm,
        (1 - k / shelf_q + k * k) / norm,
    ]
    k = np.tan(np.pi * pass_hz / rate_hz)
    norm = 1 + k / pass_q + k * k
    high_pass = [1.0, -2.0, 1.0, 1.0, 2 * (k * k - 1) / norm, (1 - k / pass_q + k * k) / norm]
    return np.array([shelf, high_pass])


class KWeighting:
    """The K-weighting filter on a stream of blocks, channel by channel."""

    def __init__(self, rate_hz: int, channels: int = 1) -> None:
        from scipy.signal import lfilter

        self._filter = lfilter
        one, two = k_weighting(rate_hz)
        # One filter of order four is a third faster than two of order two, and in float64 just as exact.
        self._up, self._down = np.convolve(one[:3], two[:3]), np.convolve(one[3:], two[3:])
        self._state = np.zeros((4, channels))

    def push(self, samples: np.ndarray) -> np.ndarray:
        """Filter a block, shape ``(samples, channels)``; float64 of the same shape."""
        x = samples.astype(np.float64)
        out, self._state = self._filter(self._up, self._down, x, axis=0, zi=self._state)
        return np.asarray(out)


class LoudnessMeter:
    """Integrated loudness of a stream, from a number per tenth of a second."""

    def __init__(self, rate_hz: int, channels: int) -> None:
        self.step = max(1, round(STEP_S * rate_hz))
        self._weighting = KWeighting(rate_hz, channels)
        self._rest = np.empty((0, channels))
        self._powers: list[np.ndarray] = []

    def push(self, samples: np.ndarray) -> None:
        """Take a block, shape ``(samples, channels)``."""
        weighted = np.concatenate([self._rest, self._weighting.push(samples)])
        whole = len(weighted) // self.step * self.step
        steps = weighted[:whole].reshape(-1, self.step, weighted.shape[1])
        self._powers.append(np.einsum("kic,kic->k", steps, steps) / self.step)
        self._rest = weighted[whole:]

    def integrated(self) -> float:
        """Return the gated loudness in LUFS; minus infinity when nothing passes the gates, NaN for under 0.4 s."""
        steps = np.concatenate(self._powers) if self._powers else np.empty(0)
        per_block = round(BLOCK_S / STEP_S)
        if len(steps) < per_block:
            return np.nan
        return gated_loudness(np.lib.stride_tricks.sliding_window_view(steps, per_block).mean(axis=1))


def gated_loudness(powers: np.ndarray) -> float:
    """Integrated loudness in LUFS of the mean squares of gating blocks, BS.1770-4 equations 2 to 7."""
    loud = powers[lufs(powers) > ABSOLUTE_GATE]
    if not len(loud):
        return -np.inf
    threshold = lufs(loud.mean()) + RELATIVE_GATE
    gated = loud[lufs(loud) > threshold]
    return float(lufs(gated.mean())) if len(gated) else -np.inf  # equal to the threshold by rounding


def lufs(power: np.ndarray | float) -> np.ndarray:
    """Loudness in LUFS of a K-weighted mean square, summed over channels."""
    with np.errstate(divide="ignore"):
        return np.asarray(OFFSET + 10 * np.log10(power))


def integrated_loudness(samples: np.ndarray, rate_hz: int) -> float:
    """Compute the integrated loudness of samples in LUFS, by ITU-R BS.1770-4.

    Parameters
    ----------
    samples : np.ndarray
        Shape ``(samples,)`` or ``(samples, channels)``; types as for `barn_owl.FrontEnd.frames`.
    rate_hz : int
        Sample rate.

    Returns
    -------
    float
        Minus infinity for silence; NaN for less than 0.4 s, where loudness is undefined in the standard.

    Raises
    ------
    AudioError
        If the samples have another type or shape, or are not finite.

    Examples
    --------
    >>> import numpy as np
    >>> t = np.arange(48_000 * 3) / 48_000
    >>> round(integrated_loudness(np.sin(2 * np.pi * 997 * t), 48_000), 2)
    -3.01
    """
    samples = as_samples(samples)
    if not np.isfinite(samples).all():
        raise AudioError(NOT_FINITE)
    samples = samples[:, None] if samples.ndim == 1 else samples
    meter = LoudnessMeter(rate_hz, samples.shape[1])
    meter.push(samples)
    return meter.integrated()


class TruePeakMeter:
    """Peak between the samples, by fourfold oversampling, on a stream; BS.1770-4 annex 2."""

    OVERSAMPLING = 4

    def __init__(self, rate_hz: int, channels: int) -> None:
        import soxr

        self.peak = 0.0
        self._resampler = soxr.ResampleStream(
            rate_hz, self.OVERSAMPLING * rate_hz, channels, dtype="float32", quality="HQ"
        )

    def push(self, samples: np.ndarray, *, last: bool = False) -> None:
        """Take a block, float32, shape ``(samples, channels)``."""
        out = self._resampler.resample_chunk(np.ascontiguousarray(samples), last=last)
        # Oversampling may miss the sample peak by a hair.
        for part in (out, samples):
            if part.size:
                self.peak = max(self.peak, float(np.abs(part).max()))
