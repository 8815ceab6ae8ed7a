"""The catalog of features: names and units of their columns, formulas and sources."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from barn_owl.features.chroma import CLASSES


class Bins(Protocol):
    """Sizes and frequencies that column names depend on."""

    @property
    def coefficients(self) -> int: ...

    @property
    def fft_length(self) -> int: ...

    @property
    def bin_hz(self) -> float: ...

    @property
    def centers_hz(self) -> np.ndarray: ...


@dataclass(frozen=True)
class Feature:
    """A feature: columns with names and a unit.

    formula and source are for the reference page.
    """

    unit: str
    names: Callable[[Bins], list[str]]
    formula: str
    source: str = ""


def _one(name: str) -> Callable[[Bins], list[str]]:
    return lambda _: [name]


def _bins(kind: str) -> Callable[[Bins], list[str]]:
    return lambda f: [f"{kind} {k * f.bin_hz:.6g} Hz" for k in range(f.fft_length // 2 + 1)]


def _bands(kind: str) -> Callable[[Bins], list[str]]:
    return lambda f: [f"{kind} {number + 1} ({hz:.0f} Hz)" for number, hz in enumerate(f.centers_hz)]


PEETERS = "G. Peeters, A large set of audio features, IRCAM, 2004"
FEATURES: dict[str, Feature] = {
    "power": Feature("re full-scale sine", _bins("power"), "squared magnitude of the windowed transform"),
    "magnitude": Feature("re full-scale sine", _bins("magnitude"), "magnitude of the windowed transform"),
    "spectrogram": Feature("dB re full-scale sine", _bins("level"), "10 log10(power + floor)"),
    "mel": Feature("re full-scale sine", _bands("mel power"), "power summed under triangles equally wide in mel"),
    "log-mel": Feature("dB re full-scale sine", _bands("mel"), "10 log10(mel + floor)"),
    "mfcc": Feature(
        "dB",
        lambda f: [f"mfcc {n}" for n in range(f.coefficients)],
        "orthonormal DCT-II of log-mel, first coefficients, liftered",
        "Davis and Mermelstein, IEEE Trans. ASSP 28(4), 1980",
    ),
    "chroma": Feature(
        "share of power",
        lambda _: [f"chroma {name}" for name in CLASSES],
        "power from 100 Hz to 5 kHz by pitch class, divided by its sum",
    ),
    "centroid": Feature("Hz", _one("centroid"), "sum f p, p = power / sum power", PEETERS),
    "spread": Feature("Hz", _one("spread"), "sqrt(sum (f - centroid)^2 p)", PEETERS),
    "skewness": Feature("1", _one("skewness"), "sum (f - centroid)^3 p / spread^3", PEETERS),
    "kurtosis": Feature("1", _one("kurtosis"), "sum (f - centroid)^4 p / spread^4", PEETERS),
    "roll-off": Feature("Hz", _one("roll-off"), "lowest f that has 85 % of the power below it", PEETERS),
    "flatness": Feature("1", _one("flatness"), "geometric / arithmetic mean of the power", PEETERS),
    "crest": Feature("1", _one("crest"), "largest / mean power", PEETERS),
    "slope": Feature("dB/kHz", _one("slope"), "least-squares line through the spectrum in dB", PEETERS),
    "flux": Feature(
        "1", _one("flux"), "|m[t]/|m[t]| - m[t-1]/|m[t-1]||, m the magnitude spectrum; 0 for the first frame", PEETERS
    ),
    "zero-crossings": Feature("1/s", _one("zero-crossings"), "changes of sign in a second"),
    "level": Feature("dB re full-scale sine", _one("level"), "10 log10(2 mean x^2 + floor)"),
    "pitch": Feature(
        "Hz",
        _one("pitch"),
        "first dip of the cumulative mean normalized difference, parabolic interpolation",
        "de Cheveigné and Kawahara, J. Acoust. Soc. Am. 111(4), 2002",
    ),
    "pitch-confidence": Feature("1", _one("pitch-confidence"), "1 - normalized difference at the dip", "as pitch"),
}
GROUPS = {"shape": ("centroid", "spread", "skewness", "kurtosis", "roll-off", "flatness", "crest", "slope", "flux")}
"""Names that stand for several features."""
