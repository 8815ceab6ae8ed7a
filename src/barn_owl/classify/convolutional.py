"""The families tcn and cnn: networks that slide along time."""

from typing import Any, Literal

import numpy as np

from barn_owl.classify.family import Cost, Judged
from barn_owl.classify.network import Network, PoolAll
from barn_owl.classify.network.architecture import NetworkSettings, with_head
from barn_owl.classify.network.layer import Fresh, Layer
from barn_owl.classify.network.network import turned
from barn_owl.classify.plan import input_shape, layers_for

WINDOWS_AT_ONCE = 64
OWN_STEP = 4
"""Frames from one window to the next where windows cannot share their convolutions."""


class Convolutional:
    """A network over the frames of a window; `name` is "tcn" (bands are channels) or "cnn" (bands are an axis).

    Where nothing is padded in time, windows share their convolutions, and a window scores what the same excerpt would
    as a clip. Mean and last layer are linear, so the logits of a window are the mean of those of its steps.
    A network of the user's that pads in time or pools everything on the way is applied to each window by itself.
    """

    def __init__(
        self, name: str, frames: int, features: int, labels: int, settings: NetworkSettings, rng: np.random.Generator
    ) -> None:
        self.name, self.settings = name, settings
        layers = layers_for(settings, name, (frames, features))
        self._given = input_shape(name, (frames, features))
        self.network = Network(with_head(layers, self._given, labels, settings.dropout), self._given, rng)
        self._body, self._pool = _parted(self.network)
        span, jump = 1, 1
        for layer in self._body:
            span, jump = span + (layer.span - 1) * jump, jump * layer.stride
        if self.is_shared:
            self.steps = self.network.shapes[len(self._body)][0]
            self.step, self.reach, self.window = jump, span, span + (self.steps - 1) * jump
        else:
            self.step, self.reach, self.window = OWN_STEP, frames, frames
        self._folded: list[Layer] | None = None
        self._parts: tuple[list[Layer], list[Layer]] | None = None

    @property
    def is_shared(self) -> bool:
        """Whether windows share their convolutions."""
        return self._pool is not None

    def input(self, windows: np.ndarray) -> np.ndarray:
        """Windows ``(clips, frames, features)`` as the network is given them."""
        return windows.reshape(*windows.shape[:2], *self._given[1:])

    def logits(self, frames: np.ndarray, extras: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:  # noqa: ARG002
        """Return the logits of all windows and of all steps; see `Family`."""
        if self._pool is None:
            windows = self._each_window(frames, self._layers)
            return windows, windows
        steps, head = self._steps(frames)
        local = _through(head, steps.copy())  # layers may work in place
        # Mean and last layer are linear: the mean of the logits of steps is the logits of their mean.
        if self._pool == "mean" and len(head) == 1:
            return self._pooled(local), local
        return _through(head, self._pooled(steps)), local

    def judge(self, frames: np.ndarray, extras: np.ndarray | None = None) -> Judged:  # noqa: ARG002
        """Return the logits, and what the last layer decides by; see `Family`."""
        if self._pool is None:
            hidden = self._each_window(frames, self._layers[:-1])
            windows = _through(self._layers[-1:], hidden.copy())
            return Judged(windows, windows, hidden)
        steps, head = self._steps(frames)
        local = _through(head, steps.copy())
        hidden = _through(head[:-1], self._pooled(steps))
        if self._pool == "mean" and len(head) == 1:
            return Judged(self._pooled(local), local, hidden)
        return Judged(_through(head[-1:], hidden.copy()), local, hidden)

    @property
    def _layers(self) -> list[Layer]:
        if self._folded is None:
            self._folded = self.network.folded()
        return self._folded

    @property
    def _folded_parts(self) -> tuple[list[Layer], list[Layer]]:
        """The layers for use before and behind the pooling over time."""
        if self._parts is None:
            layers = self._layers
            cut = next(number for number, layer in enumerate(layers) if isinstance(layer, PoolAll))
            self._parts = layers[:cut], layers[cut + 1 :]
        return self._parts

    def _each_window(self, frames: np.ndarray, layers: list[Layer]) -> np.ndarray:
        view = np.lib.stride_tricks.sliding_window_view(frames, self.window, axis=0)[:: self.step].swapaxes(1, 2)
        parts = (view[at : at + WINDOWS_AT_ONCE] for at in range(0, len(view), WINDOWS_AT_ONCE))
        return np.concatenate([turned(_through(layers, turned(self.input(part)))) for part in parts])

    def _steps(self, frames: np.ndarray) -> tuple[np.ndarray, list[Layer]]:
        """What is pooled over time, ``(steps, channels)``, and the layers behind the pooling."""
        body, head = self._folded_parts
        steps = _through(body, turned(self.input(frames[None])))[:, 0]
        if steps.ndim > 2:
            steps = (np.max if self._pool == "max" else np.mean)(steps, axis=1)
        return steps, head

    def _pooled(self, steps: np.ndarray) -> np.ndarray:
        """Pool the steps of each window: ``(windows, channels)``."""
        # The first step of all windows, the second, ...: long calls, and a window's sum is the same wherever it lies.
        into, windows = np.maximum if self._pool == "max" else np.add, len(steps) - self.steps + 1
        if windows == 1:
            pooled = into.reduce(steps, axis=0, keepdims=True)
        else:
            pooled = steps[:windows].copy()
            for first in range(1, self.steps):
                into(pooled, steps[first : first + windows], out=pooled)
        return pooled if self._pool == "max" else np.divide(pooled, np.float32(self.steps), out=pooled)

    def renew(self) -> None:
        """Forget what was prepared for use, as the weights have changed."""
        self._folded = self._parts = None

    def arrays(self) -> dict[str, np.ndarray]:
        """Weights and running statistics of the network."""
        return self.network.arrays()

    def shape(self) -> dict[str, Any]:
        """Length of the window and the settings."""
        return {"frames": self.window, "settings": self.settings.model_dump()}

    def cost(self) -> Cost:
        """Weights and multiply-adds of one window on its own."""
        layers_and_shapes = zip(self.network.layers, self.network.shapes, strict=False)
        work = sum(layer.multiply_adds(shape) for layer, shape in layers_and_shapes)
        return Cost(weights=len(self.network.vector), multiply_adds=work)


def _through(layers: list[Layer], x: np.ndarray) -> np.ndarray:
    scratch = Fresh()
    for layer in layers:
        x, _ = layer.forward(x, None, scratch)
    return x


def _parted(network: Network) -> tuple[list[Layer], Literal["mean", "max"] | None]:
    """Layers that slide along time, and how their steps are pooled; None where that cannot be."""
    for number, layer in enumerate(network.layers):
        if isinstance(layer, PoolAll):
            return network.layers[:number], layer.kind
        if not layer.keeps_windows or len(network.shapes[number + 1]) == 1:
            break
    return network.layers, None
