"""The mel scale and its triangular filter bank."""

import numpy as np
from numpy.typing import ArrayLike


def mel_from_hertz(hertz: ArrayLike) -> np.ndarray:
    """Convert frequency to mel, ``2595 log10(1 + f / 700)``.

    Parameters
    ----------
    hertz : ArrayLike
        Any shape, at least 0.

    Returns
    -------
    np.ndarray
        Float64 of the same shape.

    Raises
    ------
    ValueError
        If a frequency is negative. Source: D. O'Shaughnessy, Speech Communication: Human and Machine, 1987,
        p. 150.

    Examples
    --------
    >>> mel_from_hertz([0.0, 1000.0]).round(1)
    array([   0., 1000.])
    """
    hertz = _numbers("hertz", hertz)
    if (hertz < 0).any():
        raise ValueError(f"hertz must not be negative, got {hertz.min():g}")
    return np.asarray(2595 * np.log10(1 + hertz / 700))


def hertz_from_mel(mel: ArrayLike) -> np.ndarray:
    """Convert mel to frequency in hertz, the inverse of `mel_from_hertz`; float64 of the same shape.

    Parameters
    ----------
    mel : ArrayLike
        Values on the mel scale.

    Examples
    --------
    >>> round(float(barn_owl.features.hertz_from_mel(barn_owl.features.mel_from_hertz(440.0))), 6)
    440.0
    """
    return np.asarray(700 * (10 ** (_numbers("mel", mel) / 2595) - 1))


def _numbers(name: str, values: ArrayLike) -> np.ndarray:
    try:
        return np.asarray(values, dtype=np.float64)
    except (TypeError, ValueError):
        raise TypeError(f"{name} must be numbers, got {type(values).__name__}") from None


def mel_edges(bands: int, low_hz: float, high_hz: float) -> np.ndarray:
    """Corner frequencies of `bands` triangles in hertz, shape ``(bands + 2,)``, equally spaced in mel.

    Band *b* rises from edge *b* to its center, edge *b + 1*, and falls to edge *b + 2*.
    """
    low, high = mel_from_hertz([low_hz, high_hz])
    return hertz_from_mel(np.linspace(low, high, bands + 2))


def mel_bank(bands: int, low_hz: float, high_hz: float, rate_hz: float, fft: int) -> np.ndarray:
    """Weights that turn a power spectrum into mel bands; float64, shape ``(fft // 2 + 1, bands)``.

    Scaling: each triangle has a peak of 1, and neighbors sum to 1 between the first and the last
    center. A bin counts with the mean of the triangle over the bin's width, ``rate_hz / fft``, rather
    than with the value at its middle, so that no band is empty however narrow it is.

    Parameters
    ----------
    bands : int
        Number of bands.
    low_hz : float
        Lower edge of the lowest and upper edge of the highest band, in Hz.
    high_hz : float
        Lower edge of the lowest and upper edge of the highest band, in Hz.
    rate_hz : float
        Sample rate in Hz.
    fft : int
        Length of the transform.

    Examples
    --------
    >>> barn_owl.features.mel_bank(48, 50.0, 8000.0, 16000, 512).shape
    (257, 48)
    """
    edges = mel_edges(bands, low_hz, high_hz)
    width = rate_hz / fft
    bin_edges = (np.arange(fft // 2 + 2) - 0.5) * width
    area = np.stack([_triangle_area(bin_edges, *edges[band : band + 3]) for band in range(bands)], axis=1)
    return np.asarray(np.diff(area, axis=0) / width)


def _triangle_area(at: np.ndarray, low: float, center: float, high: float) -> np.ndarray:
    """Integral from minus infinity to `at` of a triangle with peak 1."""
    rise = np.clip(at, low, center) - low
    fall = high - np.clip(at, center, high)
    return rise**2 / (2 * (center - low)) + ((high - center) ** 2 - fall**2) / (2 * (high - center))
