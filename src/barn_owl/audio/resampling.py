"""Sample rate conversion of whole signals or block by block, with identical results."""

from collections.abc import Iterable, Iterator

import numpy as np
import soxr

from barn_owl.audio.samples import as_mono
from barn_owl.errors import AudioError

MAX_RATE_HZ = 10_000_000


class Resampler:
    """Streaming resampler of mono float32 blocks of a continuous signal."""

    def __init__(self, from_hz: int, to_hz: int) -> None:
        for rate_hz in (from_hz, to_hz):
            if not 1 <= rate_hz <= MAX_RATE_HZ:
                raise AudioError(f"a sample rate must be 1 to {MAX_RATE_HZ} Hz, got {rate_hz:.6g}")
        same = from_hz == to_hz
        self._stream = None if same else soxr.ResampleStream(from_hz, to_hz, 1, dtype="float32", quality="HQ")

    def push(self, block: np.ndarray) -> np.ndarray:
        """Take a block; return the samples that are complete."""
        return block if self._stream is None else self._stream.resample_chunk(block)

    def finish(self) -> np.ndarray:
        """Return the end of the signal."""
        rest = np.empty(0, dtype=np.float32)
        return rest if self._stream is None else self._stream.resample_chunk(rest, last=True)


def resample_blocks(blocks: Iterable[np.ndarray], from_hz: int, to_hz: int) -> Iterator[np.ndarray]:
    """Resample mono float32 `blocks` of a continuous signal; empty blocks are dropped."""
    resampler = Resampler(from_hz, to_hz)
    for block in blocks:
        out = resampler.push(block)
        if len(out):
            yield out
    tail = resampler.finish()
    if len(tail):
        yield tail


def resample(samples: np.ndarray, from_hz: int, to_hz: int) -> np.ndarray:
    """Resample `samples`; returns mono float32. Types and shapes as for `barn_owl.FrontEnd.frames`.

    Parameters
    ----------
    samples : np.ndarray
        Samples, ``(samples,)`` or ``(samples, channels)``.
    from_hz : int
        Sample rate before and after, in Hz.
    to_hz : int
        Sample rate before and after, in Hz.

    Examples
    --------
    >>> import numpy as np
    >>> resample(np.zeros(48_000, dtype=np.float32), 48_000, 16_000).shape
    (16000,)
    """
    samples = as_mono(samples)
    if from_hz == to_hz:
        return samples
    blocks = list(resample_blocks([np.ascontiguousarray(samples)], from_hz, to_hz))
    return np.concatenate(blocks) if blocks else np.empty(0, dtype=np.float32)
