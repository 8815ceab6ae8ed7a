"""Layers with forward and backward.

``forward`` returns the output and whatever ``backward`` will need; ``backward`` takes the gradient of the
output (which it may overwrite), writes the gradients of the weights into ``gradients`` and returns the
gradient of the input. Shapes: ``(clips, steps, channels)`` unless a layer says otherwise.
"""

from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import Any

import numpy as np

Arrays = dict[str, np.ndarray]


class Layer(ABC):
    """A layer without weights; the parent of all."""

    def __init__(self) -> None:
        self.weights: Arrays = {}
        """What is learnt by gradient: views into the vector of the network."""
        self.state: Arrays = {}
        """What is observed while training, such as running means."""
        self.is_first = False
        """Nobody asks for the gradient of the input of the first layer, which may be costly."""

    def build(self, channels: int, rng: np.random.Generator) -> tuple[Arrays, int]:
        """Return first values for the weights, and the channels of the output, given those of the input."""
        return {}, channels

    def steps(self, steps: int) -> int:
        """Count the steps that come out for `steps` that go in."""
        return steps

    @abstractmethod
    def forward(self, x: np.ndarray, rng: np.random.Generator | None) -> tuple[np.ndarray, Any]:
        """Compute the output; `rng` is given while training and None otherwise."""

    @abstractmethod
    def backward(self, dy: np.ndarray, kept: Any, gradients: Arrays) -> np.ndarray:
        """Write the gradients of the weights and return that of the input."""

    def absorb(self, kept: Sequence[Any]) -> None:  # noqa: B027 - most layers observe nothing
        """Update the state from what ``forward`` kept for each part of a batch, in order."""


class Convolution(Layer):
    """Convolution along time, without padding ("valid") and without bias: batch normalisation follows.

    One window view, one copy, one matrix product. ``steps_out = (steps - taps) // stride + 1``.
    """

    def __init__(self, channels: int, *, taps: int, stride: int = 1) -> None:
        super().__init__()
        self.channels, self.taps, self.stride = channels, taps, stride

    def build(self, channels: int, rng: np.random.Generator) -> tuple[Arrays, int]:
        fan_in = self.taps * channels
        # He et al., "Delving Deep into Rectifiers", ICCV 2015: variance 2 / fan-in before a ReLU.
        kernel = rng.standard_normal((fan_in, self.channels)) * np.sqrt(2 / fan_in)
        return {"kernel": kernel.astype(np.float32)}, self.channels

    def steps(self, steps: int) -> int:
        return (steps - self.taps) // self.stride + 1

    def forward(self, x: np.ndarray, rng: np.random.Generator | None) -> tuple[np.ndarray, Any]:
        columns = _columns(np.ascontiguousarray(x), self.taps, self.stride)
        y = columns @ self.weights["kernel"]
        return y.reshape(len(x), -1, self.channels), (columns, x.shape)

    def backward(self, dy: np.ndarray, kept: Any, gradients: Arrays) -> np.ndarray:
        columns, shape = kept
        np.matmul(columns.T, dy.reshape(-1, self.channels), out=gradients["kernel"])
        if self.is_first:
            return np.empty(0, dtype=dy.dtype)
        return self._gathered(dy, shape) if self.stride == 1 else self._scattered(dy, shape)

    def _gathered(self, dy: np.ndarray, shape: tuple[int, int, int]) -> np.ndarray:
        """Gradient of the input as a convolution of `dy`, padded, with the kernel turned round."""
        clips, steps, channels = shape
        padded = np.zeros((clips, steps + self.taps - 1, self.channels), dtype=dy.dtype)
        padded[:, self.taps - 1 : self.taps - 1 + dy.shape[1]] = dy
        kernel = self.weights["kernel"].reshape(self.taps, channels, self.channels)
        turned = kernel[::-1].transpose(0, 2, 1).reshape(-1, channels)
        return (_columns(padded, self.taps, 1) @ turned).reshape(shape)

    def _scattered(self, dy: np.ndarray, shape: tuple[int, int, int]) -> np.ndarray:
        """Gradient of the input by adding up what each tap sends back."""
        back = (dy.reshape(-1, self.channels) @ self.weights["kernel"].T).reshape(*dy.shape[:2], self.taps, shape[2])
        dx = np.zeros(shape, dtype=dy.dtype)
        reach = (dy.shape[1] - 1) * self.stride + 1
        for tap in range(self.taps):
            dx[:, tap : tap + reach : self.stride] += back[:, :, tap]
        return dx


