"""Gain normalization: levels relative to the mean power around each frame."""

from collections.abc import Mapping
from typing import Any

import numpy as np

from barn_owl.arrays import power_of
from barn_owl.network.layer import Gradients, Layer, Scratch, Shape

CENTER_DB, SPREAD_DB = 15.0, 15.0
"""Levels of bands lie about this far below the mean power around them, and differ by about this much."""
SILENCE = np.float32(1e-20)
"""Power added to digital silence, so that it has a level."""


def relative_level(levels: np.ndarray, span: int, range_db: float) -> np.ndarray:
    """Levels of bands in dB relative to the mean power of all bands over `span` frames around them.

    levels : in dB, time first, bands last except for a channel: ``(frames, ..., bands, 1)``. Returns
    ``(frames - span + 1, ..., bands, 1)``, float32, in units of 15 dB, about 0 in the mean.

    Independent of the gain of a recording: with ``p`` the power of a band and ``A`` the mean power, ``10 log10((p + A
    10^(-range_db/10)) / A)``. Levels far below the loudest sound nearby are compressed, so neither digital silence
    nor converter noise matters. It is an automatic gain control that looks ahead as far as back; without memory, it
    yields the same values for an excerpt as for its recording.
    """
    power = power_of(levels)
    mean = _running_sum(power.mean(axis=(-2, -1), dtype=np.float32), span)[..., None, None]
    mean *= np.float32(1 / span)
    mean += SILENCE
    first = (span - 1) // 2
    kept = power[first : first + len(mean)]
    kept /= mean
    kept += np.float32(10 ** (-range_db / 10))
    np.log10(kept, out=kept)
    kept *= np.float32(10 / SPREAD_DB)
    kept += np.float32(CENTER_DB / SPREAD_DB)
    return kept


def window_level(windows: np.ndarray, range_db: float) -> np.ndarray:
    """Return levels of windows, ``(windows, frames, bands)``, each relative to its mean power; same shape."""
    power = power_of(windows)
    power /= power.mean(axis=(1, 2), keepdims=True) + SILENCE
    power += np.float32(10 ** (-range_db / 10))
    return np.asarray((np.log10(power) * np.float32(10 / SPREAD_DB)) + np.float32(CENTER_DB / SPREAD_DB))


def _running_sum(values: np.ndarray, span: int) -> np.ndarray:
    """Sum of `span` neighbors along the first axis, each added up in the same order wherever it lies."""
    total, done, steps = values, 1, len(values) - span + 1
    rest: list[tuple[np.ndarray, int]] = []
    # Sums of 2, 4, 8, ... neighbors, combined by the binary digits of the span.
    while True:
        if span & done:
            rest.append((total, done))
        if done * 2 > span:
            break
        total = total[:-done] + total[done:]
        done *= 2
    at = 0
    result = np.zeros((steps, *values.shape[1:]), dtype=values.dtype)
    for sums, length in rest:
        result += sums[at : at + steps]
        at += length
    return result


class RelativeLevel(Layer):
    """First layer that normalizes levels in dB to the gain of a recording; see `relative_level`."""

    needs_output = True

    def __init__(self, span: int, range_db: float) -> None:
        super().__init__()
        self.span, self.range_db = span, range_db

    def words(self, *, bands: bool) -> str:
        return f"relative level, {self.span} frames"

    def entry(self, channels: Mapping[str, int], name: str) -> dict[str, object]:
        raise AssertionError("levels stand in front of the layers that a plan has")

    def shape(self, shape: Shape) -> Shape:
        if len(shape) != 3 or shape[2] != 1:
            raise ValueError(
                f"a relative level is that of bands, as the first layer; the input has the shape {shape}"
            )
        if shape[0] < self.span:
            raise ValueError(f"a relative level needs {self.span} steps in time and gets {shape[0]}")
        return shape[0] - self.span + 1, *shape[1:]

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        return relative_level(x, self.span, self.range_db), None

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        raise AssertionError("nothing uses the gradient of levels: no parameters come before them")
