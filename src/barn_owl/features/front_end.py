"""The front end: samples in, log-mel frames out, the same for a file and for a stream.

Frames are computed in chunks of a fixed number of rows, and frame *i* always sits in row *i mod CHUNK*.
Matrix products and vectorised transforms may round a row differently when the number of rows changes; with
the shape and the row fixed, the result cannot depend on how the samples were cut into blocks.
"""

from functools import cached_property

import numpy as np
import scipy.fft
from pydantic import Field, model_validator

from barn_owl.errors import AudioError
from barn_owl.features.framing import frame_count, frame_view
from barn_owl.features.mel import mel_bank, mel_edges
from barn_owl.settings import Settings

CHUNK = 192
"""Frames computed at a time: few enough to stay in cache, enough to outweigh the cost of a call."""


class FrontEnd(Settings):
    """How samples become log-mel frames, in dB relative to a full-scale sine.

    Each frame is weighted with a Hann window, its power spectrum scaled so that a sine of amplitude 1 reads
    1 at its peak, gathered into triangular mel bands (see `mel_bank`) and given as
    ``10 log10(power + 10^(floor_db / 10))``. Nothing depends on the rest of the recording.

    >>> front_end = FrontEnd(rate_hz=16_000, bands=40)
    >>> front_end.frames(np.zeros(16_000, dtype=np.float32)).shape
    (97, 40)
    """

    rate_hz: int = Field(default=16_000, ge=1_000, le=384_000)
    frame_ms: float = Field(default=32.0, gt=0, le=1000)
    hop_ms: float = Field(default=10.0, gt=0)
    bands: int = Field(default=48, ge=1, le=512)
    low_hz: float = Field(default=50.0, ge=0)
    high_hz: float | None = None
    floor_db: float = Field(default=-100.0, ge=-200, le=0)

    @model_validator(mode="after")
    def _fits_together(self) -> "FrontEnd":
        if self.hop_ms > self.frame_ms:
            raise ValueError(f"hop_ms must be at most frame_ms={self.frame_ms:g}, got {self.hop_ms:g}")
        if self.hop < 1:
            raise ValueError(f"hop_ms={self.hop_ms:g} is less than one sample at {self.rate_hz} Hz")
        if self.top_hz > self.rate_hz / 2:
            raise ValueError(f"high_hz must be at most half of rate_hz={self.rate_hz}, got {self.top_hz:g}")
        if self.low_hz >= self.top_hz:
            raise ValueError(f"low_hz must be below high_hz={self.top_hz:g}, got {self.low_hz:g}")
        return self

    @property
    def top_hz(self) -> float:
        """Upper edge of the highest band in hertz."""
        return self.rate_hz / 2 if self.high_hz is None else self.high_hz

    @property
    def frame(self) -> int:
        """Length of a frame in samples."""
        return round(self.frame_ms * self.rate_hz / 1000)

    @property
    def hop(self) -> int:
        """Step between frames in samples."""
        return round(self.hop_ms * self.rate_hz / 1000)

    @property
    def hop_s(self) -> float:
        """Step between frames in seconds, as it really is after rounding to samples."""
        return self.hop / self.rate_hz

    @property
    def fft(self) -> int:
        """Length of the transform: the frame, zero-padded to a size that is fast."""
        return scipy.fft.next_fast_len(self.frame, real=True)

    @property
    def centres_hz(self) -> np.ndarray:
        """Centre frequency of each band in hertz, shape ``(bands,)``."""
        return mel_edges(self.bands, self.low_hz, self.top_hz)[1:-1]

    @cached_property
    def _window(self) -> np.ndarray:
        """Periodic Hann window, scaled so that a full-scale sine has a spectral peak of 1.

        Repeated for each row of a chunk: a product of equal shapes is three times faster here.
        """
        hann = np.sin(np.pi * np.arange(self.frame) / self.frame) ** 2
        return np.tile((hann * 2 / hann.sum()).astype(np.float32), (CHUNK, 1))

    @cached_property
    def _bank(self) -> list[tuple[slice, slice, np.ndarray]]:
        """The mel bank in a few blocks (bands, parts, weights): most of the full matrix is zero.

        Each bin's weight stands twice, for the squares of its real and its imaginary part, so that the
        matrix product also adds the two up.
        """
        bank = mel_bank(self.bands, self.low_hz, self.top_hz, self.rate_hz, self.fft).astype(np.float32)
        blocks = []
        for bands in np.array_split(np.arange(self.bands), min(3, self.bands)):
            used = np.flatnonzero(bank[:, bands].any(axis=1))
            parts = slice(2 * int(used[0]), 2 * int(used[-1]) + 2)
            group = slice(int(bands[0]), int(bands[-1]) + 1)
            weights = np.repeat(bank[used[0] : used[-1] + 1, group], 2, axis=0)
            blocks.append((group, parts, np.ascontiguousarray(weights)))
        return blocks

    def count(self, samples: int) -> int:
        """Count the frames in `samples` samples."""
        return frame_count(samples, self.frame, self.hop)

    def samples_for(self, frames: int) -> int:
        """Count the samples that `frames` frames cover."""
        return (frames - 1) * self.hop + self.frame

    def frames(self, samples: np.ndarray) -> np.ndarray:
        """Compute the log-mel frames of mono `samples` at this front end's rate.

        samples : shape ``(samples,)``, full scale 1.0. Returns float32, shape ``(frames, bands)``, in dB.
        Raises AudioError when the samples are not mono, not finite, or too short for one frame.
        """
        samples = np.asarray(samples)
        if samples.ndim != 1:
            raise AudioError(f"samples must be mono, shape (samples,); got shape {samples.shape}")
        if len(samples) < self.frame:
            raise AudioError(
                f"{len(samples)} samples ({len(samples) / self.rate_hz:.4g} s at {self.rate_hz} Hz) are too "
                f"short for one frame of {self.frame_ms:g} ms"
            )
        return self.stream().push(samples)

    def stream(self) -> "FrameStream":
        """Start a stream that takes blocks of samples and gives the frames as they become whole."""
        return FrameStream(self)

    def chunk(self, frames: np.ndarray, buffer: np.ndarray, mel: np.ndarray) -> None:
        """Write the log-mel of up to `CHUNK` framed samples to `mel`, ``(CHUNK, bands)``.

        `buffer`, ``(CHUNK, frame)``, is overwritten; rows of `mel` beyond the frames mean nothing.
        """
        rows = len(frames)
        np.copyto(buffer[:rows], frames)
        buffer[rows:] = 0
        buffer *= self._window
        squares = scipy.fft.rfft(buffer, n=self.fft, axis=1).view(np.float32)
        squares *= squares
        for bands, parts, weights in self._bank:
            np.matmul(squares[:, parts], weights, out=mel[:, bands])
        mel += np.float32(10 ** (self.floor_db / 10))
        np.log10(mel, out=mel)
        mel *= np.float32(10)