def _columns(x: np.ndarray, taps: int, stride: int) -> np.ndarray:
    """Copy the windows of contiguous `x` into the rows of a matrix, ``(clips * steps_out, taps * channels)``."""
    clips, steps, channels = x.shape
    out = (steps - taps) // stride + 1
    # A window of whole steps lies in one piece in memory, so each is one row of a strided view.
    strides = (x.strides[0], stride * x.strides[1], x.itemsize)
    windows = np.lib.stride_tricks.as_strided(x, (clips, out, taps * channels), strides, writeable=False)
    return windows.reshape(clips * out, taps * channels)


class BatchNorm(Layer):
    """Batch normalisation over clips and steps: Ioffe and Szegedy, ICML 2015.

    While training, each part of a batch is normalised by its own mean and variance; otherwise the running
    ones are used.
    """

    MOMENTUM = 0.1
    EPSILON = 1e-3

    def build(self, channels: int, rng: np.random.Generator) -> tuple[Arrays, int]:
        self.state = {
            "mean": np.zeros(channels, dtype=np.float32),
            "variance": np.ones(channels, dtype=np.float32),
        }
        weights = {
            "scale": np.ones(channels, dtype=np.float32),
            "shift": np.zeros(channels, dtype=np.float32),
        }
        return weights, channels

    def forward(self, x: np.ndarray, rng: np.random.Generator | None) -> tuple[np.ndarray, Any]:
        scale, shift = self.weights["scale"], self.weights["shift"]
        if rng is None:
            slope = scale / np.sqrt(self.state["variance"] + np.float32(self.EPSILON))
            y = x * slope
            y += shift - self.state["mean"] * slope
            return y, None
        # In place, as for Relu: the layer before does not need its output again.
        normed = x.reshape(-1, x.shape[-1]) if not self.is_first else x.reshape(-1, x.shape[-1]).copy()
        mean = _column_mean(normed)
        normed -= mean
        variance = np.einsum("rc,rc->c", normed, normed) / np.asarray(len(normed), dtype=x.dtype)
        inverse = 1 / np.sqrt(variance + np.asarray(self.EPSILON, dtype=x.dtype))
        normed *= inverse
        y = normed * scale
        y += shift
        return y.reshape(x.shape), (normed, inverse, mean, variance)

    def backward(self, dy: np.ndarray, kept: Any, gradients: Arrays) -> np.ndarray:
        normed, inverse, _, _ = kept
        flat = dy.reshape(normed.shape)
        shift, scale = gradients["shift"], gradients["scale"]
        shift[:] = _column_mean(flat) * len(flat)
        np.einsum("rc,rc->c", flat, normed, out=scale)
        # dx = scale / sqrt(variance) * (dy - mean(dy) - normed * mean(dy * normed))
        dx = normed
        dx *= scale / -len(flat)
        dx += flat
        dx -= shift / len(flat)
        dx *= self.weights["scale"] * inverse
        return dx.reshape(dy.shape)

    def absorb(self, kept: Sequence[Any]) -> None:
        for _, _, mean, variance in kept:
            self.state["mean"] += self.MOMENTUM / len(kept) * (mean - self.state["mean"])
            self.state["variance"] += self.MOMENTUM / len(kept) * (variance - self.state["variance"])


def _column_mean(flat: np.ndarray) -> np.ndarray:
    """Mean of each column by a matrix product: several times faster than ``mean(axis=0)``."""
    return np.full(len(flat), 1 / len(flat), dtype=flat.dtype) @ flat


