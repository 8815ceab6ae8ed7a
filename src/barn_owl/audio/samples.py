"""Checks of type and shape of samples, at the entrance of public functions."""

from typing import Any

import numpy as np

from barn_owl.errors import AudioError

MAX_CHANNELS = 64
"""Largest number of channels; a second axis that is longer means an array with channels first."""
FULL_SCALE = {np.dtype(np.uint8): 2.0**7, np.dtype(np.int16): 2.0**15, np.dtype(np.int32): 2.0**31}
"""Integer types of samples, with the value of full scale; unsigned types are centered on it."""
NOT_FINITE = "samples must be finite; there is NaN or infinity among them"
"""Message of the error of every function that needs finite samples."""


def as_samples(samples: Any, name: str = "samples") -> np.ndarray:
    """Return samples as float32 with full scale 1.0, ``(samples,)`` or ``(samples, channels)``.

    Integers are scaled by the range of their type, as in a file: uint8 (centered on 128), int16 and int32.

    Raises AudioError for another type or shape.
    """
    array = np.asarray(samples)
    if array.dtype in FULL_SCALE:
        scale = np.float32(FULL_SCALE[array.dtype])
        array = (array.astype(np.float32) - (scale if array.dtype == np.uint8 else np.float32(0))) / scale
    elif array.dtype.kind != "f":
        types = ", ".join(["float32", "float64", *map(str, FULL_SCALE)])
        raise AudioError(f"{name} must be of type {types}; got {array.dtype}")
    if array.ndim not in (1, 2) or (array.ndim == 2 and not 1 <= array.shape[1] <= MAX_CHANNELS):
        raise AudioError(f"{name} must have the shape (samples,) or (samples, channels); got {array.shape}")
    return array.astype(np.float32, copy=False)


def as_mono(samples: Any, name: str = "samples") -> np.ndarray:
    """Return samples as `as_samples` does, but mono: the mean of all channels, ``(samples,)``."""
    array = as_samples(samples, name)
    return array if array.ndim == 1 else mean_of_channels(array)


def mean_of_channels(block: np.ndarray) -> np.ndarray:
    """Return the mean over the channels of a block, ``(samples, channels)``."""
    if block.shape[1] == 1:
        return block[:, 0]
    # Channel by channel: a mean over so short an axis takes longer than the decoding.
    mixed = block[:, 0] + block[:, 1]
    for number in range(2, block.shape[1]):
        mixed += block[:, number]
    mixed /= np.float32(block.shape[1])
    return mixed
