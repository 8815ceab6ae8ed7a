"""The mlp classifier: dense layers on pooled features, trained by epochs."""

import itertools
from typing import Any

import numpy as np
from pydantic import Field, field_validator

from barn_owl.classifiers.kind import NetworkKind
from barn_owl.classifiers.limits import check_size
from barn_owl.classifiers.pooled import Pooled, PooledConfig, rebuilt
from barn_owl.network import BatchNorm, Dense, Dropout, Layer, Network, Relu
from barn_owl.settings import Settings


class MlpSettings(Settings):
    """Dense layers on pooled features."""

    hidden: list[int] = Field(default=[96], min_length=1)
    """Sizes of the hidden layers."""
    dropout: float = Field(default=0.3, ge=0, lt=1)
    """Dropout probability."""

    @field_validator("hidden")
    @classmethod
    def _sizes(cls, hidden: list[int]) -> list[int]:
        if not all(1 <= size <= 4096 for size in hidden):
            raise ValueError(f"each layer has 1 to 4096 channels, got {hidden}")
        return hidden


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

    def state(self) -> dict[str, np.ndarray]:
        """Weights and running statistics of the network."""
        return self.network.state()

    def config(self) -> dict[str, Any]:
        """Return the settings."""
        return {"settings": self.settings.model_dump()}

    def multiply_adds(self) -> int:
        """Return the size of all kernels."""
        return int(self.network.kernels.sum())


class MlpConfig(PooledConfig):
    """Entry of an `mlp` in a model file."""

    settings: MlpSettings


def _rebuild(
    config: MlpConfig, arrays: dict[str, np.ndarray], features: int, labels: int, _multilabel: bool
) -> Pooled:
    def make(given: dict[str, np.ndarray]) -> Mlp:
        width = len(given["center"])
        sizes = [width, *config.settings.hidden, labels]
        check_size(sum(a * b for a, b in itertools.pairwise(sizes)), given)
        made = Mlp(width, labels, config.settings, np.random.default_rng(0))
        made.network.load_state(given)
        return made

    return rebuilt(config, arrays, features, labels, make)


KIND = NetworkKind(
    name="mlp",
    settings=MlpSettings,
    config=MlpConfig,
    rebuild=_rebuild,
    network=Mlp,
    searched={"pooling.window_s": [0.3, 0.5, 1.0], "training.learning_rate": [4e-3, 8e-3, 16e-3]},
    drawn=1,
)