class Relu(Layer):
    """``max(x, 0)``, in place: no layer needs its own output again."""

    def forward(self, x: np.ndarray, rng: np.random.Generator | None) -> tuple[np.ndarray, Any]:
        y = np.maximum(x, 0, out=None if self.is_first else x)
        return y, y

    def backward(self, dy: np.ndarray, kept: Any, gradients: Arrays) -> np.ndarray:
        dy *= kept > 0
        return dy


class Residual(Layer):
    """The sum of the input and of what `inner` makes of it; the input is cropped evenly to fit.

    `inner` must keep the channels and not stride. He et al., CVPR 2016.
    """

    def __init__(self, inner: Sequence[Layer]) -> None:
        super().__init__()
        self.inner = list(inner)

    def steps(self, steps: int) -> int:
        for layer in self.inner:
            steps = layer.steps(steps)
        return steps

    def forward(self, x: np.ndarray, rng: np.random.Generator | None) -> tuple[np.ndarray, Any]:
        y, kept = x, []
        for layer in self.inner:
            y, own = layer.forward(y, rng)
            kept.append(own)
        crop = (x.shape[1] - y.shape[1]) // 2
        y += x[:, crop : crop + y.shape[1]]
        return y, (kept, x.shape, crop)

    def backward(self, dy: np.ndarray, kept: Any, gradients: Arrays) -> np.ndarray:
        own, _, crop = kept
        back = dy
        for number in reversed(range(len(self.inner))):
            prefix = f"{number}."
            mine = {name[len(prefix) :]: array for name, array in gradients.items() if name.startswith(prefix)}
            back = self.inner[number].backward(back, own[number], mine)
        back[:, crop : crop + dy.shape[1]] += dy
        return back

    def absorb(self, kept: Sequence[Any]) -> None:
        for number, layer in enumerate(self.inner):
            layer.absorb([own[number] for own, _, _ in kept])


class Dropout(Layer):
    """Sets a share of the values to zero while training and scales the rest up."""

    def __init__(self, share: float) -> None:
        super().__init__()
        self.share = share

    def forward(self, x: np.ndarray, rng: np.random.Generator | None) -> tuple[np.ndarray, Any]:
        if rng is None or self.share == 0:
            return x, None
        keep = (rng.random(x.shape, dtype=np.float32) >= self.share) / np.float32(1 - self.share)
        return x * keep, keep

    def backward(self, dy: np.ndarray, kept: Any, gradients: Arrays) -> np.ndarray:
        return dy if kept is None else dy * kept


class MeanOverTime(Layer):
    """Mean over steps: ``(clips, steps, channels)`` to ``(clips, channels)``."""

    def forward(self, x: np.ndarray, rng: np.random.Generator | None) -> tuple[np.ndarray, Any]:
        return x.mean(axis=1), x.shape

    def backward(self, dy: np.ndarray, kept: Any, gradients: Arrays) -> np.ndarray:
        return np.repeat(dy[:, None] / np.asarray(kept[1], dtype=dy.dtype), kept[1], axis=1)


class Dense(Layer):
    """``x @ kernel + bias`` on the last axis of ``(clips, channels)``; starts near zero: all labels nearly alike."""

    def __init__(self, channels: int) -> None:
        super().__init__()
        self.channels = channels

    def build(self, channels: int, rng: np.random.Generator) -> tuple[Arrays, int]:
        kernel = rng.standard_normal((channels, self.channels)) * (0.1 / np.sqrt(channels))
        bias = np.zeros(self.channels, dtype=np.float32)
        return {"kernel": kernel.astype(np.float32), "bias": bias}, self.channels

    def forward(self, x: np.ndarray, rng: np.random.Generator | None) -> tuple[np.ndarray, Any]:
        return x @ self.weights["kernel"] + self.weights["bias"], x

    def backward(self, dy: np.ndarray, kept: Any, gradients: Arrays) -> np.ndarray:
        np.matmul(kept.T, dy, out=gradients["kernel"])
        dy.sum(axis=0, out=gradients["bias"])
        return np.asarray(dy @ self.weights["kernel"].T)
