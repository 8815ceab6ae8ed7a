"""Chroma: power summed by pitch class."""

import numpy as np

CLASSES = ("C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B")
LOW_HZ, HIGH_HZ = 100.0, 5000.0
"""Below, a bin is wider than a semitone; above, there are hardly fundamentals or strong partials."""


def chroma_matrix(fft: int, rate_hz: float, tuning_hz: float = 440.0) -> np.ndarray:
    """Weights that gather a power spectrum into twelve pitch classes; float64, ``(fft // 2 + 1, 12)``.

    A bin belongs to the two nearest classes in proportion to its distance in semitones from A =
    `tuning_hz`; bins below 100 Hz (too wide for a semitone) and above 5 kHz do not count.
    """
    hertz = np.arange(fft // 2 + 1) * rate_hz / fft
    inside = (hertz >= LOW_HZ) & (hertz <= HIGH_HZ)
    semitone = np.zeros(len(hertz))
    semitone[inside] = (12 * np.log2(hertz[inside] / tuning_hz) + 9) % 12
    distance = np.abs((semitone[:, None] - np.arange(12) + 6) % 12 - 6)
    return np.maximum(1 - distance, 0) * inside[:, None]
