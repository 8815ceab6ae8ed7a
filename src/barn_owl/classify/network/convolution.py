"""Convolution over time, or over time and bands."""

import math
from collections.abc import Callable
from functools import partial
from typing import Any, Literal, NamedTuple

import numpy as np

from barn_owl.classify.network.layer import Arrays, Gradients, Layer, Scratch, Shape, over_time

KNOWN = 64
"""Input shapes whose geometry a layer remembers."""

Padding = Literal["valid", "bands", "same"]


class Axis(NamedTuple):
    """How a kernel goes along one axis; `before` and `after` are the zeros put around the input."""

    taps: int
    stride: int
    dilation: int = 1
    before: int = 0
    after: int = 0

    @property
    def span(self) -> int:
        """Inputs from the first tap to the last."""
        return (self.taps - 1) * self.dilation + 1

    def out(self, size: int) -> int:
        """Count the outputs for `size` inputs."""
        return (size + self.before + self.after - self.span) // self.stride + 1

    def padded(self, size: int) -> "Axis":
        """Pad so that there is one output for each `stride` inputs; an odd zero goes behind."""
        zeros = max((-(-size // self.stride) - 1) * self.stride + self.span - size, 0)
        return self._replace(before=zeros // 2, after=zeros - zeros // 2)

    def slice(self, tap: int, outputs: int) -> slice:
        """Which inputs a tap meets."""
        start = tap * self.dilation
        return slice(start, start + (outputs - 1) * self.stride + 1, self.stride)


class Sliding(Layer):
    """A layer that slides along time, and along bands where there are any.

    taps, stride : in time and in bands; dilation : inputs between taps in time.
    padding : "valid" pads nothing, "bands" pads the bands only, "same" both, so that ``size / stride`` come out.
    """

    merges = False
    """Whether bands that are always met together may be looked at as channels."""

    def __init__(
        self, taps: tuple[int, int], stride: tuple[int, int] = (1, 1), dilation: int = 1, padding: Padding = "valid"
    ) -> None:
        super().__init__()
        self.time, self.bands = Axis(taps[0], stride[0], dilation), Axis(taps[1], stride[1])
        self.padding = padding
        self.span, self.stride = self.time.span, stride[0]
        self.keeps_windows = padding != "same"
        self._known: dict[Shape, tuple[tuple[Axis, Axis], Shape, Shape]] = {}

    def geometry(self, shape: Shape) -> tuple[tuple[Axis, Axis], Shape, Shape]:
        """Axes, shape of the output, and shape to look at the input in, worked out once for an input of `shape`."""
        found = self._known.get(shape)
        if found is None:
            if len(self._known) > KNOWN:
                self._known.clear()
            axes, seen = self._merged(shape)
            found = self._known[shape] = axes, self.shape(shape), seen
        return found

    def _merged(self, shape: Shape) -> tuple[tuple[Axis, Axis], Shape]:
        """Axes, with bands that are always met together made channels of one: longer rows are faster."""
        time, bands = self.axes(shape)
        if (
            self.merges
            and bands.taps == bands.stride > 1
            and not (bands.before or bands.after or shape[1] % bands.taps)
        ):
            return (time, Axis(1, 1)), (shape[0], shape[1] // bands.taps, shape[2] * bands.taps)
        return (time, bands), shape

    def axes(self, shape: Shape) -> tuple[Axis, Axis]:
        """Return the two axes, padded for an input of `shape`; without bands the second does nothing."""
        time = self.time.padded(shape[0]) if self.padding == "same" else self.time
        if len(shape) == 2:
            return time, Axis(1, 1)
        return time, self.bands if self.padding == "valid" else self.bands.padded(shape[1])

    def slid(self, shape: Shape, what: str) -> Shape:
        """Shape of the output without its channels."""
        over_time(shape, what)
        axes = self.axes(shape)
        sizes = [axis.out(size) for axis, size in zip(axes, shape[:-1], strict=False)]
        for axis, size, out, name in zip(axes, shape, sizes, ("steps in time", "bands"), strict=False):
            if out < 1:
                raise ValueError(f"{what} needs {axis.span} {name} and gets {size}")
        return tuple(sizes)


class Convolution(Sliding):
    """Convolution, without bias unless asked for: batch normalisation follows.

    One window view, one copy, one matrix product. `channels` come out; None for a depthwise one, which filters
    each channel by itself. The kernel is ``(taps * channels in, channels out)``, or ``(taps, channels)``.
    """

    def __init__(
        self,
        channels: int | None,
        taps: tuple[int, int],
        stride: tuple[int, int] = (1, 1),
        dilation: int = 1,
        padding: Padding = "valid",
        *,
        bias: bool = False,
    ) -> None:
        super().__init__(taps, stride, dilation, padding)
        self.channels, self.bias = channels, bias
        self.merges = channels is not None
        self.rectifies = False
        """Whether ``max(y, 0)`` is part of the layer: only where it is used and not trained."""

    def shape(self, shape: Shape) -> Shape:
        return *self.slid(shape, "a convolution"), self.channels or shape[-1]

    def _taps(self, shape: Shape) -> int:
        return math.prod(axis.taps for axis in self.axes(shape))

    def build(self, shape: Shape, rng: np.random.Generator) -> Arrays:
        fan_in = self._taps(shape) * (shape[-1] if self.channels else 1)
        # He et al., "Delving Deep into Rectifiers", ICCV 2015: variance 2 / fan-in before a ReLU.
        kernel = rng.standard_normal((fan_in, self.channels or shape[-1])) * np.sqrt(2 / fan_in)
        weights = {"kernel": kernel.astype(np.float32)}
        return weights | ({"bias": np.zeros(kernel.shape[1], dtype=np.float32)} if self.bias else {})

    def multiply_adds(self, shape: Shape) -> int:
        each = self._taps(shape) * (shape[-1] if self.channels else 1)
        return math.prod(self.shape(shape)) * each

    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        axes, out, seen = self.geometry(x.shape[1:])
        given, x = x.shape, x.reshape(len(x), *seen)
        padded = with_zeros(x, axes, partial(scratch, self, "padded"))
        y = scratch(self, "y", (len(x), *out), x.dtype)
        if self.channels is None:
            kept = padded
            self._filter(padded, axes, y, scratch)
        else:
            kept = columns(padded, axes, partial(scratch, self, "columns"))
            np.matmul(kept, self.weights["kernel"], out=y.reshape(-1, self.channels))
        if "bias" in self.weights:
            y += self.weights["bias"]
        if self.rectifies:
            np.maximum(y, 0, out=y)
        return y, (kept, x.shape, axes, given)

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        seen, shape, axes, given = kept
        if "bias" in gradients:
            dy.reshape(-1, dy.shape[-1]).sum(axis=0, out=gradients["bias"])
        dy = dy if dy.ndim == 4 else dy[:, :, None]
        if self.channels is None:
            dx = self._filter_back(seen, axes, dy, gradients["kernel"], scratch)
        else:
            np.matmul(seen.T, dy.reshape(-1, self.channels), out=gradients["kernel"])
            if self.is_first:
                return np.empty(0, dtype=dy.dtype)
            is_dense = axes[0].stride == axes[1].stride == 1
            dx = (self._gathered if is_dense else self._scattered)(dy, shape, axes, scratch)
        return self._without_zeros(dx, shape, axes).reshape(given)

    def _gathered(self, dy: np.ndarray, shape: Shape, axes: tuple[Axis, Axis], scratch: Scratch) -> np.ndarray:
        """Gradient of the padded input as a convolution of `dy`, padded, with the kernel turned round."""
        time, bands = (Axis(a.taps, 1, a.dilation, a.span - 1, a.span - 1) for a in axes)
        around = time, bands
        wide = with_zeros(dy, around, partial(scratch, self, "wide"))
        back = columns(wide, around, partial(scratch, self, "back"))
        kernel = self.weights["kernel"].reshape(axes[0].taps, axes[1].taps, shape[-1], -1)
        turned = kernel[::-1, ::-1].transpose(0, 1, 3, 2).reshape(-1, shape[-1])
        size = (shape[0], *(axis.out(n) for axis, n in zip(around, dy.shape[1:3], strict=True)), shape[-1])
        dx = scratch(self, "dx", size, dy.dtype)
        np.matmul(back, turned, out=dx.reshape(-1, shape[-1]))
        return dx

    def _scattered(self, dy: np.ndarray, shape: Shape, axes: tuple[Axis, Axis], scratch: Scratch) -> np.ndarray:
        """Gradient of the padded input by adding up what each tap sends back."""
        kernel = self.weights["kernel"]
        back = scratch(self, "back", (dy[..., 0].size, len(kernel)), dy.dtype)
        np.matmul(dy.reshape(-1, dy.shape[-1]), kernel.T, out=back)
        back = back.reshape(*dy.shape[:3], axes[0].taps, axes[1].taps, shape[-1])
        dx = scratch(self, "dx", _padded_shape(shape, axes), dy.dtype)
        if all(axis.stride == axis.taps == axis.span for axis in axes):  # no two taps meet: nothing to add
            patches = dx[:, : dy.shape[1] * axes[0].taps, : dy.shape[2] * axes[1].taps]
            dx[:, patches.shape[1] :] = 0
            dx[:, :, patches.shape[2] :] = 0
            into = patches.reshape(len(dx), dy.shape[1], axes[0].taps, dy.shape[2], axes[1].taps, -1)
            into[...] = back.transpose(0, 1, 3, 2, 4, 5)
            return dx
        dx[...] = 0
        for t in range(axes[0].taps):
            for b in range(axes[1].taps):
                dx[:, axes[0].slice(t, dy.shape[1]), axes[1].slice(b, dy.shape[2])] += back[:, :, :, t, b]
        return dx

    def _filter(self, padded: np.ndarray, axes: tuple[Axis, Axis], y: np.ndarray, scratch: Scratch) -> None:
        """Filter each channel by itself."""
        y = y if y.ndim == 4 else y[:, :, None]
        part = scratch(self, "part", y.shape, y.dtype)
        for tap, (time, bands) in enumerate(np.ndindex(axes[0].taps, axes[1].taps)):
            met = padded[:, axes[0].slice(time, y.shape[1]), axes[1].slice(bands, y.shape[2])]
            np.multiply(met, self.weights["kernel"][tap], out=part if tap else y)
            if tap:
                y += part

    def _filter_back(
        self, padded: np.ndarray, axes: tuple[Axis, Axis], dy: np.ndarray, gradient: np.ndarray, scratch: Scratch
    ) -> np.ndarray:
        dx, part = scratch(self, "dx", padded.shape, dy.dtype), scratch(self, "part", dy.shape, dy.dtype)
        dx[...] = 0
        for tap, (time, bands) in enumerate(np.ndindex(axes[0].taps, axes[1].taps)):
            at = (slice(None), axes[0].slice(time, dy.shape[1]), axes[1].slice(bands, dy.shape[2]))
            np.multiply(padded[at], dy, out=part)
            part.reshape(-1, dy.shape[-1]).sum(axis=0, out=gradient[tap])
            np.multiply(dy, self.weights["kernel"][tap], out=part)
            dx[at] += part
        return dx

    @staticmethod
    def _without_zeros(dx: np.ndarray, shape: Shape, axes: tuple[Axis, Axis]) -> np.ndarray:
        steps, wide = shape[1], shape[2] if len(shape) == 4 else 1
        time, bands = axes
        return dx[:, time.before : time.before + steps, bands.before : bands.before + wide].reshape(shape)


Memory = Callable[[Shape, Any], np.ndarray]
"""Gives an array of a shape and type."""


def with_zeros(x: np.ndarray, axes: tuple[Axis, Axis], memory: Memory) -> np.ndarray:
    """Return the input as ``(clips, steps, bands, channels)``, in one piece of memory, with zeros around it."""
    x = x if x.ndim == 4 else x[:, :, None]
    time, bands = axes
    if not (time.before or time.after or bands.before or bands.after):
        return np.ascontiguousarray(x)
    steps, wide = x.shape[1:3]
    padded = memory(_padded_shape(x.shape, axes), x.dtype)
    padded[:, : time.before] = 0
    padded[:, time.before + steps :] = 0
    padded[:, :, : bands.before] = 0
    padded[:, :, bands.before + wide :] = 0
    padded[:, time.before : time.before + steps, bands.before : bands.before + wide] = x
    return padded


def columns(padded: np.ndarray, axes: tuple[Axis, Axis], memory: Memory) -> np.ndarray:
    """Copy what the kernel meets at each place into a row: ``(clips * steps * bands, taps * channels)``."""
    clips, steps, wide, channels = padded.shape
    time, bands = axes
    if time.taps == bands.taps == time.stride == bands.stride == 1:
        return padded.reshape(-1, channels)
    out_steps, out_wide = (steps - time.span) // time.stride + 1, (wide - bands.span) // bands.stride + 1
    sizes = clips, out_steps, out_wide, time.taps, bands.taps, channels
    by_clip, by_step, by_band, item = padded.strides
    strides = by_clip, time.stride * by_step, bands.stride * by_band, time.dilation * by_step, by_band, item
    copy = memory(sizes, padded.dtype)
    copy[...] = np.ndarray(sizes, padded.dtype, padded, 0, strides)  # as_strided without its overhead
    return copy.reshape(-1, time.taps * bands.taps * channels)


def _padded_shape(shape: Shape, axes: tuple[Axis, Axis]) -> Shape:
    clips, steps, wide, channels = shape if len(shape) == 4 else (*shape[:2], 1, shape[2])
    time, bands = axes
    return clips, steps + time.before + time.after, wide + bands.before + bands.after, channels
