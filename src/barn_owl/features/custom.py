"""Custom features: functions of a program or of another package, as columns of the front end.

The function is called with a fixed number of samples at fixed positions of the sound, so a stream gives the same rows
as a file, whatever the sizes of its blocks. Each frame takes the row whose window is centered nearest to it.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from barn_owl.errors import PlanError
from barn_owl.extensions import installed
from barn_owl.features.catalog import FEATURES, GROUPS

if TYPE_CHECKING:
    from barn_owl.features.settings import FrontEndSettings

ENTRY_POINTS = "barn_owl.features"
RESERVED = (*FEATURES, *GROUPS, "deltas", "second-deltas", "loudness")


@dataclass(frozen=True, kw_only=True, eq=False)
class CustomFeature:
    """A feature computed by a function that is not part of this library.

    Attributes
    ----------
    name : str
        Name in ``front_end.features``.
    compute : Callable[[np.ndarray, float], np.ndarray]
        Called with samples, float32, ``((rows - 1) * hop + window,)``, and their rate in Hz. Returns finite numbers,
        ``(rows, len(columns))``; row *i* describes the `window_s` seconds from ``i * hop_s`` on. With
        ``takes="log-mel"``, called with log-mel frames, ``((rows - 1) * hop + window, bands)`` in dB, and their rate.
    columns : Sequence[str]
        Names of the columns.
    unit : str
        Unit of the columns.
    window_s, hop_s : float | None
        Window of a row, and time from one row to the next, in seconds. Default: frame and hop of the front end.
    rate_hz : int | None
        Sample rate that the function needs; the front end must have it. Default: any.
    takes : Literal["samples", "log-mel"]
        Input of the function.
    rows : int
        Rows per call. More rows mean fewer calls; in a stream, a row waits for the rest of its call.
    version : str
        Version of the computation. Models and caches of another version are not used.

    Examples
    --------
    >>> def peak_db(samples, rate_hz):
    ...     windows = np.lib.stride_tricks.sliding_window_view(samples, 512)[::256]
    ...     return 20 * np.log10(np.abs(windows).max(axis=1, keepdims=True) + 1e-6)
    >>> peak = barn_owl.features.CustomFeature(
    ...     name="peak", compute=peak_db, columns=["peak"], unit="dB", window_s=0.032, hop_s=0.016, rate_hz=16_000
    ... )
    >>> barn_owl.features.register_feature(peak)
    >>> barn_owl.FrontEnd(features=["log-mel", "peak"]).width
    49
    """

    name: str
    compute: Callable[[np.ndarray, float], np.ndarray]
    columns: Sequence[str]
    unit: str = ""
    window_s: float | None = None
    hop_s: float | None = None
    rate_hz: int | None = None
    takes: Literal["samples", "log-mel"] = "samples"
    rows: int = 16
    version: str = "1"

    def __post_init__(self) -> None:
        """Raise ValueError for settings that cannot work."""
        if not self.name or "," in self.name or self.name in RESERVED:
            raise ValueError(f"name: a custom feature cannot be called {self.name!r}")
        if not self.columns or isinstance(self.columns, str):
            raise ValueError("columns: must be a list with the name of each column")
        if not callable(self.compute):
            raise TypeError(f"compute: must be a function, got {type(self.compute).__name__}")
        if self.takes not in {"samples", "log-mel"}:
            raise ValueError(f"takes: must be 'samples' or 'log-mel', got {self.takes!r}")
        for name in ("window_s", "hop_s"):
            if (value := getattr(self, name)) is not None and not 0 < value <= 60:
                raise ValueError(f"{name}: must be above 0 and at most 60 s, got {value!r}")
        if self.rows < 1:
            raise ValueError(f"rows: must be at least 1, got {self.rows!r}")

    def identity(self) -> dict[str, Any]:
        """Return name, version and columns, which a model must find again."""
        return {"name": self.name, "version": self.version, "columns": list(self.columns)}


_registered: dict[str, CustomFeature] = {}


def register_feature(feature: CustomFeature) -> None:
    """Add a custom feature in this process: to front ends, plans, models and the command line.

    Parameters
    ----------
    feature : CustomFeature
        The feature. It replaces a custom feature of the same name.

    Raises
    ------
    TypeError
        If `feature` is not a `CustomFeature`.
    ValueError
        If it is called `embedding`, the name of the output of a network in an ONNX file.

    Examples
    --------
    >>> crest = barn_owl.features.CustomFeature(
    ...     name="peak-to-mean",
    ...     compute=lambda mel, rate_hz: (mel.max(axis=1) - mel.mean(axis=1))[:, None],
    ...     columns=["peak to mean"], unit="dB", takes="log-mel",
    ... )
    >>> barn_owl.features.register_feature(crest)
    >>> barn_owl.FrontEnd(features=["log-mel", "peak-to-mean"]).columns[-1]
    'peak to mean'
    """
    if not isinstance(feature, CustomFeature):
        raise TypeError(f"feature must be a CustomFeature, got {type(feature).__name__}")
    if feature.name == "embedding":
        raise ValueError("name: 'embedding' is the feature of the section front_end.embedding")
    _registered[feature.name] = feature


def custom_feature(name: str) -> CustomFeature | None:
    """Return the custom feature of a name, registered here or offered by a package; None if there is none."""
    return _registered.get(name) or installed(ENTRY_POINTS).get(name)


def custom_names() -> list[str]:
    """Return the names of all custom features."""
    return [*_registered, *installed(ENTRY_POINTS)]


class CustomStream:
    """Rows of a custom feature for the frames of a continuous signal.

    Positions are in input units: samples, or frames of log-mel.
    """

    def __init__(self, feature: CustomFeature, front_end: "FrontEndSettings") -> None:
        self.feature = feature
        if feature.takes == "samples":
            self._rate, self._frame, self._frame_hop = float(front_end.rate_hz), front_end.frame, front_end.hop
            self._kept = np.empty(0, dtype=np.float32)
        else:
            self._rate, self._frame, self._frame_hop = 1 / front_end.hop_s, 1, 1
            self._kept = np.empty((0, front_end.bands), dtype=np.float32)
        self._window = self._units(feature.window_s, self._frame)
        self._hop = self._units(feature.hop_s, self._frame_hop)
        self._rows = np.empty((0, len(feature.columns)), dtype=np.float32)
        self._first_row = 0  # number of the first row in `_rows`
        self._next_frame = 0
        self._finished = False

    def _units(self, time_s: float | None, default: int) -> int:
        return default if time_s is None else max(1, round(time_s * self._rate))

    @property
    def wait_s(self) -> float:
        """Longest time from the end of a frame to its row, in seconds."""
        ahead = (self._window - self._frame) / 2 + self.feature.rows * self._hop
        return max(0.0, ahead / self._rate)

    def push(self, values: np.ndarray) -> None:
        """Take samples, ``(samples,)``, or log-mel frames, ``(frames, bands)``."""
        self._kept = np.concatenate([self._kept, values])
        needed = (self.feature.rows - 1) * self._hop + self._window
        skipped = self.feature.rows * self._hop
        computed = [self._rows]
        while len(self._kept) >= max(needed, skipped):
            computed.append(self._compute(self._kept[:needed], self.feature.rows))
            self._kept = self._kept[skipped:]
        self._rows = np.concatenate(computed)

    def finish(self) -> None:
        """Compute the last rows; a sound shorter than a window is padded with zeros to a single row."""
        needed = (self.feature.rows - 1) * self._hop + self._window
        count = (len(self._kept) - self._window) // self._hop + 1 if len(self._kept) >= self._window else 0
        if not count and not self._first_row + len(self._rows) and len(self._kept):
            count = 1
        if count:
            padding = [(0, max(0, needed - len(self._kept)))] + [(0, 0)] * (self._kept.ndim - 1)
            last = self._compute(np.pad(self._kept, padding)[:needed], count)
            self._rows = np.concatenate([self._rows, last])
        self._finished = True

    def _compute(self, values: np.ndarray, count: int) -> np.ndarray:
        feature, expected = self.feature, (self.feature.rows, len(self.feature.columns))
        rows = np.asarray(feature.compute(values, self._rate))
        if rows.shape != expected or rows.dtype.kind not in "fiu":
            raise PlanError(
                f"feature {feature.name!r} returned {rows.dtype} of shape {rows.shape} for an input of shape "
                f"{values.shape}; expected numbers of shape {expected}"
            )
        if not np.isfinite(rows[:count]).all():
            raise PlanError(f"feature {feature.name!r} returned NaN or infinity")
        return rows[:count].astype(np.float32)

    def _row_of(self, frames: np.ndarray) -> np.ndarray:
        """Return the number of the row whose window is centered nearest to each frame."""
        twice = 2 * frames * self._frame_hop + self._frame - self._window + self._hop
        return np.maximum(twice // (2 * self._hop), 0)

    def ready(self, frames: int) -> int:
        """Return how many of the next `frames` frames have their row."""
        end = self._first_row + len(self._rows)
        if self._finished:
            return frames if end else 0
        return int((self._row_of(self._next_frame + np.arange(frames)) < end).sum())

    def take(self, frames: int) -> np.ndarray:
        """Return the rows of the next `frames` frames, float32, ``(frames, columns)``."""
        wanted = self._row_of(self._next_frame + np.arange(frames)) - self._first_row
        taken = self._rows[np.minimum(wanted, len(self._rows) - 1)] if frames else self._rows[:0]
        self._next_frame += frames
        passed = int(self._row_of(np.array([self._next_frame]))[0]) - self._first_row
        drop = min(max(passed, 0), max(len(self._rows) - 1, 0))  # the last row may be needed to the end
        self._rows, self._first_row = self._rows[drop:], self._first_row + drop
        return taken
