"""The mlp family: dense layers on pooled features."""

from typing import Any

import numpy as np

from barn_owl.model.settings import MlpSettings
from barn_owl.network import BatchNorm, Dense, Dropout, Layer, Network, Relu


class Mlp:
    """A network on rows; a `RowClassifier`."""

    def __init__(self, features: int, labels: int, settings: MlpSettings, rng: np.random.Generator) -> None:
        self.settings = settings
        layers: list[Layer] = []
        for channels in settings.hidden:
            layers += [Dense(channels, is_last=False), BatchNorm(), Relu(), Dropout(settings.dropout)]
        self.network = Network([*layers, Dense(labels)], (features,), rng)

    def logits(self, rows: np.ndarray) -> np.ndarray:
        """Return the logits; see `RowClassifier`."""
        return self.network.forward(rows)[0]

    def arrays(self) -> dict[str, np.ndarray]:
        """Weights and running statistics of the network."""
        return self.network.arrays()

    def shape(self) -> dict[str, Any]:
        """Return the settings."""
        return {"settings": self.settings.model_dump()}

    def multiply_adds(self) -> int:
        """One for each entry of each kernel."""
        return int(self.network.kernels.sum())
