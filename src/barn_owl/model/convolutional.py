"""The family cnn: networks that slide along time, over levels that do not depend on the gain."""

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


def body_of(settings: NetworkSettings, level: LevelSettings) -> list[Layer]:
    """Make the layers of a network but for its head; they hold no weights yet."""
    before: list[Layer] = [RelativeLevel(level.frames, level.range_db)] if level.frames else []
    return [*before, *layers_for(settings)]


def receptive_field(layers: list[Layer]) -> tuple[int, int]:
    """Frames that a step of layers looks at, and from one step to the next."""
    window, step = 1, 1
    for layer in layers:
        window += (layer.span - 1) * step
        step *= layer.stride
    return window, step


class Convolutional:
    """Networks over frames, and the mean of what they say. Nothing is padded in time, and neighbouring steps share
    their convolutions.

    Each has two outputs a label: whether the label sounds, and whether it begins.
    """

    name = "cnn"

    def __init__(
        self, features: int, labels: int, settings: NetworkSettings, level: LevelSettings, rng: np.random.Generator
    ) -> None:
        self.settings, self.level, self.labels = settings, level, labels
        self.window, self.step = receptive_field(self._body())
        shape = (self.window, features, 1)
        self.networks = [
            Network(with_head(self._body(), shape, 2 * labels, settings.dropout), shape, rng)
            for _ in range(settings.networks)
        ]
        self._folded: list[list[Layer]] = []

    def _body(self) -> list[Layer]:
        return body_of(self.settings, self.level)

    def count(self, frames: int) -> int:
        """Count the steps that fit into so many frames."""
        return max(0, (frames - self.window) // self.step + 1)

    def steps(self, frames: np.ndarray, extras: np.ndarray | None = None) -> Steps:  # noqa: ARG002
        """Return what the networks say of all steps; see `Family`."""
        if not self._folded:
            self._folded = [network.folded() for network in self.networks]
        x, scratch, first = turned(frames[None, :, :, None]), Fresh(), 0
        if self.level.frames:  # the same for all networks
            (x, _), first = self._folded[0][0].forward(x, None, scratch), 1
        logits, embeddings = [], []
        for layers in self._folded:
            y = embedding = x
            for layer in layers[first:]:
                if isinstance(layer, Dense):
                    embedding = y
                y, _ = layer.forward(y, None, scratch)
            logits.append(y[:, 0])
            embeddings.append(embedding[:, 0])
        said = logits[0] if len(logits) == 1 else np.mean(logits, axis=0)
        return Steps(said[:, : self.labels], said[:, self.labels :], np.concatenate(embeddings, axis=1))

    def arrays(self) -> dict[str, np.ndarray]:
        """Weights and running statistics of the networks, with the number of the network in front."""
        return {
            f"{number}.{name}": array
            for number, network in enumerate(self.networks)
            for name, array in network.arrays().items()
        }

    def load(self, arrays: dict[str, np.ndarray]) -> None:
        """Set what `arrays` gave; raises KeyError or ValueError when it does not fit."""
        for number, network in enumerate(self.networks):
            prefix = f"{number}."
            network.load({name.removeprefix(prefix): a for name, a in arrays.items() if name.startswith(prefix)})
        self._folded = []

    def shape(self) -> dict[str, Any]:
        """Return the settings."""
        return {"settings": self.settings.model_dump(), "level": self.level.model_dump()}

    def cost(self) -> Cost:
        """Weights of all networks, and multiply-adds a second where steps share their work."""
        shape, total = (self.window + (COST_STEPS - 1) * self.step, *self.networks[0].shapes[0][1:]), 0
        for layer in self.networks[0].layers:
            total, shape = total + layer.multiply_adds(shape), layer.shape(shape)
        one = round(total * FRAMES_A_SECOND / (COST_STEPS * self.step))
        count = len(self.networks)
        return Cost(weights=count * len(self.networks[0].vector), multiply_adds=count * one)
