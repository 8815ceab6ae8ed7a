"""Pitch by the difference function with cumulative mean normalization.

Source: de Cheveigné and Kawahara, YIN, a fundamental frequency estimator for speech and music, J. Acoust.
Soc. Am. 111(4), 2002, steps 2 to 5.
"""

import numpy as np
import scipy
from numpy.lib.stride_tricks import sliding_window_view

THRESHOLD = 0.15
"""Normalized difference below which the first dip is taken; otherwise the deepest dip."""
SILENT = 1e-12
"""Power below which there is no pitch: -120 dB, digital silence with dither."""


def pitch(frames: np.ndarray, rate_hz: float, low_hz: float, high_hz: float) -> np.ndarray:
    """Pitch in hertz and confidence of each frame; float64, shape ``(frames, 2)``.

    frames : samples, shape ``(frames, frame)``; a frame must hold at least two periods of `low_hz`.
    The confidence is 1 minus the normalized difference at the period: near 1 for a steady periodic sound, near 0 for
    noise. Silence has pitch 0 and confidence 0.
    """
    rows, frame = frames.shape
    return PitchFinder(rows, frame, frame, rate_hz, low_hz, high_hz).find(frames, rows)


class PitchFinder:
    """Finds pitch in arrays of `rows` frames with step `hop`, with memory that is used again and again."""

    def __init__(self, rows: int, frame: int, hop: int, rate_hz: float, low_hz: float, high_hz: float) -> None:
        self._rate_hz, self._hop = rate_hz, hop
        self._shortest = max(2, int(rate_hz / high_hz))
        self._longest = min(int(np.ceil(rate_hz / low_hz)) + 1, frame // 2)
        self._window = frame - self._longest
        # The first factor is zero beyond the window, so a circle as long as the frame does not wrap around.
        # An even length, so that the transform's real and imaginary parts pair up between its two real ends.
        size = 2 * scipy.fft.next_fast_len((frame + 1) // 2, real=True)
        self._short, self._long = (np.empty((rows, size), dtype=np.float32) for _ in range(2))
        # Cumulative sums of squares of all samples, and a view of them with a row per frame.
        self._sums = np.zeros((rows - 1) * hop + frame + 1)
        self._sums_of_frames = sliding_window_view(self._sums, frame + 1)[::hop]
        self._counts = np.arange(1, self._longest + 1, dtype=np.float32)
        self._difference = np.empty((rows, self._longest + 1), dtype=np.float32)
        self._rows = np.arange(rows)

    def find(self, frames: np.ndarray, used: int) -> np.ndarray:
        """Pitch in hertz and confidence of each frame; float64, shape ``(frames, 2)``; see `pitch`.

        used : how many of the frames are; the rest is 0 and what is found there means nothing.
        """
        normalized, power = self._normalized_difference(frames, used)
        lag = self._first_dip(normalized)
        left, middle, right = (
            normalized[self._rows, np.clip(lag + k, 0, self._longest)].astype(np.float64) for k in (-1, 0, 1)
        )
        bend = left - 2 * middle + right
        shift = np.where(bend > 1e-9, 0.5 * (left - right) / np.where(bend > 1e-9, bend, 1), 0.0).clip(-0.5, 0.5)
        depth = middle - 0.25 * (left - right) * shift
        sounding = power > SILENT
        return np.stack(
            [np.where(sounding, self._rate_hz / (lag + shift), 0.0), np.where(sounding, (1 - depth).clip(0, 1), 0.0)],
            axis=1,
        )

    def _normalized_difference(self, frames: np.ndarray, used: int) -> tuple[np.ndarray, np.ndarray]:
        """Cumulative mean normalized difference for lags 0 to the longest, and the mean square of each frame."""
        window, longest, frame, hop = self._window, self._longest, frames.shape[1], self._hop
        twice_correlation = self._twice_correlation(frames)
        signal = np.concatenate([frames[:used, :hop].reshape(-1), frames[used - 1, hop:]], dtype=np.float64)
        np.cumsum(np.square(signal, out=signal), out=self._sums[1 : len(signal) + 1])
        self._sums[len(signal) + 1 :] = self._sums[len(signal)]
        sums, difference = self._sums_of_frames, self._difference
        np.subtract(
            sums[:, window : window + longest + 1], sums[:, : longest + 1], out=difference, casting="same_kind"
        )
        energy = difference[:, :1].copy()
        difference += energy
        difference -= twice_correlation
        mean = np.cumsum(difference[:, 1:], axis=1, dtype=np.float32)
        mean /= self._counts
        # Below this a difference is rounding, not sound.
        np.maximum(mean, np.float32(1e-7) * energy + np.float32(SILENT), out=mean)
        difference[:, 1:] /= mean
        difference[:, 0] = 1
        return difference, (sums[:, -1] - sums[:, 0]) / frame

    def _twice_correlation(self, frames: np.ndarray) -> np.ndarray:
        """Return twice the sum over the window of each sample times the sample `lag` later, for lags from 0."""
        short, long, window = self._short, self._long, self._window
        np.multiply(frames[:, :window], np.float32(2), out=short[:, :window])
        short[:, window:] = 0
        long[:, : frames.shape[1]] = frames
        long[:, frames.shape[1] :] = 0
        # All three transforms are in place: first bin, pairs of real and imaginary part, last bin.
        spectra: list[np.ndarray] = [scipy.fftpack.rfft(buffer, axis=1, overwrite_x=True) for buffer in (short, long)]
        ends = spectra[0][:, [0, -1]] * spectra[1][:, [0, -1]]
        one, other = (spectrum[:, 1:-1].view(np.complex64) for spectrum in spectra)
        np.conjugate(one, out=one)
        other *= one
        spectra[1][:, [0, -1]] = ends
        return np.asarray(scipy.fftpack.irfft(spectra[1], axis=1, overwrite_x=True)[:, : self._longest + 1])

    def _first_dip(self, normalized: np.ndarray) -> np.ndarray:
        """Lag of the first local minimum below the threshold; else of the lowest value."""
        shortest, longest = self._shortest, self._longest
        inner = normalized[:, shortest:longest]
        dip = inner < normalized[:, shortest + 1 : longest + 1]
        dip &= inner < THRESHOLD
        # The first rise below the threshold ends a descent, unless the descent began before the range.
        dip[:, 0] &= inner[:, 0] <= normalized[:, shortest - 1]
        first = dip.argmax(axis=1)
        none = np.flatnonzero(~dip[self._rows, first])
        first[none] = inner[none].argmin(axis=1)
        return first + shortest
