"""Layers that make fewer values out of many: maxima and means, over neighbours or over everything."""

import math
from typing import Any, Literal

import numpy as np

from barn_owl.classify.network.convolution import Sliding
from barn_owl.classify.network.layer import Gradients, Layer, Scratch, Shape, over_time


class Pool(Sliding):
    """The largest value, or the mean, of each neighbourhood; the stride is its size unless said otherwise."""

    needs_output = True

    def __init__(
        self, kind: Literal["max", "mean"], taps: tuple[int, int], stride: tuple[int, int] | None = None
    ) -> None:
        super().__init__(taps, stride or taps)
        self.kind = kind

    def shape(self, shape: Shape) -> Shape:
        return *self.slid(shape, "a pool"), shape[-1]

    def _met(self, shape: Shape) -> list[tuple[slice, ...]]:
        """Which part of a batch each place of the neighbourhood meets, for clips of `shape`."""
        geometry = self.geometry(shape)
        return [at[: 1 + len(shape[1:])] for at in geometry.taps()]

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        steps, *rest = self.shape(shape := (len(x), *x.shape[2:]))
        y = scratch(self, "y", (steps, x.shape[1], *rest), x.dtype)
        first, *others = met = self._met(shape)
        y[...] = x[first]
        for at in others:
            (np.maximum if self.kind == "max" else np.add)(y, x[at], out=y)
        if self.kind == "mean":
            y *= 1 / len(met)
        return y, (x, y, met)

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        x, y, met = kept
        dx = scratch(self, "dx", x.shape, dy.dtype)
        dx[...] = 0
        if self.kind == "mean":
            dy *= 1 / len(met)
            for at in met:
                dx[at] += dy
            return dx
        for at in met:  # of equal ones, the first is the largest
            is_largest = x[at] == y
            dx[at] += dy * is_largest
            dy *= ~is_largest
        return dx


class PoolAll(Layer):
    """The mean, or the largest value, over all steps (and bands): only channels are left."""

    def __init__(self, kind: Literal["max", "mean"] = "mean") -> None:
        super().__init__()
        self.kind = kind

    def shape(self, shape: Shape) -> Shape:
        return over_time(shape, "a pool over everything")[-1:]

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        if self.kind == "mean":
            # A product with ones is several times faster than the mean along an axis that is not the last.
            mean = scratch.column_mean(x.reshape(len(x), -1)).reshape(x.shape[1:])
            return mean if mean.ndim == 2 else mean.mean(axis=1), (x.shape, None)
        flat = _clips_first(x).reshape(x.shape[1], -1, x.shape[-1])
        at = flat.argmax(axis=1)[:, None]
        return np.take_along_axis(flat, at, axis=1)[:, 0], (x.shape, at)

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        shape, at = kept
        dx = scratch(self, "dx", shape, dy.dtype)
        if self.kind == "mean":
            dy = dy * (dy.size / dx.size)
            dx[...] = dy if len(shape) == 3 else dy[:, None]
            return dx
        largest = np.zeros((shape[1], dx.size // dy.size, shape[-1]), dtype=dy.dtype)
        np.put_along_axis(largest, at, dy[:, None], axis=1)
        dx[...] = np.moveaxis(largest.reshape(shape[1], shape[0], *shape[2:]), 0, 1)
        return dx


def _clips_first(x: np.ndarray) -> np.ndarray:
    return np.ascontiguousarray(np.moveaxis(x, 1, 0))


class FoldBands(Layer):
    """Bands become channels: ``(steps, bands, channels)`` to ``(steps, bands * channels)``."""

    needs_output = True

    def shape(self, shape: Shape) -> Shape:
        if len(shape) != 3:
            raise ValueError(f"there are no bands to fold into channels: the input has the shape {shape}")
        return shape[0], shape[1] * shape[2]

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        return x.reshape(*x.shape[:2], -1), x.shape

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        return dy.reshape(kept)


class Flatten(Layer):
    """Everything becomes channels: what is left of time is told apart by its place."""

    needs_output = True
    keeps_windows = False  # the number of channels would change with the length of the input

    def shape(self, shape: Shape) -> Shape:
        return (math.prod(over_time(shape, "flatten")),)

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        return _clips_first(x).reshape(x.shape[1], -1), x.shape

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        return np.ascontiguousarray(np.moveaxis(dy.reshape(kept[1], kept[0], *kept[2:]), 0, 1))
