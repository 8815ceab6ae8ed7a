"""A trained network as a list of plain stages, for cost estimates and exports.

Normalization and rectifiers are merged into the preceding convolution, a dense layer is a convolution of a single
tap, and folding bands into channels needs no stage, since the memory layout is the same. A stage is applied along
time and depends on the last `span` steps of its input only, so a stream is processed step by step.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from barn_owl.classifiers.cnn import Convolutional
from barn_owl.errors import ModelError
from barn_owl.network import Dense, RelativeLevel
from barn_owl.network.convolution import Convolution
from barn_owl.network.layer import Layer, Shape
from barn_owl.network.layers import Relu, Residual
from barn_owl.network.pooling import FoldBands, Pool


@dataclass(frozen=True, kw_only=True)
class Stage:
    """A stage of a network. Sizes are ``(bands, channels)`` of a step in time.

    kind : "convolution", "depthwise", "max", "mean" or "residual". taps, stride : in time and in bands;
    dilation : steps between taps in time; before : zeros put below the lowest band. kernel : float32,
    ``(taps in time, taps in bands, channels in, channels out)``, of a depthwise stage without the last; bias :
    ``(channels out,)``. rectifies : whether ``max(y, 0)`` follows. inner : stages whose output a residual stage adds
    to its input.
    """

    kind: str
    given: tuple[int, int]
    out: tuple[int, int]
    taps: tuple[int, int] = (1, 1)
    stride: tuple[int, int] = (1, 1)
    dilation: int = 1
    before: int = 0
    kernel: np.ndarray | None = None
    bias: np.ndarray | None = None
    rectifies: bool = False
    inner: list["Stage"] = field(default_factory=list)

    @property
    def span(self) -> int:
        """Number of input steps per output step."""
        return 1 + sum(one.span - 1 for one in self.inner) if self.inner else (self.taps[0] - 1) * self.dilation + 1

    @property
    def values_in(self) -> int:
        """Number of input values per step."""
        return self.given[0] * self.given[1]

    @property
    def values_out(self) -> int:
        """Number of output values per step."""
        return self.out[0] * self.out[1]

    @property
    def weights(self) -> int:
        """Number of weights, inner stages included."""
        own = sum(0 if array is None else array.size for array in (self.kernel, self.bias))
        return own + sum(one.weights for one in self.inner)

    @property
    def multiply_adds(self) -> int:
        """Multiply-adds per output step."""
        own = 0 if self.kernel is None else self.out[0] * self.kernel.size
        return own + sum(one.multiply_adds for one in self.inner)

    @property
    def kept_values(self) -> int:
        """Values that a stream keeps between steps: the last `span` steps of the input."""
        rings = self.span * self.values_in if self.span > 1 else 0
        return rings + sum(one.kept_values for one in self.inner)


def stages_of(classifier: Convolutional) -> list[list[Stage]]:
    """Return the stages of each network of a classifier, behind the level that all share.

    Raises ModelError for a network with unsupported layers.
    """
    networks = []
    for network in classifier.networks:
        layers, shape = network.folded(), network.shapes[0]
        if isinstance(layers[0], RelativeLevel):
            shape, layers = layers[0].shape(shape), layers[1:]
        networks.append(_stages(layers, shape))
    return networks


def _stages(layers: Sequence[Layer], shape: Shape) -> list[Stage]:
    found: list[Stage] = []
    for layer in layers:
        given, after = _step(shape), layer.shape(shape)
        out = _step(after)
        if isinstance(layer, Residual):
            found.append(Stage(kind="residual", given=given, out=out, inner=_stages(layer.inner, shape)))
        elif isinstance(layer, Relu) and found:
            found[-1] = replace(found[-1], rectifies=True)
        elif isinstance(layer, Dense):
            kernel = layer.weights["kernel"][None, None]
            found.append(Stage(kind="convolution", given=given, out=out, kernel=kernel, bias=layer.weights["bias"]))
        elif isinstance(layer, Convolution | Pool):
            found.append(_sliding(layer, shape, given, out))
        elif not isinstance(layer, FoldBands):
            raise ModelError(f"a network that begins with {type(layer).__name__} cannot be handed over")
        shape = after
    return found


def _sliding(layer: Convolution | Pool, shape: Shape, given: tuple[int, int], out: tuple[int, int]) -> Stage:
    time, bands = layer.axes(shape)
    kind, kernel, bias, rectifies = "", None, None, False
    if isinstance(layer, Pool):
        kind = layer.kind
    else:
        kind = "depthwise" if layer.channels is None else "convolution"
        sizes = (time.taps, bands.taps, given[1]) if layer.channels is None else (time.taps, bands.taps, given[1], -1)
        kernel, rectifies = layer.weights["kernel"].reshape(sizes), layer.rectifies
        bias = np.broadcast_to(layer.weights.get("bias", np.float32(0)), (out[1],)).astype(np.float32)
    return Stage(
        kind=kind, given=given, out=out, taps=(time.taps, bands.taps), stride=(time.stride, bands.stride),
        dilation=time.dilation, before=bands.before, kernel=kernel, bias=bias, rectifies=rectifies,
    )  # fmt: skip


def _step(shape: Shape) -> tuple[int, int]:
    """Return bands and channels of a step in time."""
    return (shape[1], shape[2]) if len(shape) == 3 else (1, shape[-1])


def all_stages(stages: Sequence[Stage]) -> list[Stage]:
    """Return all stages in order, inner stages after their residual stage."""
    found: list[Stage] = []
    for stage in stages:
        found += [stage, *all_stages(stage.inner)]
    return found


def columns(stage: Stage, x: np.ndarray, zero: float) -> np.ndarray:
    """Return the input patches of a stage, ``(steps out, bands out, taps in time, taps in bands, channels)``.

    x : ``(steps, bands, channels)``. zero : value of padding bands.
    """
    x = x.reshape(len(x), *stage.given)
    reach = (stage.out[0] - 1) * stage.stride[1] + stage.taps[1]
    after = max(0, reach - stage.before - stage.given[0])
    if stage.before or after:
        x = np.pad(x, ((0, 0), (stage.before, after), (0, 0)), constant_values=zero)
    x = np.ascontiguousarray(x)
    steps = (len(x) - stage.span) // stage.stride[0] + 1
    by_step, by_band, item = x.strides
    sizes = max(steps, 0), stage.out[0], *stage.taps, stage.given[1]
    strides = stage.stride[0] * by_step, stage.stride[1] * by_band, stage.dilation * by_step, by_band, item
    return np.ascontiguousarray(np.lib.stride_tricks.as_strided(x, sizes, strides))


def run(stages: Sequence[Stage], x: np.ndarray, watch: Callable[[Stage, np.ndarray], None]) -> np.ndarray:
    """Pass steps, ``(steps, bands, channels)``, through stages in float32; `watch` is called with the output of each.

    The inner stages of a residual stage are watched before the stage itself.
    """
    for stage in stages:
        if stage.inner:
            made = run(stage.inner, x, watch)
            crop = (stage.span - 1) // 2
            y = made + x.reshape(len(x), -1)[crop : crop + len(made)].reshape(made.shape)
        else:
            met = columns(stage, x, 0.0)
            y = _computed(stage, met)
        if stage.rectifies:
            np.maximum(y, 0, out=y)
        watch(stage, y)
        x = y
    return x


def _computed(stage: Stage, met: np.ndarray) -> np.ndarray:
    if stage.kind in ("max", "mean"):
        return np.asarray(met.max(axis=(2, 3)) if stage.kind == "max" else met.mean(axis=(2, 3)))
    if stage.kernel is None:
        raise AssertionError(stage.kind)
    if stage.kind == "depthwise":
        y = np.einsum("sbtuc,tuc->sbc", met, stage.kernel)
    else:
        y = met.reshape(*met.shape[:2], -1) @ stage.kernel.reshape(-1, stage.out[1])
    return np.asarray(y if stage.bias is None else y + stage.bias)
