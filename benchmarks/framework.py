"""The same network in a general learning framework, as a yardstick; needs the yardstick extra."""

import torch
from torch import nn

from barn_owl.classify.network import (
    BatchNorm,
    Convolution,
    Dense,
    Dropout,
    FoldBands,
    Layer,
    PoolAll,
    Relu,
    Residual,
)


class Shortcut(nn.Module):
    def __init__(self, inner: nn.Module) -> None:
        super().__init__()
        self.inner = inner

    def forward(self, x):
        y = self.inner(x)
        crop = (x.shape[2] - y.shape[2]) // 2
        return y + x[:, :, crop : crop + y.shape[2]]


class Mean(nn.Module):
    def forward(self, x):
        return x.flatten(2).mean(2)


class Fold(nn.Module):
    """Time is the last axis but one in two dimensions, the last in one."""

    def forward(self, x):
        return x.transpose(2, 3).flatten(1, 2)


def same(layers: list[Layer], shape: tuple[int, ...]) -> nn.Sequential:
    """The same layers there: channels first, then time, then bands."""
    made: list[nn.Module] = []
    for layer in layers:
        flat = len(shape) == 2
        if isinstance(layer, Convolution):
            taps, stride = (layer.time.taps, layer.bands.taps), (layer.time.stride, layer.bands.stride)
            pad = (0, 0) if layer.padding == "valid" else (0, (layer.bands.taps - 1) // 2)
            kind, cut = (nn.Conv1d, 1) if flat else (nn.Conv2d, 2)
            made.append(
                kind(shape[-1], layer.channels, taps[:cut], stride[:cut], pad[-cut:] if cut == 2 else 0, bias=False)
            )
        elif isinstance(layer, BatchNorm):
            made.append((nn.BatchNorm1d if flat else nn.BatchNorm2d)(shape[-1]))
        elif isinstance(layer, Relu):
            made.append(nn.ReLU())
        elif isinstance(layer, Residual):
            made.append(Shortcut(same(layer.inner, shape)))
        elif isinstance(layer, PoolAll):
            made.append(Mean())
        elif isinstance(layer, FoldBands):
            made.append(Fold())
        elif isinstance(layer, Dropout):
            made.append(nn.Dropout(layer.share))
        elif isinstance(layer, Dense):
            made.append(nn.Linear(shape[-1], layer.channels))
        else:
            raise TypeError(f"no yardstick for {type(layer).__name__}")
        shape = layer.shape(shape)
    return nn.Sequential(*made)


def batch(x) -> torch.Tensor:
    """A batch of windows as the framework wants it."""
    x = torch.tensor(x)
    return x.transpose(1, 2).contiguous() if x.ndim == 3 else x.permute(0, 3, 1, 2).contiguous()
