"""The family cnn: a network that slides along time, over levels that do not depend on the gain."""

from typing import Any

import numpy as np

from barn_owl.model.family import Cost, Steps
from barn_owl.model.settings import LevelSettings
from barn_owl.network import Dense, Network, RelativeLevel
from barn_owl.network.architecture import NetworkSettings, layers_for, with_head
from barn_owl.network.layer import Fresh, Layer
from barn_owl.network.network import turned

COST_STEPS, FRAMES_A_SECOND = 100, 100
"""Steps over which the work is averaged, as neighbours share it, and frames at a hop of 10 ms."""


class Convolutional:
    """A network over frames. Nothing is padded in time, and neighbouring steps share their convolutions.

    It has two outputs a label: whether the label sounds, and whether it begins.
    """

    name = "cnn"

    def __init__(
        self, features: int, labels: int, settings: NetworkSettings, level: LevelSettings, rng: np.random.Generator
    ) -> None:
        self.settings, self.level, self.labels = settings, level, labels
        before: list[Layer] = [RelativeLevel(level.frames, level.range_db)] if level.frames else []
        body = [*before, *layers_for(settings)]
        self.window, self.step = 1, 1
        for layer in body:
            self.window += (layer.span - 1) * self.step
            self.step *= layer.stride
        shape = (self.window, features, 1)
        self.network = Network(with_head(body, shape, 2 * labels, settings.dropout), shape, rng)
        self._folded: list[Layer] | None = None

    def count(self, frames: int) -> int:
        """Count the steps that fit into so many frames."""
        return max(0, (frames - self.window) // self.step + 1)

    def steps(self, frames: np.ndarray, extras: np.ndarray | None = None) -> Steps:  # noqa: ARG002
        """Return what the network says of all steps; see `Family`."""
        x = turned(frames[None, :, :, None])
        scratch, embedding = Fresh(), x
        for layer in self._layers:
            if isinstance(layer, Dense):
                embedding = x
            x, _ = layer.forward(x, None, scratch)
        logits = x[:, 0]
        return Steps(logits[:, : self.labels], logits[:, self.labels :], embedding[:, 0])

    @property
    def _layers(self) -> list[Layer]:
        if self._folded is None:
            self._folded = self.network.folded()
        return self._folded

    def renew(self) -> None:
        """Forget what was prepared for use, as the weights have changed."""
        self._folded = None

    def arrays(self) -> dict[str, np.ndarray]:
        """Weights and running statistics of the network."""
        return self.network.arrays()

    def shape(self) -> dict[str, Any]:
        """Return the settings."""
        return {"settings": self.settings.model_dump(), "level": self.level.model_dump()}

    def cost(self) -> Cost:
        """Weights, and multiply-adds a second where steps share their work."""
        shape, total = (self.window + (COST_STEPS - 1) * self.step, *self.network.shapes[0][1:]), 0
        for layer in self.network.layers:
            total, shape = total + layer.multiply_adds(shape), layer.shape(shape)
        return Cost(
            weights=len(self.network.vector), multiply_adds=round(total * FRAMES_A_SECOND / (COST_STEPS * self.step))
        )
