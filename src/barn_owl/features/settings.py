"""Settings of a front end, and the sizes and column names derived from them."""

from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np
import scipy
from pydantic import Field, PrivateAttr, field_validator, model_validator

from barn_owl.features.catalog import FEATURES, GROUPS
from barn_owl.features.custom import CustomFeature, custom_feature, custom_names
from barn_owl.features.embedding import EmbeddingSettings, embedding_feature
from barn_owl.features.framing import frame_count, periodic_window
from barn_owl.features.mel import mel_edges
from barn_owl.settings import Settings
from barn_owl.wording import nearest_to

DELTAS = {"deltas": 1, "second-deltas": 2}
LOUDNESS, EMBEDDING = "loudness", "embedding"
LONGEST_FFT, LARGEST_BANK = 1 << 17, 1 << 24
"""Samples of a transform, and numbers of a filter bank, at most: 67 MB each, so that a plan or a model file from
someone else cannot take all memory.
"""


class FrontEndSettings(Settings):
    """How samples become frames of features; see `FrontEnd`, which computes them."""

    features: list[str] = Field(default=["log-mel"], min_length=1, max_length=64)
    """Features to stack."""
    rate_hz: int = Field(default=16_000, ge=1_000, le=384_000)
    """Sample rate inside; all sound is resampled to it."""
    frame_ms: float = Field(default=32.0, gt=0, le=1000)
    """Length of a frame."""
    hop_ms: float = Field(default=16.0, gt=0)
    """Step between frames."""
    window: str = "hann"
    """Window function, by its SciPy name."""
    fft: int | None = Field(default=None, ge=8, le=1 << 20)
    """Length of the Fourier transform in samples. Default: the frame length."""
    bands: int = Field(default=48, ge=1, le=512)
    """Number of mel bands."""
    low_hz: float = Field(default=50.0, ge=0)
    """Lower edge of the lowest band."""
    high_hz: float | None = None
    """Upper edge of the highest band. Default: half the sample rate."""
    floor_db: float = Field(default=-140.0, ge=-200, le=0)
    """Power added to each band, in dB re a full-scale sine, so that silence has a finite level."""
    range_db: float | None = Field(default=None, gt=0)
    """Dynamic range of a frame below its strongest band. Default: unlimited."""
    pad_short: bool = False
    """Whether sounds shorter than a frame are padded with zeros instead of refused."""
    coefficients: int = Field(default=13, ge=1)
    """Number of cepstral coefficients (`mfcc`)."""
    lifter: int = Field(default=0, ge=0)
    """Length of the sine lifter of cepstral coefficients; 0 turns it off."""
    delta_ms: float = Field(default=32.0, gt=0, le=1000)
    """Time before and after a frame that `deltas` use."""
    pitch_low_hz: float = Field(default=80.0, gt=0)
    """Lowest pitch to look for."""
    pitch_high_hz: float = Field(default=1000.0, gt=0)
    """Highest pitch to look for."""
    embedding: EmbeddingSettings | None = None
    """Section of the feature `embedding`, see below."""
    _custom: dict[str, CustomFeature] = PrivateAttr(default_factory=dict)  # goes into worker processes with the rest

    @field_validator("features")
    @classmethod
    def _known(cls, features: list[str]) -> list[str]:
        spread = [name for entry in features for name in GROUPS.get(entry, (entry,))]
        known = [*FEATURES, *DELTAS, LOUDNESS, EMBEDDING]
        for name in spread:
            if name not in known and not custom_feature(name):
                known += custom_names()
                raise ValueError(f"unknown feature {name!r}; {nearest_to(name, [*known, *GROUPS])}")
        if spread[0] in DELTAS:
            raise ValueError(f"{spread[0]} must come after the feature it is of")
        return spread

    @model_validator(mode="after")
    def _fits_together(self) -> "FrontEndSettings":
        if self.hop_ms > self.frame_ms:
            raise ValueError(f"hop_ms must be at most frame_ms={self.frame_ms:g}, got {self.hop_ms:g}")
        if self.hop < 1:
            raise ValueError(f"hop_ms={self.hop_ms:g} is less than one sample at {self.rate_hz} Hz")
        if self.frame < 4:
            raise ValueError(f"frame_ms={self.frame_ms:g} is less than four samples at {self.rate_hz} Hz")
        if self.fft is not None and self.fft < self.frame:
            raise ValueError(f"fft must be at least the frame's {self.frame} samples, got {self.fft}")
        if self.top_hz > self.rate_hz / 2:
            raise ValueError(f"high_hz must be at most half of rate_hz={self.rate_hz}, got {self.top_hz:g}")
        if self.low_hz >= self.top_hz:
            raise ValueError(f"low_hz must be below high_hz={self.top_hz:g}, got {self.low_hz:g}")
        self._check_sizes()
        if self.bands > self.fft_length // 2:
            raise ValueError(
                f"bands must be at most the {self.fft_length // 2} bins of the transform, got {self.bands}"
            )
        if "mfcc" in self.features and self.coefficients > self.bands:
            raise ValueError(f"coefficients must be at most bands={self.bands}, got {self.coefficients}")
        if self.pitch_low_hz >= self.pitch_high_hz:
            raise ValueError(
                f"pitch_low_hz must be below pitch_high_hz={self.pitch_high_hz:g}, got {self.pitch_low_hz:g}"
            )
        periodic_window(self.window, self.frame)  # reports an unknown name
        self._custom.update(self._found_custom())
        return self

    def _found_custom(self) -> dict[str, CustomFeature]:
        """Return the custom features by name; raises ValueError for another sample rate."""
        found = {name: feature for name in self.features if (feature := custom_feature(name))}
        if EMBEDDING in self.features:
            if self.embedding is None:
                raise ValueError("embedding: the feature 'embedding' needs this section, with the graph")
            rate_hz, hop_s, bands = self.rate_hz, self.hop_s, self.bands
            found[EMBEDDING] = embedding_feature(self.embedding, rate_hz=rate_hz, hop_s=hop_s, bands=bands)
        for name, feature in found.items():
            if feature.rate_hz not in {None, self.rate_hz}:
                raise ValueError(f"rate_hz: the feature {name!r} needs {feature.rate_hz}, got {self.rate_hz}")
        return found

    @property
    def custom(self) -> dict[str, CustomFeature]:
        """The custom features by name."""
        return self._custom

    def described(self) -> dict[str, Any]:
        """Return the settings as plain values, without an embedding that is not there."""
        return self.model_dump(exclude={"embedding"} if self.embedding is None else None)

    def identity(self) -> dict[str, Any]:
        """Return everything that decides the frames: settings, and versions of custom features."""
        custom = [feature.identity() for feature in self.custom.values()]
        return self.described() | ({"custom": custom} if custom else {})

    def _check_sizes(self) -> None:
        if self.fft_length > LONGEST_FFT or self.bands * self.fft_length > LARGEST_BANK:
            raise ValueError(
                f"a transform of {self.fft_length} samples with {self.bands} bands is more than makes sense; "
                f"at most {LONGEST_FFT}, and {LARGEST_BANK} numbers in the filters: a shorter frame_ms or fft"
            )

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
    def delta_frames(self) -> int:
        """Frames before and after a frame for its slope."""
        return max(1, round(self.delta_ms / 1000 / self.hop_s))

    @property
    def fft_length(self) -> int:
        """Length of the transform: as requested, or the frame zero-padded to a size that is fast."""
        if self.fft is not None:
            return self.fft
        # A power of two is fast, without importing scipy.fft to find out.
        if self.frame & (self.frame - 1) == 0:
            return self.frame
        return scipy.fft.next_fast_len(self.frame, real=True)

    @property
    def bin_hz(self) -> float:
        """Width of a bin of the transform in hertz."""
        return self.rate_hz / self.fft_length

    @property
    def centers_hz(self) -> np.ndarray:
        """Center frequency of each mel band in hertz, shape ``(bands,)``."""
        return mel_edges(self.bands, self.low_hz, self.top_hz)[1:-1]

    @property
    def is_log_mel(self) -> bool:
        """Whether the frames are log-mel and nothing else."""
        return self.features == ["log-mel"]

    @cached_property
    def layout(self) -> list[tuple[str, int, list[str], str]]:
        """For each feature: its base feature, order of deltas, column names, unit."""
        parts: list[tuple[str, int, list[str], str]] = []
        base = self.features[0]
        for name in self.features:
            times = DELTAS.get(name, 0)
            base = base if times else name
            feature, custom = FEATURES.get(base), self.custom.get(base)
            names = feature.names(self) if feature else list(custom.columns) if custom else [LOUDNESS]
            unit = feature.unit if feature else custom.unit if custom else "LUFS"
            if times:
                names, unit = (
                    [f"{name} of {column}" for column in names],
                    f"{unit} per frame{'²' if times == 2 else ''}",
                )
            parts.append((base, times, names, unit))
        return parts

    @cached_property
    def columns(self) -> list[str]:
        """Name of each column of the frames."""
        return [name for _, _, names, _ in self.layout for name in names]

    @cached_property
    def units(self) -> list[str]:
        """Unit of each column of the frames."""
        return [unit for _, _, names, unit in self.layout for _ in names]

    @cached_property
    def widths(self) -> dict[str, int]:
        """Number of columns of each feature that is computed."""
        return {base: len(names) for base, _, names, _ in self.layout}

    @property
    def width(self) -> int:
        """Number of columns of the frames."""
        return len(self.columns)

    @property
    def level_columns(self) -> slice:
        """Columns with levels: log-mel where present, else all."""
        first = 0
        for base, times, names, _ in self.layout:
            if base == "log-mel" and not times:
                return slice(first, first + len(names))
            first += len(names)
        return slice(0, first)

    @property
    def caveats(self) -> list[str]:
        """Settings that work but hardly as intended, in words."""
        found = []
        edges = mel_edges(self.bands, self.low_hz, self.top_hz)
        narrow = int((np.diff(edges)[1:] < self.bin_hz).sum())
        if narrow and {"mel", "log-mel", "mfcc"} & set(self.features):
            found.append(
                f"{narrow} of {self.bands} mel bands are narrower than a bin of the transform, {self.bin_hz:.3g} Hz, "
                "so neighbors say nearly the same; take fewer bands, a higher low_hz or a longer frame"
            )
        if {"pitch", "pitch-confidence"} & set(self.features) and self.frame < 2 * self.rate_hz / self.pitch_low_hz:
            found.append(
                f"a frame of {self.frame_ms:g} ms is too short for a pitch of {self.pitch_low_hz:g} Hz, which needs "
                f"{2000 / self.pitch_low_hz:.3g} ms; no pitch below {2000 / self.frame_ms:.3g} Hz will be found"
            )
        found += [f"{after} is named twice in a row" for before, after in pairwise(self.features) if before == after]
        return found

    def count(self, samples: int) -> int:
        """Count the frames in `samples` samples."""
        return frame_count(samples, self.frame, self.hop)

    def samples_for(self, frames: int) -> int:
        """Count the samples that `frames` frames cover."""
        return (frames - 1) * self.hop + self.frame

    def times(self, frames: int) -> np.ndarray:
        """Time of the middle of each frame in seconds, shape ``(frames,)``."""
        return (np.arange(frames) * self.hop + self.frame / 2) / self.rate_hz
