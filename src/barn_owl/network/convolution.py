"""Convolution over time, or over time and bands."""

import math
from collections.abc import Iterator, Mapping
from typing import Any, Literal, NamedTuple

import numpy as np
import scipy

from barn_owl.network.layer import Arrays, ChannelRole, Gradients, Layer, Scratch, Shape, over_time

CACHED_SHAPES = 64
"""Input shapes whose geometry a layer remembers."""
MIN_MATRIX_CHANNELS, MIN_MATRIX_ROWS = 16, 256
"""Channels from which a matrix product per tap is faster than a product of copied windows."""
ZERO = np.float32(0)

Padding = Literal["valid", "bands"]


class Axis(NamedTuple):
    """Kernel size, stride and zero padding along an axis."""

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
        """Pad to one output for each `stride` inputs; an odd zero is added at the end."""
        zeros = max((-(-size // self.stride) - 1) * self.stride + self.span - size, 0)
        return self._replace(before=zeros // 2, after=zeros - zeros // 2)

    def slice(self, tap: int, outputs: int) -> slice:
        """Which inputs a tap meets."""
        start = tap * self.dilation
        return slice(start, start + (outputs - 1) * self.stride + 1, self.stride)


class Geometry:
    """How a layer slides over an input; worked out once for each shape, since short inputs would pay for it.

    given : the shape to look at the input of one clip in, ``(steps, bands, channels)``. out : that of the output.
    """

    def __init__(self, axes: tuple[Axis, Axis], given: Shape, out: Shape) -> None:
        self.time, self.bands = time, bands = axes
        self.given, self.out = given, out
        self.steps, self.wide = (axis.out(size) for axis, size in zip(axes, given[:2], strict=True))
        self.is_padded = bool(bands.before or bands.after)
        self.padded = given[0], given[1] + bands.before + bands.after
        self.is_by_tap = time.stride == bands.stride == bands.taps == 1 and (
            given[2] >= MIN_MATRIX_CHANNELS or time.taps == 1
        )

    def met(self, tap: int) -> slice:
        """Which steps of the input a tap meets, where there are taps in time only and no strides."""
        return slice(tap * self.time.dilation, tap * self.time.dilation + self.steps)

    def taps(self) -> Iterator[tuple[slice, ...]]:
        """Which part of a batch each tap meets, over both axes."""
        for tap, band in np.ndindex(self.time.taps, self.bands.taps):
            yield self.time.slice(tap, self.steps), slice(None), self.bands.slice(band, self.wide)


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
        self._known: dict[Shape, Geometry] = {}

    @property
    def sizes(self) -> dict[str, object]:
        """Taps and strides, in time and in bands, as a plan has them."""
        taps, strides = (self.time.taps, self.bands.taps), (self.time.stride, self.bands.stride)
        return {"taps": taps, "stride": strides}

    def slides(self, *, bands: bool) -> str:
        """Describe kernel, stride and padding."""
        taps, strides = (
            f"{time} x {other}" if bands else f"{time}"
            for time, other in ((self.time.taps, self.bands.taps), (self.time.stride, self.bands.stride))
        )
        dilated = f", dilation {self.time.dilation}" if self.time.dilation > 1 else ""
        return f"{taps} taps, stride {strides}{dilated}"

    def geometry(self, shape: Shape) -> "Geometry":
        """How the layer goes over an input of `shape`, worked out once."""
        found = self._known.get(shape)
        if found is None:
            if len(self._known) > CACHED_SHAPES:
                self._known.clear()
            found = self._known[shape] = Geometry(*self._merged(shape), self.shape(shape))
        return found

    def _merged(self, shape: Shape) -> tuple[tuple[Axis, Axis], Shape]:
        """Return axes with bands merged into channels if each window covers them all: longer rows are faster."""
        time, bands = self.axes(shape)
        if (
            self.merges
            and bands.taps == bands.stride > 1
            and not (bands.before or bands.after or shape[1] % bands.taps)
        ):
            return (time, Axis(1, 1)), (shape[0], shape[1] // bands.taps, shape[2] * bands.taps)
        return (time, bands), shape if len(shape) == 3 else (shape[0], 1, shape[1])

    def axes(self, shape: Shape) -> tuple[Axis, Axis]:
        """Return the two axes, padded for an input of `shape`; without bands the second does nothing."""
        if len(shape) == 2:
            return self.time, Axis(1, 1)
        return self.time, self.bands if self.padding == "valid" else self.bands.padded(shape[1])

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
    """Convolution, without bias unless requested: batch normalization follows.

    Where each tap covers whole steps, as in all but the first layer of the sizes that ship, a matrix product per tap;
    else a single product of copied windows. `channels` : number of output channels; None for depthwise. The kernel is
    ``(taps * channels in, channels out)``, or ``(taps, channels)``.
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
        self.channel_role: ChannelRole = "follows" if channels is None else "makes"

    def words(self, *, bands: bool) -> str:
        return f"{'depthwise ' if self.channels is None else ''}convolution, {self.slides(bands=bands)}"

    def entry(self, channels: Mapping[str, int], name: str) -> dict[str, object]:
        own = None if self.channels is None else channels[name]
        more = {"dilation": self.time.dilation, "padding": self.padding, "bias": self.bias}
        return {"kind": "convolution", "channels": own, **self.sizes, **more}

    def folded(self, before: Layer | None) -> "Layer | None":
        own = (self.time.taps, self.bands.taps), (self.time.stride, self.bands.stride)
        copy = Convolution(self.channels, *own, self.time.dilation, self.padding)
        copy.weights = dict(self.weights)
        return copy

    def scaled(self, slope: np.ndarray, shift: np.ndarray) -> bool:
        if self.rectifies:
            return False
        bias = self.weights.get("bias", np.float32(0)) * slope + shift
        self.weights = {"kernel": self.weights["kernel"] * slope, "bias": bias}
        return True

    def rectified(self) -> bool:
        self.rectifies = True
        return True

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
        clips = x.shape[1]
        geometry = self.geometry((x.shape[0], *x.shape[2:]))
        given = x.reshape(geometry.given[0], clips, *geometry.given[1:])
        kept = self._with_zeros(given, geometry, scratch) if geometry.is_padded else given
        y = scratch(self, "y", (geometry.out[0], clips, *geometry.out[1:]), x.dtype)
        if self.channels is None:
            self._filter(kept, geometry, y.reshape(geometry.steps, clips, geometry.wide, -1), scratch)
        elif geometry.is_by_tap and clips * geometry.steps * geometry.wide >= MIN_MATRIX_ROWS:
            kept = np.ascontiguousarray(kept)
            self._multiply(kept, geometry, y.reshape(-1, self.channels), scratch)
        else:
            kept = self._columns(kept, geometry, scratch)
            np.matmul(kept, self.weights["kernel"], out=y.reshape(-1, self.channels))
        if "bias" in self.weights:
            y += self.weights["bias"]
        if self.rectifies:
            np.maximum(y, ZERO, out=y)
        return y, (kept, x.shape, geometry)

    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        seen, given, geometry = kept
        if "bias" in gradients:
            dy.reshape(-1, dy.shape[-1]).sum(axis=0, out=gradients["bias"])
        clips, channels = given[1], geometry.given[2]
        dx = scratch(self, "dx", (geometry.padded[0], clips, geometry.padded[1], channels), dy.dtype)
        if self.channels is None:
            dy = dy.reshape(geometry.steps, clips, geometry.wide, channels)
            self._filter_back(seen, geometry, dy, dx, gradients["kernel"], scratch)
        elif seen.ndim == 4:
            self._multiply_back(seen, geometry, dy.reshape(-1, self.channels), dx, gradients["kernel"], scratch)
        else:
            np.matmul(seen.T, dy.reshape(-1, self.channels), out=gradients["kernel"])
            if not self.is_first:
                self._scatter(dy.reshape(-1, self.channels), geometry, dx, scratch)
        if geometry.is_padded:
            first = geometry.bands.before
            dx = dx[:, :, first : first + geometry.given[1]]
        return dx.reshape(given)

    def _multiply(self, x: np.ndarray, geometry: Geometry, y: np.ndarray, scratch: Scratch) -> None:
        """Add up, for each tap, the steps it meets times its part of the kernel."""
        kernel = self.weights["kernel"].reshape(geometry.time.taps, -1, y.shape[1])
        for tap, weights in enumerate(kernel):
            met = x[geometry.met(tap)].reshape(len(y), -1)
            self._add_product(met, weights, y, scratch) if tap else np.matmul(met, weights, out=y)

    def _multiply_back(
        self,
        x: np.ndarray,
        geometry: Geometry,
        dy: np.ndarray,
        dx: np.ndarray,
        gradient: np.ndarray,
        scratch: Scratch,
    ) -> None:
        """Gradients of the kernel and of the input, tap by tap; the first layer needs none of its input."""
        kernel, gradient = (
            a.reshape(geometry.time.taps, -1, dy.shape[1]) for a in (self.weights["kernel"], gradient)
        )
        dx[geometry.steps :] = 0
        for tap, weights in enumerate(kernel):
            met = geometry.met(tap)
            np.matmul(x[met].reshape(len(dy), -1).T, dy, out=gradient[tap])
            if not self.is_first:
                into = dx[met].reshape(len(dy), -1)
                self._add_product(dy, weights.T, into, scratch) if tap else np.matmul(dy, weights.T, out=into)

    def _add_product(self, a: np.ndarray, b: np.ndarray, into: np.ndarray, scratch: Scratch) -> None:
        """Add ``a @ b`` to `into`; all contiguous, `b` possibly transposed."""
        if scratch.is_alone:
            # Inside the product itself, for nothing; but SciPy keeps the interpreter's lock meanwhile.
            gemm = scipy.linalg.blas.sgemm if into.dtype == np.float32 else scipy.linalg.blas.dgemm
            is_turned = not b.flags.c_contiguous
            gemm(1, b if is_turned else b.T, a.T, beta=1, c=into.T, trans_a=is_turned, overwrite_c=True)
        else:
            into += np.matmul(a, b, out=scratch(self, "part", into.shape, into.dtype))

    def _columns(self, x: np.ndarray, geometry: Geometry, scratch: Scratch) -> np.ndarray:
        """Copy the window of each output into a row: ``(steps * clips * bands, taps * channels)``."""
        time, bands, clips, channels = geometry.time, geometry.bands, x.shape[1], x.shape[3]
        sizes = geometry.steps, clips, geometry.wide, time.taps, bands.taps, channels
        by_step, by_clip, by_band, item = x.strides
        strides = time.stride * by_step, by_clip, bands.stride * by_band, time.dilation * by_step, by_band, item
        copy = scratch(self, "columns", sizes, x.dtype)
        if x.flags.c_contiguous:  # the same without its overhead
            np.copyto(copy, np.ndarray(sizes, x.dtype, x, 0, strides))
        else:
            np.copyto(copy, np.lib.stride_tricks.as_strided(x, sizes, strides))
        return copy.reshape(-1, time.taps * bands.taps * channels)

    def _scatter(self, dy: np.ndarray, geometry: Geometry, dx: np.ndarray, scratch: Scratch) -> None:
        """Sum the gradients of the taps."""
        kernel, channels = self.weights["kernel"], dx.shape[3]
        back = scratch(self, "back", (len(dy), len(kernel)), dy.dtype)
        np.matmul(dy, kernel.T, out=back)
        back = back.reshape(geometry.steps, dx.shape[1], geometry.wide, -1, channels)
        dx[...] = 0
        for tap, at in enumerate(geometry.taps()):
            dx[at] += back[:, :, :, tap]

    def _filter(self, x: np.ndarray, geometry: Geometry, y: np.ndarray, scratch: Scratch) -> None:
        """Filter each channel separately."""
        part = scratch(self, "part", y.shape, y.dtype)
        for tap, at in enumerate(geometry.taps()):
            np.multiply(x[at], self.weights["kernel"][tap], out=part if tap else y)
            if tap:
                y += part

    def _filter_back(
        self,
        x: np.ndarray,
        geometry: Geometry,
        dy: np.ndarray,
        dx: np.ndarray,
        gradient: np.ndarray,
        scratch: Scratch,
    ) -> None:
        """Gradients of the kernel and of the padded input of a depthwise convolution."""
        part = scratch(self, "part", dy.shape, dy.dtype)
        dx[...] = 0
        for tap, at in enumerate(geometry.taps()):
            np.multiply(x[at], dy, out=part)
            part.reshape(-1, dy.shape[-1]).sum(axis=0, out=gradient[tap])
            np.multiply(dy, self.weights["kernel"][tap], out=part)
            dx[at] += part

    def _with_zeros(self, x: np.ndarray, geometry: Geometry, scratch: Scratch) -> np.ndarray:
        """Return the input with zeros around it."""
        _, clips, wide, channels = x.shape
        bands = geometry.bands
        padded = scratch(self, "padded", (geometry.padded[0], clips, geometry.padded[1], channels), x.dtype)
        padded[:, :, : bands.before] = 0
        padded[:, :, bands.before + wide :] = 0
        padded[:, :, bands.before : bands.before + wide] = x
        return padded
