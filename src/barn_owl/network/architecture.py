"""Networks as data: lists of layers, the sizes that ship, and a cost summary."""

from collections.abc import Callable, Sequence
from typing import Annotated, Any, Literal

from pydantic import Field, field_validator

from barn_owl.network.convolution import Convolution
from barn_owl.network.layer import Layer, Shape
from barn_owl.network.layers import BatchNorm, Dense, Dropout, Relu, Residual
from barn_owl.network.pooling import FoldBands, Pool
from barn_owl.settings import Settings

Count = Annotated[int, Field(ge=1, le=4096)]


Both = Count | tuple[Count, Count]
"""In time and in bands; a single number is for time where there are no bands, and for both where there are."""


class ConvolutionSettings(Settings):
    """A convolution; without `channels` it is depthwise: each channel is filtered separately."""

    kind: Literal["convolution"] = "convolution"
    channels: Count | None = None
    taps: Both
    stride: Both = 1
    dilation: Count = 1
    padding: Literal["valid", "bands"] = "valid"
    bias: bool = False

    def layer(self) -> Layer:
        """Create the layer."""
        return Convolution(
            self.channels, _both(self.taps), _both(self.stride), self.dilation, self.padding, bias=self.bias
        )


class PoolSettings(Settings):
    """The largest value, or the mean, of each neighborhood."""

    kind: Literal["max_pool", "mean_pool"]
    taps: Both
    stride: Both | None = None

    def layer(self) -> Layer:
        """Create the layer."""
        kind: Literal["max", "mean"] = "max" if self.kind == "max_pool" else "mean"
        return Pool(kind, _both(self.taps), None if self.stride is None else _both(self.stride))


class DenseSettings(Settings):
    """A dense layer."""

    kind: Literal["dense"] = "dense"
    channels: Count

    def layer(self) -> Layer:
        """Create the layer."""
        return Dense(self.channels, is_last=False)


class DropoutSettings(Settings):
    """Dropout of a share of the values."""

    kind: Literal["dropout"] = "dropout"
    share: float = Field(ge=0, lt=1)

    def layer(self) -> Layer:
        """Create the layer."""
        return Dropout(self.share)


class PlainSettings(Settings):
    """A layer without settings."""

    kind: Literal["norm", "relu", "fold_bands"]

    def layer(self) -> Layer:
        """Create the layer."""
        kinds: dict[str, Callable[[], Layer]] = {"norm": BatchNorm, "relu": Relu, "fold_bands": FoldBands}
        return kinds[self.kind]()


class ResidualSettings(Settings):
    """A residual block: the sum of the input and of the output of inner layers."""

    kind: Literal["residual"] = "residual"
    layers: list["LayerSettings"] = Field(min_length=1)

    def layer(self) -> Layer:
        """Create the layer."""
        return Residual([inner.layer() for inner in self.layers])


LayerSettings = Annotated[
    ConvolutionSettings | PoolSettings | DenseSettings | DropoutSettings | PlainSettings | ResidualSettings,
    Field(discriminator="kind"),
]


def _both(size: int | tuple[int, int]) -> tuple[int, int]:
    return (size, size) if isinstance(size, int) else size


class NetworkSettings(Settings):
    """Networks whose mean is the answer: kinds and a size that ship, or lists of layers."""

    kinds: list[Literal["2d", "1d"]] = Field(default=["2d", "1d"], min_length=1, max_length=16)
    """Networks to average: convolutions over time and bands ("2d"), or along time with bands as channels ("1d")."""
    size: Literal["tiny", "small", "medium"] = "small"
    """Size of each network."""
    dropout: float = Field(default=0.2, ge=0, lt=1)
    """Dropout probability before the last layer."""
    layers: list[list[LayerSettings]] = Field(default=[], max_length=16)
    """Layers of each network, instead of `kinds` and `size`; a single list for a single network."""

    @field_validator("layers", mode="before")
    @classmethod
    def _of_one(cls, layers: Any) -> Any:
        is_one = isinstance(layers, list) and layers and not isinstance(layers[0], list)
        return [layers] if is_one else layers

    @property
    def count(self) -> int:
        """How many networks there are."""
        return len(self.layers) or len(self.kinds)

    def only(self, number: int) -> "NetworkSettings":
        """Return the settings with a single network, by its number."""
        own = {"layers": [self.layers[number]]} if self.layers else {"kinds": [self.kinds[number]]}
        return self.model_copy(update=own)


def cnn_layers(size: str) -> list[Layer]:
    """Convolutions over time and bands first, so that a pattern may move in pitch, and along time after them."""
    first, second, third, channels = {
        "tiny": (8, 16, 24, 32), "small": (16, 32, 48, 64), "medium": (24, 48, 64, 96)
    }[size]  # fmt: skip

    def merging(channels: int, stride: int) -> list[Layer]:
        # Two neighboring bands at a time, none of them twice: they are looked at as channels, which is fast.
        return [Convolution(channels, (3, 2), (stride, 2)), BatchNorm(), Relu()]

    def further(dilation: int) -> list[Layer]:
        inner = [
            Convolution(channels, (3, 1), dilation=dilation), BatchNorm(), Relu(),
            Convolution(channels, (1, 1)), BatchNorm(),
        ]  # fmt: skip
        return [Residual(inner), Relu()]

    # In steps of three bands: in steps of two, this network costs 40 % more and is no more accurate on most problems.
    fine = [Convolution(first, (5, 5), (2, 3), padding="bands"), BatchNorm(), Relu()]
    patterns = [*fine, *merging(second, 2), *merging(third, 1)]
    along = [FoldBands(), Convolution(channels, (3, 1)), BatchNorm(), Relu()]
    return [*patterns, *along, *further(2), *further(4)]


def channel_layers(size: str) -> list[Layer]:
    """Convolutions along time with the bands as channels; as wide a view and as long a step as `cnn_layers`."""
    channels = {"tiny": 32, "small": 64, "medium": 96}[size]

    def unit(taps: int, stride: int = 1, dilation: int = 1) -> list[Layer]:
        return [Convolution(channels, (taps, 1), (stride, 1), dilation=dilation), BatchNorm(), Relu()]

    def further(dilation: int) -> list[Layer]:
        return [Residual([*unit(3, dilation=dilation), *unit(1)[:-1]]), Relu()]

    return [FoldBands(), *unit(9, 4), *unit(3), *further(1), *further(2), *further(4)]


def with_head(layers: Sequence[Layer], shape: Shape, outputs: int, dropout: float) -> list[Layer]:
    """Add the head, dropout and a dense layer, to the layers of a network."""
    for layer in layers:
        shape = layer.shape(shape)
    folded: list[Layer] = [FoldBands()] if len(shape) == 3 else []
    return [*layers, *folded, Dropout(dropout), Dense(outputs)]


def layers_for(settings: NetworkSettings, number: int) -> list[Layer]:
    """Create the layers of a network without its head: from the plan, or of a kind and size that ship."""
    if settings.layers:
        return [layer.layer() for layer in settings.layers[number]]
    return cnn_layers(settings.size) if settings.kinds[number] == "2d" else channel_layers(settings.size)
