"""Layers without context: normalization, rectifier, dropout, dense; and the residual sum."""

import math
from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import Any

import numpy as np

from barn_owl.network.layer import Arrays, ChannelRole, Gradients, Layer, Scratch, Shape, link


class BatchNorm(Layer):
    """Batch normalization of each channel: Ioffe and Szegedy, ICML 2015.

    In training, groups of about `GROUP` clips are normalized by their mean and variance, which generalizes better
    than statistics of many clips (Hoffer et al., "Train longer, generalize better", NIPS 2017); in inference, running
    statistics are used.
    """

    channel_role: ChannelRole = "follows"
    MOMENTUM = 0.1
    EPSILON = 1e-3
    GROUP = 16

    def build(self, shape: Shape, rng: np.random.Generator) -> Arrays:
        zeros, ones = np.zeros(shape[-1], dtype=np.float32), np.ones(shape[-1], dtype=np.float32)
        self.state = {"mean": zeros.copy(), "variance": ones.copy()}
        return {"scale": ones, "shift": zeros}

    def words(self, *, bands: bool) -> str:
        return "norm"

    def entry(self, channels: Mapping[str, int], name: str) -> dict[str, object]:
        return {"kind": "norm"}

    def folded(self, before: Layer | None) -> Layer | None:
        return None if before is not None and before.scaled(*self.slope_and_shift()) else self

    def slope_and_shift(self) -> tuple[np.ndarray, np.ndarray]:
        """Return scale and offset for inference."""
        slope = self.weights["scale"] / np.sqrt(self.state["variance"] + np.float32(self.EPSILON))
        return slope, self.weights["shift"] - self.state["mean"] * slope

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        y = scratch(self, "y", x.shape, x.dtype)
        if rng is None:
            slope, shift = self.slope_and_shift()
            np.multiply(x, slope, out=y)
            y += shift
            return y, None
        groups = _groups(x.shape, self.GROUP)
        # A row per step: long rows are several times faster than a row per position.
        rows, into = x.reshape(groups.steps, -1), y.reshape(groups.steps, -1)
        mean = groups.mean(scratch.column_mean(rows))
        # Without subtracting the mean first, which would take a further pass; the mean of a channel is not large
        # here.
        variance = groups.mean(scratch.column_mean(np.multiply(rows, rows, out=into)))
        variance -= mean * mean
        np.maximum(variance, 0, out=variance)
        inverse = (variance + variance.dtype.type(self.EPSILON)) ** -0.5
        slope = self.weights["scale"] * inverse
        np.multiply(rows, groups.row(slope), out=into)
        into += groups.row(self.weights["shift"] - mean * slope)
        return y, (rows, inverse, mean, variance, groups)

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        rows, inverse, mean, _, groups = kept
        flat = dy.reshape(rows.shape)
        product = scratch(self, "product", rows.shape, rows.dtype)
        mean_dy = groups.mean(scratch.column_mean(flat))
        # Mean of dy times the normalized input, normed = (x - mean) * inverse.
        mean_normed = groups.mean(scratch.column_mean(np.multiply(flat, rows, out=product)))
        mean_normed = (mean_normed - mean * mean_dy) * inverse
        np.matmul(groups.counts, mean_dy, out=gradients["shift"])
        np.matmul(groups.counts, mean_normed, out=gradients["scale"])
        # dx = slope * (dy - mean_dy - normed * mean_normed)
        slope = self.weights["scale"] * inverse
        back = slope * inverse * mean_normed
        flat *= groups.row(slope)
        flat -= np.multiply(rows, groups.row(back), out=product)
        flat += groups.row(back * mean - slope * mean_dy)
        return dy

    def absorb(self, kept: Sequence[Any]) -> None:
        share = self.MOMENTUM / len(kept)
        for _, _, mean, variance, _ in kept:
            for name, found in (("mean", mean), ("variance", variance)):
                self.state[name] += share * (np.add.reduce(found) / len(found) - self.state[name])


