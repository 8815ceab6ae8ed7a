"""Pitch by the difference function with cumulative mean normalisation.

Source: de Cheveigné and Kawahara, YIN, a fundamental frequency estimator for speech and music, J. Acoust.
Soc. Am. 111(4), 2002, steps 2 to 5.
"""

from functools import lru_cache

import numpy as np
import scipy.fft

THRESHOLD = 0.15
"""A dip of the normalised difference below this is taken, the first one; otherwise the deepest."""
SILENT = 1e-12


def pitch(frames: np.ndarray, rate_hz: float, low_hz: float, high_hz: float) -> np.ndarray:
    """Pitch in hertz and confidence of each frame; float64, shape ``(frames, 2)``.

    frames : samples, shape ``(frames, frame)``; a frame must hold at least two periods of `low_hz`.
    The confidence is one minus the normalised difference at the period found: near 1 for a steady periodic
    sound, near 0 for noise. Silence has pitch 0 and confidence 0.
    """
    shortest = max(2, int(rate_hz / high_hz))
    longest = min(int(np.ceil(rate_hz / low_hz)) + 1, frames.shape[1] // 2)
    normalised, power = _normalised_difference(frames.astype(np.float32, copy=False), longest)
    lag = _first_dip(normalised, shortest, longest)
    rows = np.arange(len(frames))
    left, middle, right = (normalised[rows, np.clip(lag + k, 0, longest)].astype(np.float64) for k in (-1, 0, 1))
    bend = left - 2 * middle + right
    shift = np.where(bend > 1e-9, 0.5 * (left - right) / np.where(bend > 1e-9, bend, 1), 0.0).clip(-0.5, 0.5)
    depth = middle - 0.25 * (left - right) * shift
    sounding = power > SILENT
    return np.stack(
        [np.where(sounding, rate_hz / (lag + shift), 0.0), np.where(sounding, (1 - depth).clip(0, 1), 0.0)], axis=1
    )


def _normalised_difference(frames: np.ndarray, longest: int) -> tuple[np.ndarray, np.ndarray]:
    """Cumulative mean normalised difference for lags 0 to `longest`, and the mean square of each frame."""
    window = frames.shape[1] - longest
    # The first factor is zero beyond the window, so a circle as long as the frame does not wrap around.
    size = scipy.fft.next_fast_len(frames.shape[1], real=True)
    spectrum = scipy.fft.rfft(frames[:, :window], n=size, axis=1).conj()
    spectrum *= scipy.fft.rfft(frames, n=size, axis=1)
    correlation = scipy.fft.irfft(spectrum, n=size, axis=1)[:, : longest + 1]
    squares = np.zeros((len(frames), frames.shape[1] + 1))
    np.cumsum(np.square(frames), axis=1, dtype=np.float64, out=squares[:, 1:])
    energy = (squares[:, window : window + longest + 1] - squares[:, : longest + 1]).astype(np.float32)
    difference = np.maximum(energy[:, :1] + energy - np.float32(2) * correlation, 0)
    total = difference[:, 1:] @ _running_mean(longest)
    normalised = np.ones_like(difference)
    # Below this a difference is rounding, not sound.
    floor = np.float32(1e-7) * energy[:, :1] + np.float32(SILENT)
    normalised[:, 1:] = difference[:, 1:] / np.maximum(total, floor)
    return normalised, squares[:, -1] / frames.shape[1]


@lru_cache(maxsize=8)
def _running_mean(lags: int) -> np.ndarray:
    """Matrix that takes the mean of all lags so far: as a product faster than a cumulative sum."""
    return (np.triu(np.ones((lags, lags))) / np.arange(1, lags + 1)).astype(np.float32)


def _first_dip(normalised: np.ndarray, shortest: int, longest: int) -> np.ndarray:
    """Lag of the first local minimum below the threshold; of the lowest value where there is none."""
    inner = normalised[:, shortest:longest]
    dip = (inner < THRESHOLD) & (inner <= normalised[:, shortest - 1 : longest - 1])
    dip &= inner < normalised[:, shortest + 1 : longest + 1]
    first = np.where(dip.any(axis=1), dip.argmax(axis=1), inner.argmin(axis=1))
    return first + shortest
