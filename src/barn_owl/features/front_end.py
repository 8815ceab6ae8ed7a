"""The front end: samples in, a (frames, features) array out, the same for a file and for a stream.

Frames are computed in chunks of a fixed number of rows, and frame *i* always sits in row *i mod CHUNK*.
Matrix products and vectorised transforms may round a row differently when the number of rows changes; with
the shape and the row fixed, the result cannot depend on how the samples were cut into blocks, nor on how many
chunks are computed at a time.
"""

from collections.abc import Iterable, Iterator
from functools import cached_property

import numpy as np

from barn_owl.audio.samples import as_mono
from barn_owl.errors import AudioError
from barn_owl.features.matrices import FrontEndMatrices
from barn_owl.features.stream import FrameStream


class FrontEnd(FrontEndMatrices):
    """How samples become frames of features; several features can be stacked.

    features : names in the order of the columns: ``power``, ``magnitude``, ``spectrogram``, ``mel``,
        ``log-mel``, ``mfcc``, ``chroma``, ``centroid`` ... ``flux`` (or all of them: ``shape``),
        ``zero-crossings``, ``level``, ``loudness``, ``pitch``, ``pitch-confidence``; ``deltas`` and
        ``second-deltas`` are of the feature named before them.
    pad_short : whether sound shorter than a frame is filled up with zeros to one frame, rather than refused.

    Each frame is weighted with a window, its power spectrum scaled so that a sine of amplitude 1 reads 1 at
    its peak. Levels are ``10 log10(power + 10^(floor_db / 10))``, in dB re a full-scale sine, and, with
    `range_db`, never further below the strongest band of their frame than that. Nothing depends on the rest
    of the recording beyond the neighbors that deltas, flux and loudness need.

    Examples
    --------
    >>> front_end = FrontEnd(rate_hz=16_000, bands=40, features=["log-mel", "deltas", "pitch"])
    >>> front_end.frames(np.zeros(16_000, dtype=np.float32)).shape
    (61, 81)
    """

    @cached_property
    def silence(self) -> np.ndarray:
        """The frame of no sound at all, float32, ``(width,)``."""
        rows = self.samples_for(2 * self.delta_frames + 1)
        return self.frames(np.zeros(rows, dtype=np.float32))[0]

    def frames(self, samples: np.ndarray, *, workers: int = 2) -> np.ndarray:
        """Compute the frames of `samples` at this front end's rate.

        Parameters
        ----------
        samples : np.ndarray
            Shape ``(samples,)``, or ``(samples, channels)`` to use the mean of the channels. Floats with full scale
            1.0; integers (uint8, int16, int32) are scaled by the range of their type.
        workers : int
            Threads that share a sound of some ten seconds or more; the frames are the same, bit for bit, however
            many.

        Returns
        -------
        np.ndarray
            Float32, shape ``(frames, width)``; `columns` and `units` describe the columns.

        Raises
        ------
        AudioError
            If the samples have an unsupported type or shape, are not finite, or too short for a frame.
        """
        samples = as_mono(samples)
        if len(samples) < self.frame and not (self.pad_short and len(samples)):
            raise AudioError(
                f"{len(samples)} samples ({len(samples) / self.rate_hz:.4g} s at {self.rate_hz} Hz) are too "
                f"short for one frame of {self.frame_ms:g} ms; pad_short fills them up with zeros"
            )
        stream = FrameStream(self, workers=workers)
        frames, rest = stream.push(samples), stream.finish()
        return np.concatenate([frames, rest]) if len(rest) else frames

    def stream(self, *, buffered: bool = False) -> FrameStream:
        """Start a stream that takes blocks of samples and returns frames as soon as they are complete.

        Parameters
        ----------
        buffered : bool
            Whether frames may wait until a whole chunk of them can be computed at once, which is faster.
        """
        return FrameStream(self, buffered=buffered)

    def frame_blocks(self, sound: Iterable[np.ndarray]) -> Iterator[np.ndarray]:
        """Yield the frames of mono sound that comes in blocks of any size, in memory that does not grow.

        Each block of frames is float32, ``(frames, width)``.

        Parameters
        ----------
        sound : Iterable[np.ndarray]
            Blocks of mono samples.

        Raises
        ------
        AudioError
            If samples are not finite.
        """
        stream = self.stream(buffered=True)
        for samples in sound:
            yield stream.push(samples)
        yield stream.finish()
