"""What a spectrum looks like in a few numbers.

All take power spectra, shape ``(frames, bins)``, with bin *k* at ``k * width_hz``, and give one value a frame.
Moments and quantiles treat the power spectrum as a distribution over frequency; silence gives 0.
Source: Peeters, A large set of audio features, IRCAM, 2004.
"""

from functools import lru_cache

import numpy as np

TINY = 1e-20
"""Power far below anything recorded, so that silence has a logarithm."""
ROUNDING = 2e-3
"""Flux below this is rounding of float32, not change."""


def moments(power: np.ndarray, width_hz: float) -> np.ndarray:
    """Centroid and spread in hertz, skewness and kurtosis; float64, shape ``(frames, 4)``.

    ``centroid = sum f p``, ``spread = sqrt(sum (f - centroid)^2 p)``, then the third and fourth central
    moments divided by the third and fourth power of the spread, with p the power divided by its sum.
    """
    bins = power.shape[1]
    # Frequencies from 0 to 1 and float64: the fourth moment would drown in rounding otherwise.
    f = np.linspace(0.0, 1.0, bins)
    raw = power.astype(np.float64) @ np.stack([np.ones(bins), f, f**2, f**3, f**4], axis=1)
    total = raw[:, :1]
    one, two, three, four = (raw[:, 1:] / np.maximum(total, TINY)).T
    variance = np.maximum(two - one**2, 0)
    third = three - 3 * one * two + 2 * one**3
    fourth = four - 4 * one * three + 6 * one**2 * two - 3 * one**4
    spread = np.sqrt(variance)
    # Narrower than a thousandth of a bin is a single bin: higher moments mean nothing there.
    narrow = spread < 1e-3 / bins
    safe = np.where(narrow, 1.0, spread)
    top = (bins - 1) * width_hz
    shape = [one * top, spread * top, np.where(narrow, 0, third / safe**3), np.where(narrow, 0, fourth / safe**4)]
    return np.where(total > TINY, np.stack(shape, axis=1), 0.0)


def roll_off(power: np.ndarray, width_hz: float, share: float = 0.85) -> np.ndarray:
    """Lowest frequency in hertz below which `share` of the power lies."""
    total = power @ _running_sum(power.shape[1])
    return np.argmax(total >= np.float32(share) * total[:, -1:], axis=1) * width_hz


@lru_cache(maxsize=8)
def _running_sum(bins: int) -> np.ndarray:
    """Matrix that adds up all bins so far: as a product this is several times faster than a cumulative sum."""
    return np.triu(np.ones((bins, bins), dtype=np.float32))


def flatness(power: np.ndarray, log_power: np.ndarray) -> np.ndarray:
    """Geometric mean over arithmetic mean of the power: 1 for a flat spectrum, near 0 for a tone.

    log_power : natural logarithm of the power, same shape.
    """
    mean = _mean(power)
    return np.where(mean > TINY, np.exp(_mean(log_power)) / np.maximum(mean, TINY), 0.0)


def crest(power: np.ndarray) -> np.ndarray:
    """Largest over mean power: 1 for a flat spectrum, the number of bins for a single one."""
    mean = _mean(power)
    return np.where(mean > TINY, power.max(axis=1) / np.maximum(mean, TINY), 0.0)


def slope(log_power: np.ndarray, width_hz: float) -> np.ndarray:
    """Slope in dB per kilohertz of the straight line through the spectrum in dB, least squares.

    log_power : natural logarithm of the power.
    """
    kilohertz = np.arange(log_power.shape[1]) * width_hz / 1000
    centred = kilohertz - kilohertz.mean()
    weights = 10 / np.log(10) * centred / (centred**2).sum()
    return log_power @ weights.astype(log_power.dtype)


def flux(magnitude: np.ndarray, before: np.ndarray | None) -> np.ndarray:
    """Distance between the magnitude spectra of each frame and the one before, each scaled to length 1.

    before : the spectrum before the first, ``(bins,)``, or None when there is none: its flux is 0.
    0 for no change of shape, 1.41 for nothing in common. By the law of cosines, ``sqrt(2 - 2 cos)``.
    """
    first = magnitude[0] if before is None else before
    dot = np.empty(len(magnitude))
    dot[0] = np.dot(magnitude[0], first)
    dot[1:] = np.einsum("fb,fb->f", magnitude[1:], magnitude[:-1])
    power = np.einsum("fb,fb->f", magnitude, magnitude).astype(np.float64)
    power_before = np.concatenate([[np.dot(first, first)], power[:-1]])
    both = np.sqrt(power * power_before)
    distance = np.sqrt(np.maximum(2 - 2 * dot / np.maximum(both, TINY), 0))
    return np.where((both > TINY) & (distance > ROUNDING), distance, 0.0)


def _mean(x: np.ndarray) -> np.ndarray:
    """Mean over bins as a product: float32 in, float64 out."""
    return (x @ np.full(x.shape[1], 1 / x.shape[1], dtype=x.dtype)).astype(np.float64)
