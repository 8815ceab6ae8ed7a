"""The cnn classifier: convolutional networks over time on gain-normalized levels."""

from copy import copy
from typing import Any

import numpy as np

from barn_owl.classifiers.base import Classifier, Cost, FrameScores
from barn_owl.classifiers.kind import NetworkKind
from barn_owl.classifiers.level import Level
from barn_owl.classifiers.limits import check_size, check_window
from barn_owl.errors import PlanError
from barn_owl.network import Dense, Network, RelativeLevel
from barn_owl.network.architecture import NetworkSettings, layers_for, with_head
from barn_owl.network.layer import Fresh, Layer
from barn_owl.network.network import count_kernels, follow, swap_batch_and_time
from barn_owl.settings import Settings

LONG_INPUT = 4096
"""Frames of an input that is long enough for any network: whether layers fit together is a matter of their bands."""
COST_STEPS = 100
"""FrameScores over which the work is averaged, as neighbors share it."""


def body_of(settings: NetworkSettings, level: Level, number: int) -> list[Layer]:
    """Create the layers of a network without its head; they have no weights yet."""
    before: list[Layer] = [RelativeLevel(level.frames, level.range_db)] if level.frames else []
    return [*before, *layers_for(settings, number)]


def outputs_of(labels: int, *, multilabel: bool) -> int:
    """Count the outputs of a network per step; see `split_outputs`."""
    return 2 * (labels if multilabel else 1) + labels + 2


def split_outputs(outputs: np.ndarray, labels: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Split network outputs, ``(..., 2 tracks + labels + 2)``, into activity, onsets and label logits; see
    `FrameScores`."""
    tracks = (outputs.shape[-1] - labels - 2) // 2
    return outputs[..., :tracks], outputs[..., tracks : 2 * tracks], outputs[..., 2 * tracks :]


def receptive_field(layers: list[Layer]) -> tuple[int, int]:
    """Return receptive field and stride of a sequence of layers, in frames."""
    window, step = 1, 1
    for layer in layers:
        window += (layer.span - 1) * step
        step *= layer.stride
    return window, step


class Convolutional:
    """Convolutional networks over frames, whose outputs are averaged. Nothing is padded in time, and neighboring
    steps share their convolutions.

    Outputs per step: activity and onset of any label with events or, with `multilabel`, of each label; a logit for
    each label and for none of them; attention.
    """

    name, has_onsets = "cnn", True

    def __init__(
        self, features: int, labels: int, settings: NetworkSettings, level: Level, rng: np.random.Generator,
        *, multilabel: bool = False,
    ) -> None:  # fmt: skip
        self.settings, self.level, self.labels, self.multilabel = settings, level, labels, multilabel
        bodies = [body_of(settings, level, number) for number in range(settings.count)]
        fields = {receptive_field(body) for body in bodies}
        if len(fields) > 1:
            raise PlanError(f"the networks look at different frames: windows and steps are {sorted(fields)}")
        self.window, self.step = fields.pop()
        shape = (self.window, features, 1)
        outputs = outputs_of(labels, multilabel=multilabel)
        self.networks = [Network(with_head(body, shape, outputs, settings.dropout), shape, rng) for body in bodies]
        self._folded: list[list[Layer]] = []

    def count(self, frames: int) -> int:
        """Count the steps that fit into this many frames."""
        return max(0, (frames - self.window) // self.step + 1)

    def frame_scores(self, frames: np.ndarray, extras: np.ndarray | None = None) -> FrameScores:  # noqa: ARG002
        """Return the mean outputs of the networks for all steps; see `Classifier`."""
        if not self._folded:
            self._folded = [network.folded() for network in self.networks]
        x, scratch, first = swap_batch_and_time(frames[None, :, :, None]), Fresh(), 0
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
        output = logits[0] if len(logits) == 1 else np.mean(logits, axis=0)
        return FrameScores(*split_outputs(output, self.labels), np.concatenate(embeddings, axis=1))

    def part(self, number: int) -> "Convolutional":
        """Return a classifier with a single network, which shares its weights."""
        made = copy(self)
        made.settings = self.settings.only(number)
        made.networks, made._folded = [self.networks[number]], []
        return made

    def state(self) -> dict[str, np.ndarray]:
        """Weights and running statistics of the networks, with the number of the network in front."""
        return {
            f"{number}.{name}": array
            for number, network in enumerate(self.networks)
            for name, array in network.state().items()
        }

    def load_state(self, arrays: dict[str, np.ndarray]) -> None:
        """Set the arrays of `state`; raises KeyError or ValueError when they do not fit."""
        for number, network in enumerate(self.networks):
            prefix = f"{number}."
            network.load_state(
                {name.removeprefix(prefix): a for name, a in arrays.items() if name.startswith(prefix)}
            )
        self._folded = []

    def config(self) -> dict[str, Any]:
        """Return the settings."""
        return {"settings": self.settings.model_dump(), "level": self.level.model_dump()}

    def cost(self, hop_s: float) -> Cost:
        """Weights of all networks, and multiply-adds a second where steps share their work."""
        total = 0
        for network in self.networks:
            shape = (self.window + (COST_STEPS - 1) * self.step, *network.shapes[0][1:])
            for layer in network.layers:
                total, shape = total + layer.multiply_adds(shape), layer.shape(shape)
        return Cost(
            weights=sum(len(network.vector) for network in self.networks),
            multiply_adds=round(total / (COST_STEPS * self.step * hop_s)),
        )


def networks_in(classifier: Classifier) -> Convolutional | None:
    """Return a classifier as the networks that it is, None for another kind."""
    return classifier if isinstance(classifier, Convolutional) else None


class CnnConfig(Settings):
    """Entry of a `cnn` in a model file."""

    name: str
    settings: NetworkSettings
    level: Level


def _rebuild(
    config: CnnConfig, arrays: dict[str, np.ndarray], features: int, labels: int, multilabel: bool
) -> Convolutional:
    outputs, count = outputs_of(labels, multilabel=multilabel), 0
    for number in range(config.settings.count):
        body = body_of(config.settings, config.level, number)
        window, _ = receptive_field(body)
        check_window(window, features)
        whole = with_head(body, (window, features, 1), outputs, config.settings.dropout)
        count += count_kernels(whole, (window, features, 1))
    check_size(count, arrays)
    rng = np.random.default_rng(0)
    made = Convolutional(features, labels, config.settings, config.level, rng, multilabel=multilabel)
    made.load_state(arrays)
    return made


def _check(settings: NetworkSettings, features: int) -> None:
    """Raise ValueError where layers do not fit together."""
    try:
        for number in range(settings.count):
            follow(layers_for(settings, number), (LONG_INPUT, features, 1))
    except PlanError as error:
        where = "cnn.layers" if settings.layers else f"cnn.size = {settings.size!r}"
        raise ValueError(f"{where}, {error}; frames have {features} features") from None


KIND = NetworkKind(
    name="cnn",
    settings=NetworkSettings,
    config=CnnConfig,
    rebuild=_rebuild,
    network=Convolutional,
    count=lambda settings: settings.count,
    only=lambda settings, number: settings.only(number),
    sees_frames=True,
    exports=True,
    check=_check,
    searched={
        "level.span_s": [0.3, 0.5, 0.8],
        "cnn.size": ["tiny", "small", "medium"],
        "cnn.kinds": [["2d"], ["1d"], ["2d", "1d"]],
        "cnn.dropout": [0.1, 0.2, 0.3],
        "training.learning_rate": [4e-3, 8e-3, 16e-3],
    },
    drawn=4,
)
