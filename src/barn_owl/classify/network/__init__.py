"""The network engine: layers, loss and optimiser on NumPy, each alone.

Arrays are time first, channel last, float32. A layer holds weights and nothing of the batch it sees, so
that several threads can each push a part of a batch through the same network.
"""

from barn_owl.classify.network.layers import (
    BatchNorm,
    Convolution,
    Dense,
    Dropout,
    MeanOverTime,
    Relu,
    Residual,
)
from barn_owl.classify.network.loss import cross_entropy, log_softmax, softmax
from barn_owl.classify.network.network import Network
from barn_owl.classify.network.optimiser import AdamW, warm_cosine

__all__ = [
    "AdamW",
    "BatchNorm",
    "Convolution",
    "Dense",
    "Dropout",
    "MeanOverTime",
    "Network",
    "Relu",
    "Residual",
    "cross_entropy",
    "log_softmax",
    "softmax",
    "warm_cosine",
]
