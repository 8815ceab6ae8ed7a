"""Networks as data: a list of layers in a plan, the sizes that ship, and a summary of what they cost."""

import math
from collections.abc import Sequence
from typing import Annotated, Literal

import pandas as pd
from pydantic import Field

from barn_owl.classify.network.convolution import Convolution
from barn_owl.classify.network.layer import Layer, Shape
from barn_owl.classify.network.layers import BatchNorm, Dense, Dropout, Relu, Residual
from barn_owl.classify.network.network import Network
from barn_owl.classify.network.pooling import Flatten, FoldBands, Pool, PoolAll
from barn_owl.settings import Settings

Count = Annotated[int, Field(ge=1, le=4096)]
Both = Count | tuple[Count, Count]
"""In time and in bands; a single number is for time where there are no bands, and for both where there are."""


class ConvolutionSettings(Settings):
    """A convolution; without `channels` it is depthwise: each channel is filtered by itself."""

    kind: Literal["convolution"] = "convolution"
    channels: Count | None = None
    taps: Both
    stride: Both = 1
    dilation: Count = 1
    padding: Literal["valid", "bands", "same"] = "valid"
    bias: bool = False

    def layer(self) -> Layer:
        """Make the layer."""
        return Convolution(
            self.channels, _both(self.taps), _both(self.stride), self.dilation, self.padding, bias=self.bias
        )


class PoolSettings(Settings):
    """The largest value, or the mean, of each neighbourhood."""

    kind: Literal["max_pool", "mean_pool"]
    taps: Both
    stride: Both | None = None

    def layer(self) -> Layer:
        """Make the layer."""
        kind: Literal["max", "mean"] = "max" if self.kind == "max_pool" else "mean"
        return Pool(kind, _both(self.taps), None if self.stride is None else _both(self.stride))


class DenseSettings(Settings):
    """A dense layer."""

    kind: Literal["dense"] = "dense"
    channels: Count

    def layer(self) -> Layer:
        """Make the layer."""
        return Dense(self.channels, is_last=False)


class DropoutSettings(Settings):
    """Dropout of a share of the values."""

    kind: Literal["dropout"] = "dropout"
    share: float = Field(ge=0, lt=1)

    def layer(self) -> Layer:
        """Make the layer."""
        return Dropout(self.share)


class PlainSettings(Settings):
    """A layer without settings."""

    kind: Literal["norm", "relu", "mean_over_all", "max_over_all", "fold_bands", "flatten"]

    def layer(self) -> Layer:
        """Make the layer."""
        return {
            "norm": BatchNorm,
            "relu": Relu,
            "mean_over_all": lambda: PoolAll("mean"),
            "max_over_all": lambda: PoolAll("max"),
            "fold_bands": FoldBands,
            "flatten": Flatten,
        }[self.kind]()


class ResidualSettings(Settings):
    """The sum of the input and of what the layers inside make of it."""

    kind: Literal["residual"] = "residual"
    layers: list["LayerSettings"] = Field(min_length=1)

    def layer(self) -> Layer:
        """Make the layer."""
        return Residual([inner.layer() for inner in self.layers])


LayerSettings = Annotated[
    ConvolutionSettings | PoolSettings | DenseSettings | DropoutSettings | PlainSettings | ResidualSettings,
    Field(discriminator="kind"),
]


def _both(size: int | tuple[int, int]) -> tuple[int, int]:
    return (size, size) if isinstance(size, int) else size


class NetworkSettings(Settings):
    """A network: a size that ships, or a list of layers.

    After the layers, whatever is left of time and bands is averaged, and a dense layer gives the labels.
    """

    size: Literal["tiny", "small", "medium"] = "small"
    dropout: float = Field(default=0.2, ge=0, lt=1)
    layers: list[LayerSettings] = Field(default=[])


def tcn_layers(size: str) -> list[Layer]:
    """Convolutions along time with the bands as channels: the first takes steps of four frames."""
    channels = {"tiny": 24, "small": 64, "medium": 96}[size]

    def unit(taps: int, stride: int = 1) -> list[Layer]:
        return [Convolution(channels, (taps, 1), (stride, 1)), BatchNorm(), Relu()]

    def residual() -> list[Layer]:
        return [Residual([*unit(3), *unit(3)[:-1]]), Relu()]

    more = residual() if size == "medium" else []
    return [*unit(6, stride=4), *unit(3), *residual(), *more, *unit(3)]


