"""A training step of the tcn against the same network in a general learning framework; needs the yardstick extra."""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
from barn_owl.classify.tcn import Tcn
from threadpoolctl import threadpool_limits
from timing import best_seconds, tell

from barn_owl.classify.network import AdamW
from barn_owl.classify.plan import TcnSettings

FRAMES, BANDS, LABELS = 97, 48, 7


def yardstick():
    """Build the same layers in the framework; time second there, channels first."""
    import torch
    from torch import nn

    class Shortcut(nn.Module):
        def __init__(self, inner):
            super().__init__()
            self.inner = inner

        def forward(self, x):
            y = self.inner(x)
            crop = (x.shape[2] - y.shape[2]) // 2
            return y + x[:, :, crop : crop + y.shape[2]]

    class Mean(nn.Module):
        def forward(self, x):
            return x.mean(2)

    def unit(channels_in, taps, stride=1):
        return [nn.Conv1d(channels_in, 64, taps, stride=stride, bias=False), nn.BatchNorm1d(64), nn.ReLU()]

    inner = nn.Sequential(*unit(64, 3), *unit(64, 3)[:-1])
    return torch, nn.Sequential(
        *unit(BANDS, 5, 2), *unit(64, 3), *unit(64, 5, 2), Shortcut(inner), nn.ReLU(), *unit(64, 3),
        Mean(), nn.Dropout(0.2), nn.Linear(64, LABELS),
    )  # fmt: skip


def main() -> None:
    try:
        torch, theirs = yardstick()
    except ImportError:
        print("training step: skipped, the yardstick extra is not installed")
        return
    torch.set_num_threads(2)
    rng = np.random.default_rng(0)
    network = Tcn(FRAMES, BANDS, LABELS, TcnSettings(), rng).network
    optimiser = AdamW(network.vector, decay=0.01, decayed=network.kernels)
    moved = torch.optim.AdamW(theirs.parameters(), lr=1e-3)
    threads = ThreadPoolExecutor(2)
    for clips in (32, 64):
        x = rng.standard_normal((clips, FRAMES, BANDS)).astype(np.float32)
        targets = np.eye(LABELS, dtype=np.float32)[rng.integers(0, LABELS, clips)]
        x_torch, t_torch = torch.tensor(x).transpose(1, 2).contiguous(), torch.tensor(targets)

        def ours(x=x, targets=targets) -> None:
            _, gradient = network.learn(x, targets, (0, 0), threads)
            optimiser.step(gradient, 1e-3)

        def general(x=x_torch, targets=t_torch) -> None:
            moved.zero_grad()
            torch.nn.functional.cross_entropy(theirs(x), targets).backward()
            moved.step()

        with threadpool_limits(limits=1, user_api="blas"):
            our_time, their_time = best_seconds(ours, general, rounds=6, repeats=6, pause_s=0.4)
        tell(
            f"tcn training step, {clips} clips of 1 s: times as fast as the framework", their_time / our_time, ">= 1"
        )
        tell(f"tcn training step, {clips} clips of 1 s: milliseconds", our_time * 1000, "(for information)")


if __name__ == "__main__":
    main()
