"""Arrays that begin where vector instructions like it."""

import math
from typing import Any

import numpy as np

LINE = 64
"""Bytes of a line of the cache, and of the longest vector register."""


def aligned_empty(shape: int | tuple[int, ...], dtype: Any = np.float32) -> np.ndarray:
    """Return an array with undefined content that begins on a line of the cache.

    NumPy's own begin 16 bytes off as a rule, so that every long load and store straddles two lines: sums and products
    of two arrays take half as long again.
    """
    shape, dtype = (shape,) if isinstance(shape, int) else shape, np.dtype(dtype)
    size = math.prod(shape) * dtype.itemsize
    memory = np.empty(size + LINE, dtype=np.uint8)
    begin = -memory.ctypes.data % LINE
    return memory[begin : begin + size].view(dtype).reshape(shape)
