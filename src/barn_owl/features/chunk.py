"""Per-frame computations: shared stages, and the features derived from them.

Everything works on whole chunks of rows, see `front_end`. A stage (power spectrum, mel, ...) is computed
once however many features use it.
"""

from collections.abc import Callable

import numpy as np
import scipy

from barn_owl.features import shape
from barn_owl.features.matrices import FrontEndMatrices
from barn_owl.features.pitch import PitchFinder
from barn_owl.features.products import CHUNK, product
from barn_owl.once import once

GROUP_BYTES = 1 << 21
"""Chunks are computed together up to this size of their transform, and `GROUP` of them: fewer, longer calls."""
GROUP = 8
TOGETHER = 16
"""A transform works on a few rows side by side, and may round the rest over otherwise."""
TEN = np.float32(10)


class Workspace:
    """Reused memory for the chunks of a stream: allocation would take longer than the arithmetic."""

    def __init__(self, front_end: FrontEndMatrices) -> None:
        self.rows = CHUNK * max(1, min(GROUP, GROUP_BYTES // (4 * CHUNK * front_end.fft_length)))
        self._front_end = front_end
        self._kept: dict[str, np.ndarray] = {}

    def __call__(self, name: str, rows: int, columns: int) -> np.ndarray:
        """Return float32 memory with undefined content, the same for the same name: ``(rows, columns)``."""
        kept = self._kept.get(name)
        if kept is None or len(kept) < rows:
            kept = self._kept[name] = np.empty((rows, columns), dtype=np.float32)
        return kept[:rows]

    @once
    def pitch_finder(self) -> PitchFinder:
        """Created when pitch is requested."""
        end = self._front_end
        return PitchFinder(CHUNK, end.frame, end.hop, end.rate_hz, end.pitch_low_hz, end.pitch_high_hz)


class Chunks:
    """Stages of chunks of framed samples, each computed on first use.

    before : the magnitude spectrum of the frame before the first, or None.
    """

    def __init__(
        self, front_end: FrontEndMatrices, frames: np.ndarray, space: Workspace, before: np.ndarray | None
    ) -> None:
        self.front_end, self.rows, self._frames, self._space = front_end, len(frames), frames, space
        self.before = before
        self._whole = -(-self.rows // CHUNK) * CHUNK  # rows of all chunks; the last chunk is padded

    @once
    def samples(self) -> np.ndarray:
        """The samples of each frame, not windowed; rows beyond the frames are 0."""
        samples = self._space("samples", self._whole, self.front_end.frame)
        samples[: self.rows] = self._frames
        samples[self.rows :] = 0
        return samples

    @once
    def squares(self) -> np.ndarray:
        """Squares of the transform's real and imaginary parts, ``(rows, fft_length)``.

        Column 0 is the real part of bin 0, then real and imaginary part of each bin in turns; the parts that
        are always 0 are skipped. This layout is transformed in place, which saves a fifth of the time.
        """
        length, columns = self.front_end.frame, self.front_end.fft_length
        squares = self._space("squares", self._whole, columns)
        squares[: self.rows, :length] = self._frames
        squares[: self.rows, length:] = 0
        squares[self.rows :] = 0
        windowed = squares.reshape(-1, CHUNK, columns)[:, :, :length]
        np.multiply(windowed, self.front_end.window_rows, out=windowed)
        filled = squares[: -(-self.rows // TOGETHER) * TOGETHER]
        transform = scipy.fftpack.rfft(filled, axis=1, overwrite_x=True)
        np.multiply(transform, transform, out=filled)
        return squares

    @once
    def power(self) -> np.ndarray:
        """Power spectrum, ``(rows, bins)``."""
        squares, bins = self.squares, self.front_end.fft_length // 2 + 1
        power = self._space("power", self._whole, bins)
        power[:, 0] = squares[:, 0]
        paired = (squares.shape[1] - 1) // 2
        np.add(squares[:, 1 : 2 * paired : 2], squares[:, 2 : 2 * paired + 1 : 2], out=power[:, 1 : paired + 1])
        if bins > paired + 1:  # an even length: the highest bin is real, like the lowest
            power[:, -1] = squares[:, -1]
        return power

    @once
    def magnitude(self) -> np.ndarray:
        """Magnitude spectrum, ``(rows, bins)``."""
        return np.sqrt(self.power, out=self._space("magnitude", *self.power.shape))

    @once
    def mel(self) -> np.ndarray:
        """Mel bands, power, ``(rows, bands)``."""
        mel = self._space("mel", self._whole, self.front_end.bands)
        for bands, parts, weights in self.front_end.mel_blocks:
            product(self.squares[:, parts], weights, out=mel[:, bands])
        return mel

    @once
    def log_mel(self) -> np.ndarray:
        """Mel bands in dB, ``(rows, bands)``."""
        return self.decibel(self.mel, "log mel")

    def decibel(self, power: np.ndarray, name: str) -> np.ndarray:
        """Return power in dB, with the floor added and the range of each frame limited; name : of its memory."""
        levels = np.add(power, self.front_end.floor, out=self._space(name, *power.shape))
        np.log10(levels, out=levels)
        levels *= TEN
        if self.front_end.range_db is not None:
            np.maximum(levels, levels.max(axis=1, keepdims=True) - np.float32(self.front_end.range_db), out=levels)
        return levels

    @once
    def blocks(self) -> shape.Blocks:
        """Sums of the power spectrum over blocks of bins."""
        return shape.Blocks(self.power, self.front_end.bin_hz)

    @once
    def moments(self) -> np.ndarray:
        """Spectral moments, ``(rows, 4)``."""
        return self.blocks.moments()

    @once
    def log_power(self) -> np.ndarray:
        """Natural logarithm of the power spectrum, ``(rows, bins)``."""
        log_power = np.add(self.power, np.float32(shape.TINY), out=self._space("log power", *self.power.shape))
        return np.log(log_power, out=log_power)

    @once
    def pitch(self) -> np.ndarray:
        """Pitch and confidence, ``(rows, 2)``."""
        find, samples = self._space.pitch_finder.find, self.samples
        firsts = range(0, len(samples), CHUNK)
        return np.concatenate([find(samples[n : n + CHUNK], min(self.rows - n, CHUNK)) for n in firsts])

    def crossings(self) -> np.ndarray:
        """Changes of sign in each second."""
        negative = np.signbit(self.samples)
        count = np.bitwise_count(np.packbits(negative[:, 1:] != negative[:, :-1], axis=1)).sum(axis=1)
        return count * (self.front_end.rate_hz / (self.samples.shape[1] - 1))

    def level(self) -> np.ndarray:
        """Root mean square in dB re a full-scale sine."""
        power = 2 * np.einsum("fs,fs->f", self.samples, self.samples) / np.float32(self.samples.shape[1])
        return TEN * np.log10(power + self.front_end.floor)


COMPUTED: dict[str, Callable[[Chunks], np.ndarray]] = {
    "power": lambda c: c.power,
    "magnitude": lambda c: c.magnitude,
    "spectrogram": lambda c: c.decibel(c.power, "spectrogram"),
    "mel": lambda c: c.mel,
    "log-mel": lambda c: c.log_mel,
    "mfcc": lambda c: product(c.log_mel, c.front_end.cosines),
    "chroma": lambda c: _shares(product(c.power, c.front_end.pitch_classes)),
    "centroid": lambda c: c.moments[:, 0],
    "spread": lambda c: c.moments[:, 1],
    "skewness": lambda c: c.moments[:, 2],
    "kurtosis": lambda c: c.moments[:, 3],
    "roll-off": lambda c: c.blocks.roll_off(),
    "flatness": lambda c: shape.flatness(c.power, c.log_power),
    "crest": lambda c: shape.crest(c.power),
    "slope": lambda c: shape.slope(c.log_power, c.front_end.bin_hz),
    "flux": lambda c: shape.flux(c.magnitude, c.before),
    "zero-crossings": Chunks.crossings,
    "level": Chunks.level,
    "pitch": lambda c: c.pitch[:, 0],
    "pitch-confidence": lambda c: c.pitch[:, 1],
}
"""How each feature of the catalog is computed of chunks."""


def _shares(power: np.ndarray) -> np.ndarray:
    return power / np.maximum(power.sum(axis=1, keepdims=True), np.float32(shape.TINY))
