"""The interface of a layer, and the memory of a batch.

``forward`` returns the output and the values that ``backward`` needs; ``backward`` takes the gradient of the output
(which it may overwrite), writes the gradients of the weights into ``gradients`` and returns the gradient of the
input. Shapes per clip: ``(steps, channels)``, ``(steps, bands, channels)`` or ``(channels,)``. The axis of clips
follows that of steps, ``(steps, clips, ...)``, or is the first without steps, so the input of a tap of a convolution
is contiguous.
"""

import itertools
import math
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np

from barn_owl.arrays import aligned_empty

Arrays = dict[str, np.ndarray]
Gradients = Any
"""Where a layer writes the gradients of its weights: `Arrays`, or a list of them for a layer of layers."""
Shape = tuple[int, ...]
ChannelRole = Literal["makes", "follows", "passes"]


EMPTY = np.empty(0, dtype=np.float32)


class Scratch:
    """Memory that is used again for each batch: fresh arrays of this size cost as much as the sums in them.

    The array of a layer and name is overwritten when the layer requests it again.
    """

    def __init__(self) -> None:
        self._kept: dict[tuple[int, str], tuple[np.ndarray, np.ndarray]] = {}
        self._shares: dict[tuple[int, Any], np.ndarray] = {}
        self.is_alone = False
        """Whether no further thread works on the same batch."""

    def __call__(self, owner: "Layer", name: str, shape: Shape, dtype: Any) -> np.ndarray:
        """Return an array with undefined content."""
        key = (id(owner), name)
        flat, last = self._kept.get(key, (EMPTY, EMPTY))
        if last.shape == shape and last.dtype == dtype:
            return last
        size = math.prod(shape)
        if len(flat) < size or flat.dtype != dtype:
            flat = aligned_empty(size, dtype)
        view = flat[:size].reshape(shape)
        self._kept[key] = flat, view
        return view

    def column_mean(self, rows: np.ndarray) -> np.ndarray:
        """Mean of each column by a matrix product: several times faster than ``mean(axis=0)``."""
        key = (len(rows), rows.dtype)
        share = self._shares.get(key)
        if share is None:
            share = self._shares[key] = np.full(len(rows), 1 / len(rows), dtype=rows.dtype)
        return share @ rows


class Fresh(Scratch):
    """Memory that is new each time: for a network that several threads use at once."""

    def __call__(self, owner: "Layer", name: str, shape: Shape, dtype: Any) -> np.ndarray:  # noqa: ARG002
        """Return an array with undefined content."""
        return np.empty(shape, dtype)


class Layer(ABC):
    """A layer without weights; the parent of all."""

    def __init__(self) -> None:
        self.weights: Arrays = {}
        """Arrays trained by gradient: views into the vector of the network."""
        self.state: Arrays = {}
        """Arrays updated during training without gradient, such as running means."""
        self.is_first = False
        """Nothing uses the gradient of the input of the first layer, which may be costly."""
        self.overwrites = False
        """Whether the layer may overwrite its input, since the previous layer does not need its output again."""

    needs_output = False
    """Whether ``backward`` looks at the output, or the output is the input."""
    span, stride = 1, 1
    """Receptive field and stride, in input steps."""
    inner: "Sequence[Layer]" = ()
    """The inner layers of a layer."""
    channels: int | None = None
    """Number of output channels, if the layer defines it."""
    channel_role: ChannelRole = "passes"
    """Role of the channels: mixed into new channels, weighted one by one, or unchanged."""

    def stand_behind(self, before: "Layer | None") -> None:
        """Take note of the layer before."""
        self.overwrites = before is not None and not before.needs_output

    @abstractmethod
    def words(self, *, bands: bool) -> str:
        """Describe the layer for a summary; `bands` : whether its input has bands."""

    @abstractmethod
    def entry(self, channels: Mapping[str, int], name: str) -> dict[str, object]:
        """Return the entry of the layer `name` in a plan, with `channels` by name of the layer."""

    def folded(self, before: "Layer | None") -> "Layer | None":  # noqa: ARG002
        """Return the layer for inference, or None where it is merged into the previous layer or has no effect."""
        return self

    def scaled(self, slope: np.ndarray, shift: np.ndarray) -> bool:  # noqa: ARG002
        """Fold a scale and an offset of each output channel into the layer; False if it cannot."""
        return False

    def rectified(self) -> bool:
        """Fold ``max(y, 0)`` into the layer; False if it cannot."""
        return False

    def shape(self, shape: Shape) -> Shape:
        """Return the output shape of a clip; raises ValueError for an invalid input shape."""
        return shape

    def build(self, shape: Shape, rng: np.random.Generator) -> Arrays:  # noqa: ARG002
        """Return first values for the weights, for inputs of `shape`, and set up the state."""
        return {}

    def multiply_adds(self, shape: Shape) -> int:  # noqa: ARG002
        """Count the multiply-adds for a clip of `shape`; 0 for negligible work."""
        return 0

    @abstractmethod
    def forward(self, x: np.ndarray, rng: np.random.Generator | None, scratch: Scratch) -> tuple[np.ndarray, Any]:
        """Compute the output; `rng` is None except in training."""

    @abstractmethod
    def backward(self, dy: np.ndarray, kept: Any, gradients: Gradients, scratch: Scratch) -> np.ndarray:
        """Write the gradients of the weights and return that of the input."""

    def absorb(self, kept: Sequence[Any]) -> None:  # noqa: B027 - most layers observe nothing
        """Update the state from the values that ``forward`` returned for each part of a batch, in order."""


def link(layers: Sequence[Layer]) -> None:
    """Set for each layer whether it may overwrite its input."""
    for before, layer in itertools.pairwise([None, *layers]):
        if layer is not None:
            layer.stand_behind(before)


def over_time(shape: Shape, layer: str) -> Shape:
    """Return `shape`; raises ValueError when time is gone from it."""
    if len(shape) < 2:
        raise ValueError(f"{layer} needs steps in time, but those are gone: it gets {shape[0]} channels")
    return shape
