"""Layers that work on each step by itself: normalisation, rectifier, dropout, dense; and the residual sum."""

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from barn_owl.classify.network.layer import Arrays, Gradients, Layer, Scratch, Shape, link


class BatchNorm(Layer):
    """Batch normalisation of each channel: Ioffe and Szegedy, ICML 2015.

    While training, each part of a batch is normalised by its own mean and variance; otherwise the running
    ones are used.
    """

    MOMENTUM = 0.1
    EPSILON = 1e-3

    def build(self, shape: Shape, rng: np.random.Generator) -> Arrays:
        zeros, ones = np.zeros(shape[-1], dtype=np.float32), np.ones(shape[-1], dtype=np.float32)
        self.state = {"mean": zeros.copy(), "variance": ones.copy()}
        return {"scale": ones, "shift": zeros}

    def slope_and_shift(self) -> tuple[np.ndarray, np.ndarray]:
        """What the layer multiplies by and adds when it is not training."""
        slope = self.weights["scale"] / np.sqrt(self.state["variance"] + np.float32(self.EPSILON))
        return slope, self.weights["shift"] - self.state["mean"] * slope

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        y = scratch(self, "y", x.shape, x.dtype)
        if rng is None:
            slope, shift = self.slope_and_shift()
            np.multiply(x, slope, out=y)
            y += shift
            return y, None
        rows, into = x.reshape(-1, x.shape[-1]), y.reshape(-1, x.shape[-1])
        mean = scratch.column_mean(rows)
        # Not from the rows less their mean: that would be one more pass, and a channel's mean is not large here.
        variance = scratch.column_mean(np.multiply(rows, rows, out=into))
        variance -= mean * mean
        np.maximum(variance, 0, out=variance)
        inverse = (variance + variance.dtype.type(self.EPSILON)) ** -0.5
        slope = self.weights["scale"] * inverse
        wide, repeats = _wide(into)
        np.multiply(rows.reshape(wide.shape), _repeated(slope, repeats), out=wide)
        wide += _repeated(self.weights["shift"] - mean * slope, repeats)
        return y, (rows, inverse, mean, variance)

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        rows, inverse, mean, _ = kept
        flat, count = dy.reshape(rows.shape), len(rows)
        product = scratch(self, "product", rows.shape, rows.dtype)
        mean_dy = scratch.column_mean(flat)
        # Mean of dy times the normalised input, normed = (x - mean) * inverse.
        mean_normed = (scratch.column_mean(np.multiply(flat, rows, out=product)) - mean * mean_dy) * inverse
        np.multiply(mean_dy, count, out=gradients["shift"])
        np.multiply(mean_normed, count, out=gradients["scale"])
        # dx = slope * (dy - mean_dy - normed * mean_normed)
        slope = self.weights["scale"] * inverse
        back = slope * inverse * mean_normed
        wide, repeats = _wide(flat)
        wide *= _repeated(slope, repeats)
        np.multiply(rows.reshape(wide.shape), _repeated(back, repeats), out=product.reshape(wide.shape))
        flat -= product
        wide += _repeated(back * mean - slope * mean_dy, repeats)
        return dy

    def absorb(self, kept: Sequence[Any]) -> None:
        for _, _, mean, variance in kept:
            self.state["mean"] += self.MOMENTUM / len(kept) * (mean - self.state["mean"])
            self.state["variance"] += self.MOMENTUM / len(kept) * (variance - self.state["variance"])


def _wide(rows: np.ndarray) -> tuple[np.ndarray, int]:
    """Rows put together to longer ones, and how many to one: on short rows, NumPy is several times slower."""
    repeats = math.gcd(len(rows), 64) if rows.shape[1] < 64 else 1
    return rows.reshape(-1, repeats * rows.shape[1]), repeats


def _repeated(row: np.ndarray, repeats: int) -> np.ndarray:
    return row if repeats == 1 else np.concatenate([row] * repeats)