class _Groups:
    """The clips of a batch, ``(steps, clips, ..., channels)`` or ``(clips, channels)``, in groups of about `size`."""

    def __init__(self, shape: Shape, size: int) -> None:
        self.steps, clips = (shape[0], shape[1]) if len(shape) > 2 else (1, shape[0])
        self._shape = clips, math.prod(shape[2:-1]), shape[-1]
        count = max(1, round(clips / size))
        self._of_clip = np.arange(clips) * count // clips
        sizes = np.bincount(self._of_clip)
        self._shares = ((self._of_clip == np.arange(count)[:, None]) / sizes[:, None]).astype(np.float32)
        self.counts = (sizes * self.steps * self._shape[1]).astype(np.float32)
        """Values a channel in each group."""

    def mean(self, row: np.ndarray) -> np.ndarray:
        """Mean of each group and channel, ``(groups, channels)``, from means over the steps."""
        clips = row.reshape(self._shape)
        return np.asarray(self._shares @ (clips[:, 0] if self._shape[1] == 1 else clips.mean(axis=1)))

    def row(self, values: np.ndarray) -> np.ndarray:
        """Expand values by group and channel to each position of a step."""
        by_clip = values.take(self._of_clip, axis=0)
        return (by_clip if self._shape[1] == 1 else by_clip.repeat(self._shape[1], axis=0)).reshape(-1)


@lru_cache(maxsize=64)
def _groups(shape: Shape, size: int) -> _Groups:
    return _Groups(shape, size)


class Relu(Layer):
    """``max(x, 0)``."""

    needs_output = True

    def words(self, *, bands: bool) -> str:
        return "relu"

    def entry(self, channels: Mapping[str, int], name: str) -> dict[str, object]:
        return {"kind": "relu"}

    def folded(self, before: Layer | None) -> Layer | None:
        return None if before is not None and before.rectified() else self

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        y = x if self.overwrites else scratch(self, "y", x.shape, x.dtype)
        # An array of zeros: with a plain 0, NumPy takes three times as long.
        np.maximum(x, np.zeros(x.shape[-2:], dtype=x.dtype), out=y)
        return y, y

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        positive = scratch(self, "positive", kept.shape, np.bool_)
        np.greater(kept, 0, out=positive)
        return np.multiply(dy, positive, out=dy)


def folded(layers: Sequence[Layer]) -> list[Layer]:
    """Return layers for inference; trained layers are not changed."""
    made: list[Layer] = []
    for layer in layers:
        own = layer.folded(made[-1] if made else None)
        if own is not None:
            made.append(own)
    return made


class Residual(Layer):
    """Residual block: the sum of the input and of the output of `inner`; the input is cropped evenly in time to fit.

    He et al., CVPR 2016.
    """

    def __init__(self, inner: Sequence[Layer]) -> None:
        super().__init__()
        self.inner = list(inner)
        link(self.inner)
        self.span = 1 + sum(layer.span - 1 for layer in self.inner)

    def words(self, *, bands: bool) -> str:
        return f"residual of {sum(layer.channel_role == 'makes' for layer in self.inner)} convolutions"

    def entry(self, channels: Mapping[str, int], name: str) -> dict[str, object]:
        inner = [layer.entry(channels, f"{name}.{number}") for number, layer in enumerate(self.inner)]
        return {"kind": "residual", "layers": inner}

    def folded(self, before: Layer | None) -> Layer | None:
        return Residual(folded(self.inner))

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
        # the backward pass of the last layer may need its output, so the sum is stored separately
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

    def words(self, *, bands: bool) -> str:
        return f"dropout {self.share:g}"

    def entry(self, channels: Mapping[str, int], name: str) -> dict[str, object]:
        return {"kind": "dropout", "share": self.share}

    def folded(self, before: Layer | None) -> Layer | None:
        return None

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        if rng is None or self.share == 0:
            return x, None
        keep = (rng.random(x.shape, dtype=np.float32) >= self.share) / np.float32(1 - self.share)
        return np.multiply(x, keep, out=scratch(self, "y", x.shape, x.dtype)), keep

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        return dy if kept is None else np.multiply(dy, kept, out=dy)


class Dense(Layer):
    """``x @ kernel + bias`` on the last axis. The last of a network starts near zero: all labels nearly alike."""

    channel_role: ChannelRole = "makes"
    channels: int

    def __init__(self, channels: int, *, is_last: bool = True) -> None:
        super().__init__()
        self.channels, self.is_last = channels, is_last

    def words(self, *, bands: bool) -> str:
        return "dense"

    def entry(self, channels: Mapping[str, int], name: str) -> dict[str, object]:
        return {"kind": "dense", "channels": channels[name]}

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
