"""Changing the sample rate, in one go or block by block with the same result."""

from collections.abc import Iterable, Iterator

import numpy as np
import soxr


def resample_blocks(blocks: Iterable[np.ndarray], from_hz: int, to_hz: int) -> Iterator[np.ndarray]:
    """Resample mono float32 `blocks` as one continuous signal; empty results are not passed on."""
    if from_hz == to_hz:
        yield from blocks
        return
    resampler = soxr.ResampleStream(from_hz, to_hz, 1, dtype="float32", quality="HQ")
    for block in blocks:
        out = resampler.resample_chunk(block)
        if len(out):
            yield out
    tail = resampler.resample_chunk(np.empty(0, dtype=np.float32), last=True)
    if len(tail):
        yield tail


def resample(samples: np.ndarray, from_hz: int, to_hz: int) -> np.ndarray:
    """Resample mono `samples`, shape ``(samples,)``, from one rate to another; float32.

    >>> import numpy as np
    >>> resample(np.zeros(48_000, dtype=np.float32), 48_000, 16_000).shape
    (16000,)
    """
    if from_hz == to_hz:
        return samples
    blocks = list(resample_blocks([np.ascontiguousarray(samples, dtype=np.float32)], from_hz, to_hz))
    return np.concatenate(blocks) if blocks else np.empty(0, dtype=np.float32)
