"""Output and cost of each layer of a network."""

import math

import pandas as pd

from barn_owl.network.network import Network


def summary(network: Network, hop_ms: float, frame_ms: float) -> pd.DataFrame:
    """Summarize output and cost of each layer of a network for a window.

    Columns: ``layer``, ``output`` (shape), ``weights``, ``multiply_adds``, ``activation_kb`` (of the output in
    float32) and ``receptive_field_ms`` of an output step, NaN after pooling over all time.
    """
    counts: dict[int, int] = {}
    for name, array in network.state().items():
        if not name.endswith(("mean", "variance")):
            counts[int(name.split(".")[0])] = counts.get(int(name.split(".")[0]), 0) + array.size
    rows, span, jump = [], 1, 1
    for number, layer in enumerate(network.layers):
        span, jump = span + (layer.span - 1) * jump, jump * layer.stride
        output = network.shapes[number + 1]
        rows.append(
            {
                "layer": layer.words(bands=len(network.shapes[number]) == 3),
                "output": " x ".join(map(str, output)),
                "weights": counts.get(number, 0),
                "multiply_adds": layer.multiply_adds(network.shapes[number]),
                "activation_kb": math.prod(output) * 4 / 1000,
                "receptive_field_ms": frame_ms + (span - 1) * hop_ms if len(output) > 1 else float("nan"),
            }
        )
    return pd.DataFrame(rows)