def cnn_layers(size: str) -> list[Layer]:
    """Convolutions over time and bands first, so that a pattern may move in pitch, and along time after them."""
    narrow, wide, channels = {"tiny": (12, 16, 24), "small": (32, 48, 64), "medium": (48, 64, 96)}[size]

    def unit(channels: int, taps: tuple[int, int], stride: tuple[int, int]) -> list[Layer]:
        return [Convolution(channels, taps, stride, padding="bands"), BatchNorm(), Relu()]

    def along(taps: int) -> list[Layer]:
        return [Convolution(channels, (taps, 1)), BatchNorm(), Relu()]

    over_both = [*unit(narrow, (6, 8), (4, 4)), *unit(wide, (3, 2), (1, 2))]
    return [*over_both, FoldBands(), *along(3), Residual([*along(3), *along(3)[:-1]]), Relu()]


def with_head(layers: Sequence[Layer], shape: Shape, labels: int, dropout: float) -> list[Layer]:
    """Add what makes logits of the last layer's output: a mean over what is left of time, dropout, a dense layer."""
    for layer in layers:
        shape = layer.shape(shape)
    pooled: list[Layer] = [] if len(shape) == 1 else [PoolAll()]
    return [*layers, *pooled, Dropout(dropout), Dense(labels)]


def summary(network: Network, hop_ms: float, frame_ms: float) -> pd.DataFrame:
    """Say what each layer of a network gives and costs for one window.

    Columns: ``layer``, ``output`` (shape), ``weights``, ``multiply_adds``, ``activation_kb`` (of the output in
    float32) and ``sees_ms``: how much sound one step of the output looks at, NaN where time is gone.
    """
    counts: dict[int, int] = {}
    for name, array in network.arrays().items():
        if not name.endswith(("mean", "variance")):
            counts[int(name.split(".")[0])] = counts.get(int(name.split(".")[0]), 0) + array.size
    rows, span, jump = [], 1, 1
    for number, layer in enumerate(network.layers):
        span, jump = span + (layer.span - 1) * jump, jump * layer.stride
        output = network.shapes[number + 1]
        rows.append(
            {
                "layer": _described(layer, bands=len(network.shapes[number]) == 3),
                "output": " x ".join(map(str, output)),
                "weights": counts.get(number, 0),
                "multiply_adds": layer.multiply_adds(network.shapes[number]),
                "activation_kb": math.prod(output) * 4 / 1000,
                "sees_ms": frame_ms + (span - 1) * hop_ms if len(output) > 1 else float("nan"),
            }
        )
    return pd.DataFrame(rows)


def _described(layer: Layer, *, bands: bool) -> str:
    if isinstance(layer, Residual):
        return f"residual of {sum(isinstance(inner, Convolution) for inner in layer.inner)} convolutions"
    if isinstance(layer, Convolution | Pool):
        sizes = [
            f"{axis} x {other}" if bands else f"{axis}"
            for axis, other in ((layer.time.taps, layer.bands.taps), (layer.time.stride, layer.bands.stride))
        ]
        kind = "convolution" if isinstance(layer, Convolution) else f"{layer.kind} pool"
        kind = f"depthwise {kind}" if isinstance(layer, Convolution) and layer.channels is None else kind
        dilated = f", dilation {layer.time.dilation}" if layer.time.dilation > 1 else ""
        return f"{kind}, {sizes[0]} taps, stride {sizes[1]}{dilated}"
    if isinstance(layer, PoolAll):
        return f"{layer.kind} over all"
    names: dict[type[Layer], str] = {BatchNorm: "norm", Relu: "relu", Flatten: "flatten", FoldBands: "fold bands"}
    if isinstance(layer, Dropout):
        return f"dropout {layer.share:g}"
    return "dense" if isinstance(layer, Dense) else names[type(layer)]
