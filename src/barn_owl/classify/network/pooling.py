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

    def _met(self, x: np.ndarray, y: np.ndarray) -> list[tuple[slice, ...]]:
        """Which part of the input each place of the neighbourhood meets."""
        axes = self.axes(x.shape[1:])[: x.ndim - 2]
        taps = np.ndindex(*(axis.taps for axis in axes))
        return [
            (slice(None), *(a.slice(t, n) for a, t, n in zip(axes, tap, y.shape[1:], strict=False))) for tap in taps
        ]

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        y = scratch(self, "y", (len(x), *self.shape(x.shape[1:])), x.dtype)
        first, *others = self._met(x, y)
        y[...] = x[first]
        for at in others:
            (np.maximum if self.kind == "max" else np.add)(y, x[at], out=y)
        if self.kind == "mean":
            y *= 1 / (1 + len(others))
        return y, (x, y)

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        x, y = kept
        met = self._met(x, y)
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
        flat = x.reshape(len(x), -1, x.shape[-1])
        if self.kind == "mean":
            # A product with ones is several times faster than the mean along the middle of three axes.
            share = np.full((1, flat.shape[1]), 1 / flat.shape[1], dtype=x.dtype)
            return np.matmul(share, flat)[:, 0], (x.shape, None)
        at = flat.argmax(axis=1)
        return np.take_along_axis(flat, at[:, None], axis=1)[:, 0], (x.shape, at)

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        shape, at = kept
        dx = scratch(self, "dx", shape, dy.dtype)
        flat = dx.reshape(len(dx), -1, shape[-1])
        if self.kind == "mean":
            flat[...] = dy[:, None] * (1 / flat.shape[1])
        else:
            flat[...] = 0
            np.put_along_axis(flat, at[:, None], dy[:, None], axis=1)
        return dx


class FoldBands(Layer):
    """Bands become channels: ``(steps, bands, channels)`` to ``(steps, bands * channels)``."""

    needs_output = True

    def shape(self, shape: Shape) -> Shape:
        if len(shape) != 3:
            raise ValueError(f"there are no bands to fold into channels: the input has the shape {shape}")
        return shape[0], shape[1] * shape[2]

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        return x.reshape(len(x), x.shape[1], -1), x.shape

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        return dy.reshape(kept)


class Flatten(Layer):
    """Everything becomes channels: what is left of time is told apart by its place."""

    needs_output = True
    keeps_windows = False  # the number of channels would change with the length of the input

    def shape(self, shape: Shape) -> Shape:
        return (math.prod(over_time(shape, "flatten")),)

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        return x.reshape(len(x), -1), x.shape

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        return dy.reshape(kept)
