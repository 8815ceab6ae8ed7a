"""Framing of samples, and the window function."""

import numpy as np

from barn_owl.errors import AudioError


def frame_count(samples: int, frame: int, hop: int) -> int:
    """Count the whole frames in `samples` samples; a partial last frame is dropped.

    >>> frame_count(1000, frame=400, hop=160)
    4
    """
    return 0 if samples < frame else (samples - frame) // hop + 1


def frame_view(samples: np.ndarray, frame: int, hop: int) -> np.ndarray:
    """View mono `samples`, shape ``(samples,)``, as frames, ``(frames, frame)``, without a copy; read only.

    Frame *i* covers samples ``i * hop`` to ``i * hop + frame``. Raises AudioError for less than a frame.
    """
    if len(samples) < frame:
        raise AudioError(f"{len(samples)} samples are too short for one frame of {frame} samples")
    shape = frame_count(len(samples), frame, hop), frame
    view = np.ndarray(shape, samples.dtype, samples, strides=(hop * samples.itemsize, samples.itemsize))
    view.flags.writeable = False
    return view


def periodic_window(name: str, samples: int) -> np.ndarray:
    """Return a periodic window, float64, ``(samples,)``, by its name in SciPy; ValueError for an unknown name."""
    if name == "hann":  # without the cost of importing scipy.signal
        return np.sin(np.pi * np.arange(samples) / samples) ** 2
    from scipy.signal import get_window

    try:
        return np.asarray(get_window(name, samples))
    except ValueError as error:
        raise ValueError(f"window {name!r} is not known: {error}") from None