class FrameStream:
    """Turns blocks of samples of any size into the frames of the continuous signal."""

    def __init__(self, front_end: FrontEnd) -> None:
        self.front_end = front_end
        self.given = 0
        """Frames given out so far."""
        self._kept = np.empty(0, dtype=np.float32)  # samples from the first frame of the open chunk on
        self._buffer = np.empty((CHUNK, front_end.frame), dtype=np.float32)
        self._mel = np.empty((CHUNK, front_end.bands), dtype=np.float32)

    def push(self, samples: np.ndarray) -> np.ndarray:
        """Take mono samples and return the frames that became whole; float32, ``(frames, bands)``.

        Raises AudioError when a sample is not finite.
        """
        front_end = self.front_end
        kept = samples.astype(np.float32, copy=False)
        if len(self._kept):
            kept = np.concatenate([self._kept, kept])
        open_rows = self.given % CHUNK  # rows of the open chunk that were given out already
        available = front_end.count(len(kept))
        if available <= open_rows:
            self._kept = kept.copy()
            return np.empty((0, front_end.bands), dtype=np.float32)
        out = self._frames(frame_view(kept, front_end.frame, front_end.hop), open_rows)
        # One sample that is not a number spoils every band of its frames.
        if not np.isfinite(out).all():
            raise AudioError("samples must be finite; there is NaN or infinity among them")
        self.given += len(out)
        self._kept = kept[available // CHUNK * CHUNK * front_end.hop :].copy()
        return out

    def _frames(self, view: np.ndarray, skip: int) -> np.ndarray:
        """Log-mel of framed samples, the first of which begins a chunk, without the first `skip` rows."""
        out = np.empty((len(view) - skip, self.front_end.bands), dtype=np.float32)
        for first in range(0, len(view), CHUNK):
            frames, begin = view[first : first + CHUNK], max(skip - first, 0)
            if len(frames) == CHUNK and not begin:
                self.front_end.chunk(frames, self._buffer, out[first - skip : first - skip + CHUNK])
            else:
                self.front_end.chunk(frames, self._buffer, self._mel)
                out[first + begin - skip : first + len(frames) - skip] = self._mel[begin : len(frames)]
        return out