class Relu(Layer):
    """``max(x, 0)``."""

    needs_output = True

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        y = x if self.overwrites else scratch(self, "y", x.shape, x.dtype)
        # An array of zeros: with a plain 0, NumPy takes three times as long.
        np.maximum(x, np.zeros(x.shape[-2:], dtype=x.dtype), out=y)
        return y, y

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        positive = scratch(self, "positive", kept.shape, np.bool_)
        np.greater(kept, 0, out=positive)
        return np.multiply(dy, positive, out=dy)


class Residual(Layer):
    """The sum of the input and of what `inner` makes of it; the input is cropped evenly in time to fit.

    He et al., CVPR 2016.
    """

    def __init__(self, inner: Sequence[Layer]) -> None:
        super().__init__()
        self.inner = list(inner)
        link(self.inner)
        self.span = 1 + sum(layer.span - 1 for layer in self.inner)
        self.keeps_windows = all(layer.keeps_windows for layer in self.inner)

    def shape(self, shape: Shape) -> Shape:
        out = shape
        for layer in self.inner:
            out = layer.shape(out)
        if out[1:] != shape[1:] or any(layer.stride != 1 for layer in self.inner):
            raise ValueError(
                f"a residual block must keep bands and channels {shape[1:]} and have no stride, it gives {out[1:]}"
            )
        return out

    def multiply_adds(self, shape: Shape) -> int:
        total = 0
        for layer in self.inner:
            total += layer.multiply_adds(shape)
            shape = layer.shape(shape)
        return total

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        y, kept = x, []
        for layer in self.inner:
            y, own = layer.forward(y, rng, scratch)
            kept.append(own)
        crop = (len(x) - len(y)) // 2
        # the last layer's own backward pass may need its output as it was, so the sum goes elsewhere then
        into = scratch(self, "sum", y.shape, y.dtype) if self.inner[-1].needs_output else y
        np.add(y, x[crop : crop + len(y)], out=into)
        return into, (kept, crop)

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        own, crop = kept
        passed = scratch(self, "passed", dy.shape, dy.dtype)
        np.copyto(passed, dy)
        for number in reversed(range(len(self.inner))):
            dy = self.inner[number].backward(dy, own[number], gradients[number], scratch)
        dy[crop : crop + len(passed)] += passed
        return dy

    def absorb(self, kept: Sequence[Any]) -> None:
        for number, layer in enumerate(self.inner):
            layer.absorb([own[number] for own, _ in kept])


class Dropout(Layer):
    """Sets a share of the values to zero while training and scales the rest up: Srivastava et al., JMLR 2014."""

    needs_output = True

    def __init__(self, share: float) -> None:
        super().__init__()
        self.share = share

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        if rng is None or self.share == 0:
            return x, None
        keep = (rng.random(x.shape, dtype=np.float32) >= self.share) / np.float32(1 - self.share)
        return np.multiply(x, keep, out=scratch(self, "y", x.shape, x.dtype)), keep

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        return dy if kept is None else np.multiply(dy, kept, out=dy)


class Dense(Layer):
    """``x @ kernel + bias`` on the last axis. The last of a network starts near zero: all labels nearly alike."""

    def __init__(self, channels: int, *, is_last: bool = True) -> None:
        super().__init__()
        self.channels, self.is_last = channels, is_last

    def shape(self, shape: Shape) -> Shape:
        return *shape[:-1], self.channels

    def build(self, shape: Shape, rng: np.random.Generator) -> Arrays:
        spread = 0.1 / np.sqrt(shape[-1]) if self.is_last else np.sqrt(2 / shape[-1])
        kernel = rng.standard_normal((shape[-1], self.channels)) * spread
        return {"kernel": kernel.astype(np.float32), "bias": np.zeros(self.channels, dtype=np.float32)}

    def multiply_adds(self, shape: Shape) -> int:
        return math.prod(shape) * self.channels

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        return x @ self.weights["kernel"] + self.weights["bias"], x

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        flat = dy.reshape(-1, self.channels)
        np.matmul(kept.reshape(len(flat), -1).T, flat, out=gradients["kernel"])
        flat.sum(axis=0, out=gradients["bias"])
        return np.asarray(dy @ self.weights["kernel"].T)
