"""The network engine: layers, losses and the optimizer, on NumPy.

Arrays are time first, channel last, float32. A layer stores weights and no batch, so several threads can push parts
of a batch through the same network.
"""

from barn_owl.network.convolution import Convolution
from barn_owl.network.layer import Layer
from barn_owl.network.layers import BatchNorm, Dense, Dropout, Relu, Residual
from barn_owl.network.level import RelativeLevel
from barn_owl.network.loss import (
    attention_pool,
    binary_cross_entropy,
    cross_entropy,
    log_softmax,
    sigmoid,
    softmax,
    step_cross_entropy,
    stretch_cross_entropy,
    weighted_cross_entropy,
)
from barn_owl.network.network import Network
from barn_owl.network.optimizer import AdamW, warm_cosine
from barn_owl.network.pooling import FoldBands, Pool

__all__ = [
    "AdamW",
    "BatchNorm",
    "Convolution",
    "Dense",
    "Dropout",
    "FoldBands",
    "Layer",
    "Network",
    "Pool",
    "RelativeLevel",
    "Relu",
    "Residual",
    "attention_pool",
    "binary_cross_entropy",
    "cross_entropy",
    "log_softmax",
    "sigmoid",
    "softmax",
    "step_cross_entropy",
    "stretch_cross_entropy",
    "warm_cosine",
    "weighted_cross_entropy",
]
