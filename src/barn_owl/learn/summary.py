"""What each layer of a network gives and costs."""

import math

import pandas as pd

from barn_owl.network.convolution import Convolution
from barn_owl.network.layer import Layer
from barn_owl.network.layers import BatchNorm, Dense, Dropout, Relu, Residual
from barn_owl.network.level import RelativeLevel
from barn_owl.network.network import Network
from barn_owl.network.pooling import FoldBands, Pool


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
    if isinstance(layer, RelativeLevel):
        return f"relative level, {layer.span} frames"
    names: dict[type[Layer], str] = {BatchNorm: "norm", Relu: "relu", FoldBands: "fold bands"}
    if isinstance(layer, Dropout):
        return f"dropout {layer.share:g}"
    return "dense" if isinstance(layer, Dense) else names[type(layer)]
