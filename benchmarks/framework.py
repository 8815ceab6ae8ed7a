"""The same network in a general learning framework, as a yardstick; needs the yardstick dependency group."""

import torch
from torch import nn

from barn_owl.network import BatchNorm, Convolution, Dense, Dropout, FoldBands, Layer, RelativeLevel, Relu, Residual


class Shortcut(nn.Module):
    def __init__(self, inner: nn.Module) -> None:
        super().__init__()
        self.inner = inner

    def forward(self, x):
        y = self.inner(x)
        crop = (x.shape[2] - y.shape[2]) // 2
        return y + x[:, :, crop : crop + y.shape[2]]


class Level(nn.Module):
    """Levels relative to the mean power of this many frames around."""

    def __init__(self, span: int, range_db: float) -> None:
        super().__init__()
        self.span, self.least = span, 10 ** (-range_db / 10)

    def forward(self, x):
        power = torch.exp(x * 0.23025851)
        mean = nn.functional.avg_pool1d(power.mean(3), self.span, 1)[..., None] + 1e-20
        first = (self.span - 1) // 2
        kept = power[:, :, first : first + mean.shape[2]] / mean + self.least
        return torch.log10(kept) * (10 / 15) + 1


class FrameScores(nn.Module):
    """A dense layer at each step."""

    def __init__(self, inputs: int, outputs: int) -> None:
        super().__init__()
        self.inner = nn.Linear(inputs, outputs)

    def forward(self, x):
        return self.inner(x.transpose(1, 2))


class Fold(nn.Module):
    """Time is the second last axis in two dimensions, the last in a single dimension."""

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
            padding = pad[-cut:] if cut == 2 else 0
            dilation = (layer.time.dilation, 1)[:cut]
            made.append(kind(shape[-1], layer.channels, taps[:cut], stride[:cut], padding, dilation, bias=False))
        elif isinstance(layer, BatchNorm):
            made.append((nn.BatchNorm1d if flat else nn.BatchNorm2d)(shape[-1]))
        elif isinstance(layer, Relu):
            made.append(nn.ReLU())
        elif isinstance(layer, Residual):
            made.append(Shortcut(same(layer.inner, shape)))
        elif isinstance(layer, RelativeLevel):
            made.append(Level(layer.span, layer.range_db))
        elif isinstance(layer, FoldBands):
            made.append(Fold())
        elif isinstance(layer, Dropout):
            made.append(nn.Dropout(layer.share))
        elif isinstance(layer, Dense):
            made.append(FrameScores(shape[-1], layer.channels))
        else:
            raise TypeError(f"no yardstick for {type(layer).__name__}")
        shape = layer.shape(shape)
    return nn.Sequential(*made)


def batch(x) -> torch.Tensor:
    """A batch of windows as the framework wants it."""
    x = torch.tensor(x)
    return x.transpose(1, 2).contiguous() if x.ndim == 3 else x.permute(0, 3, 1, 2).contiguous()
