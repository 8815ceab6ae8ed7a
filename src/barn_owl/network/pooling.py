"""Layers that pool or rearrange values."""

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np

from barn_owl.network.convolution import Sliding
from barn_owl.network.layer import Gradients, Layer, Scratch, Shape


class Pool(Sliding):
    """The largest value, or the mean, of each neighborhood; the stride is its size unless specified otherwise."""

    needs_output = True

    def __init__(
        self, kind: Literal["max", "mean"], taps: tuple[int, int], stride: tuple[int, int] | None = None
    ) -> None:
        super().__init__(taps, stride or taps)
        self.kind = kind

    def words(self, *, bands: bool) -> str:
        return f"{self.kind} pool, {self.slides(bands=bands)}"

    def entry(self, channels: Mapping[str, int], name: str) -> dict[str, object]:
        return {"kind": f"{self.kind}_pool", **self.sizes}

    def shape(self, shape: Shape) -> Shape:
        return *self.slid(shape, "a pool"), shape[-1]

    def _met(self, shape: Shape) -> list[tuple[slice, ...]]:
        """Which part of a batch each place of the neighborhood meets, for clips of `shape`."""
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
        for at in met:  # the first of equal values is the largest
            is_largest = x[at] == y
            dx[at] += dy * is_largest
            dy *= ~is_largest
        return dx


class FoldBands(Layer):
    """Bands become channels: ``(steps, bands, channels)`` to ``(steps, bands * channels)``."""

    needs_output = True

    def words(self, *, bands: bool) -> str:
        return "fold bands"

    def entry(self, channels: Mapping[str, int], name: str) -> dict[str, object]:
        return {"kind": "fold_bands"}

    def shape(self, shape: Shape) -> Shape:
        if len(shape) != 3:
            raise ValueError(f"there are no bands to fold into channels: the input has the shape {shape}")
        return shape[0], shape[1] * shape[2]

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        return x.reshape(*x.shape[:2], -1), x.shape

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        return dy.reshape(kept)
