"""What a spectrum looks like in a few numbers.

All take power spectra, shape ``(frames, bins)``, with bin *k* at ``k * width_hz``, and give one value a frame.
Moments and quantiles treat the power spectrum as a distribution over frequency; silence gives 0.
Source: Peeters, A large set of audio features, IRCAM, 2004.
"""

import numpy as np

TINY = 1e-20
"""Power far below anything recorded, so that silence has a logarithm."""


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
    total = np.cumsum(power, axis=1, dtype=np.float64)
    return np.argmax(total >= share * total[:, -1:], axis=1) * width_hz


def flatness(power: np.ndarray) -> np.ndarray:
    """Geometric mean over arithmetic mean of the power: 1 for a flat spectrum, near 0 for a tone."""
    mean = power.mean(axis=1, dtype=np.float64)
    geometric = np.exp(np.log(power + power.dtype.type(TINY)).mean(axis=1, dtype=np.float64))
    return np.where(mean > TINY, geometric / np.maximum(mean, TINY), 0.0)


def crest(power: np.ndarray) -> np.ndarray:
    """Largest over mean power: 1 for a flat spectrum, the number of bins for a single one."""
    mean = power.mean(axis=1, dtype=np.float64)
    return np.where(mean > TINY, power.max(axis=1) / np.maximum(mean, TINY), 0.0)


def slope(power: np.ndarray, width_hz: float) -> np.ndarray:
    """Slope in dB per kilohertz of the straight line through the spectrum in dB, least squares."""
    kilohertz = np.arange(power.shape[1]) * width_hz / 1000
    centred = kilohertz - kilohertz.mean()
    level = 10 * np.log10(power.astype(np.float64) + TINY)
    return level @ centred / (centred**2).sum()


def flux(magnitude: np.ndarray, before: np.ndarray) -> np.ndarray:
    """Distance between the magnitude spectra of each frame and the one before, each scaled to length 1.

    before : the spectra one frame earlier, same shape. 0 for no change of shape, 1.41 for nothing in common.
    """
    lengths = [np.sqrt(np.einsum("fb,fb->f", x, x, dtype=np.float64))[:, None] for x in (magnitude, before)]
    unit = [x / np.maximum(length, TINY) for x, length in zip((magnitude, before), lengths, strict=True)]
    distance = np.sqrt(((unit[0] - unit[1]) ** 2).sum(axis=1))
    return np.where((lengths[0] > TINY)[:, 0] & (lengths[1] > TINY)[:, 0], distance, 0.0)
