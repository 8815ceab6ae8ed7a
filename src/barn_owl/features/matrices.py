"""The matrices of a front end, each computed once."""

from functools import cached_property

import numpy as np

from barn_owl.features.cepstrum import cosine_matrix
from barn_owl.features.chroma import chroma_matrix
from barn_owl.features.framing import periodic_window
from barn_owl.features.mel import mel_bank
from barn_owl.features.products import CHUNK
from barn_owl.features.settings import FrontEndSettings


class FrontEndMatrices(FrontEndSettings):
    """Window, filters and transforms that follow from the settings."""

    @cached_property
    def window_rows(self) -> np.ndarray:
        """The window, scaled so that a full-scale sine has a spectral peak of 1, float32, ``(CHUNK, frame)``.

        Repeated for each row of a chunk: a product of equal shapes is three times faster here.
        """
        window = periodic_window(self.window, self.frame)
        return np.tile((window * 2 / window.sum()).astype(np.float32), (CHUNK, 1))

    @cached_property
    def mel_blocks(self) -> list[tuple[slice, slice, np.ndarray]]:
        """The mel bank in a few blocks (bands, columns, weights): most of the full matrix is zero.

        Each bin's weight is repeated for the squares of its real and imaginary part (see `Chunk.squares`), so that
        the matrix product also adds them.
        """
        bank = mel_bank(self.bands, self.low_hz, self.top_hz, self.rate_hz, self.fft_length).astype(np.float32)
        twice = bank[(np.arange(self.fft_length) + 1) // 2]
        blocks = []
        for bands in np.array_split(np.arange(self.bands), min(3, self.bands)):
            used = np.flatnonzero(twice[:, bands].any(axis=1))
            columns = slice(int(used[0]), int(used[-1]) + 1)
            group = slice(int(bands[0]), int(bands[-1]) + 1)
            blocks.append((group, columns, np.ascontiguousarray(twice[columns, group])))
        return blocks

    @cached_property
    def cosines(self) -> np.ndarray:
        """Matrix from log-mel to cepstral coefficients, float32, ``(bands, coefficients)``."""
        return cosine_matrix(self.bands, self.coefficients, self.lifter).astype(np.float32)

    @cached_property
    def pitch_classes(self) -> np.ndarray:
        """Matrix from power spectrum to pitch classes, float32, ``(bins, 12)``."""
        return chroma_matrix(self.fft_length, self.rate_hz).astype(np.float32)

    @cached_property
    def floor(self) -> np.float32:
        """The floor as power."""
        return np.float32(10 ** (self.floor_db / 10))
