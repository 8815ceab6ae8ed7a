"""A sequence of layers with a common weight vector."""

import itertools
import math
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor
from typing import Any, NamedTuple

import numpy as np

from barn_owl.arrays import aligned_empty
from barn_owl.errors import PlanError
from barn_owl.network.layer import Arrays, Fresh, Gradients, Layer, Scratch, Shape, link
from barn_owl.network.layers import folded
from barn_owl.network.loss import cross_entropy

PART = 32
"""Clips per part of a batch: few enough for the activations to stay in cache."""
MIN_PARALLEL_WORK = 80_000_000
"""Multiply-adds of a batch above which it is split for two cores; below, threads would wait for each other longer
than they save."""

Loss = Callable[[np.ndarray, np.ndarray], tuple[float, np.ndarray]]


class Network:
    """Layers in sequence, applied to batches of inputs of shape `shape` per clip.

    ``vector`` contains all weights; the arrays of the layers are views into it, so an optimizer or a file deals with
    a single array. A batch is cut into fixed parts whose gradients are summed in fixed order: the result does not
    depend on the number of threads.

    ``shapes`` are the input shape and the output shape of each layer. Raises PlanError, with the place of the layer,
    when a layer does not fit the output of the previous layer.
    """

    def __init__(self, layers: Sequence[Layer], shape: Shape, rng: np.random.Generator) -> None:
        self.layers = list(layers)
        self.shapes = [shape, *follow(self.layers, shape)]
        self._names: list[tuple[Layer, str, str]] = []
        arrays: list[np.ndarray] = []
        for name, layer, its_shape in _walk(self.layers, self.shapes):
            for key, value in layer.build(its_shape, rng).items():
                self._names.append((layer, key, f"{name}.{key}"))
                arrays.append(value)
        # Layers before the first weights need no gradient.
        self._begin = int(self._names[0][2].split(".")[0]) if self._names else 0
        self.layers[self._begin].is_first = True
        link(self.layers)
        self.frozen = 0
        """Layers, from the first, that are used as they are and not trained."""
        self._parts: dict[int, _Part] = {}
        self._work = sum(layer.multiply_adds(given) for layer, given in zip(self.layers, self.shapes, strict=False))
        self._shapes = [array.shape for array in arrays]
        ends = itertools.accumulate(array.size for array in arrays)
        self._places = [slice(end - array.size, end) for end, array in zip(ends, arrays, strict=True)]
        vector = aligned_empty(sum(array.size for array in arrays))
        self.set_vector(np.concatenate([array.ravel() for array in arrays], out=vector))

    def set_vector(self, vector: np.ndarray) -> None:
        """Replace the weight vector by `vector`."""
        self.vector = vector
        self._sums = aligned_empty(vector.shape, vector.dtype), aligned_empty(vector.shape, vector.dtype)
        for (layer, key, _), view in zip(self._names, self._views(vector), strict=True):
            layer.weights[key] = view

    def _views(self, vector: np.ndarray) -> list[np.ndarray]:
        return [vector[place].reshape(shape) for place, shape in zip(self._places, self._shapes, strict=True)]

    @property
    def kernels(self) -> np.ndarray:
        """Which entries of the vector are kernels that are trained, and so take weight decay; boolean ``(n,)``."""
        return self._marked(lambda name: name.endswith("kernel") and self._is_trained(name))

    @property
    def trained(self) -> np.ndarray:
        """Which entries of the vector are trained; boolean ``(n,)``."""
        return self._marked(self._is_trained)

    def _is_trained(self, name: str) -> bool:
        return int(name.split(".")[0]) >= self.frozen

    def _marked(self, holds: Callable[[str], bool]) -> np.ndarray:
        names_and_shapes = zip(self._names, self._shapes, strict=True)
        return np.concatenate([np.full(shape, holds(name)).ravel() for (_, _, name), shape in names_and_shapes])

    def states(self) -> Arrays:
        """All that was observed while training, by dotted name."""
        return {
            f"{name}.{key}": array
            for name, layer, _ in _walk(self.layers, self.shapes)
            for key, array in layer.state.items()
        }

    def state(self) -> Arrays:
        """Weights and states by dotted name: all that must be kept to rebuild the network."""
        views = self._views(self.vector)
        return {name: view for (_, _, name), view in zip(self._names, views, strict=True)} | self.states()

    def load_state(self, arrays: Arrays) -> None:
        """Set weights and states from the arrays of `state`; raises KeyError or ValueError when they do not fit."""
        for name, own in self.state().items():
            if arrays[name].shape != own.shape:
                raise ValueError(f"{name} has shape {arrays[name].shape}, expected {own.shape}")
            own[...] = arrays[name]

    def forward(
        self, x: np.ndarray, rng: np.random.Generator | None = None, scratch: Scratch | None = None
    ) -> tuple[np.ndarray, list[Any]]:
        """Push a batch, clips first, through all layers; `rng` is given in training."""
        x, kept = swap_batch_and_time(x), []
        for number, layer in enumerate(self.layers):
            x, own = layer.forward(x, rng if number >= self.frozen else None, scratch or Fresh())
            kept.append(own)
        return swap_batch_and_time(x), kept

    def backward(self, dy: np.ndarray, kept: list[Any], part: "_Part | None" = None) -> np.ndarray:
        """Return the gradient of the vector from the gradient `dy` of the output; zero for frozen weights."""
        part, dy = part or self._part(), np.ascontiguousarray(swap_batch_and_time(dy))
        for number in reversed(range(max(self.frozen, self._begin), len(self.layers))):
            dy = self.layers[number].backward(dy, kept[number], part.gradients[number], part.scratch)
        return part.gradient

    def _part(self) -> "_Part":
        gradient = aligned_empty(self.vector.shape, self.vector.dtype)
        gradient[:] = 0
        named = {name: view for (_, _, name), view in zip(self._names, self._views(gradient), strict=True)}
        return _Part(Scratch(), gradient, _by_layer(self.layers, named, ""))

    def learn(
        self, x: np.ndarray, targets: Any, seed: Sequence[int], threads: Executor, loss: Loss = cross_entropy
    ) -> tuple[float, np.ndarray]:
        """Return loss and gradient of a batch, and update the states. The next call overwrites the gradient.

        x : the inputs, clips in front; targets : one for each clip, in the form that the loss takes, such as an array
        ``(clips, labels)``; seed : two numbers, of the training and of the step.
        """
        least = 2 if self._work * len(x) >= MIN_PARALLEL_WORK else 1
        parts = min(max(least, round(len(x) / PART)), len(x))
        xs = np.array_split(x, parts)
        edges = np.cumsum([0, *map(len, xs)])
        ts = [targets[first:last] for first, last in itertools.pairwise(edges)]
        for number in range(len(self._parts), parts):
            self._parts[number] = self._part()
        for number in range(parts):
            self._parts[number].scratch.is_alone = parts == 1

        def work(part: int) -> tuple[float, np.ndarray, list[Any]]:
            # Keyed, not seeded: making a generator from a seed costs as much as a layer.
            rng = np.random.Generator(np.random.Philox(key=[seed[0], seed[1] * len(xs) + part]))
            # The caller checks for a loss that is not finite; NumPy's warnings would not name the place.
            with np.errstate(over="ignore", invalid="ignore", divide="ignore"):
                logits, kept = self.forward(xs[part], rng, self._parts[part].scratch)
                value, dlogits = loss(logits, ts[part])
                return value, self.backward(dlogits, kept, self._parts[part]), kept

        done = list(threads.map(work, range(parts))) if parts > 1 else [work(0)]
        shares = [len(part) / len(x) for part in xs]
        gradient, scaled = self._sums
        if parts == 1:
            gradient = done[0][1]
        else:
            gradient[:] = 0
            for share, (_, part, _) in zip(shares, done, strict=True):
                gradient += np.multiply(part, np.float32(share), out=scaled)
        for number, layer in enumerate(self.layers[self.frozen :], start=self.frozen):
            layer.absorb([kept[number] for _, _, kept in done])
        return sum(share * value for share, (value, _, _) in zip(shares, done, strict=True)), gradient

    def folded(self) -> list[Layer]:
        """Return the layers for use only: norm and relu are part of the convolution before them, dropout is gone."""
        layers = folded(self.layers)
        link(layers)
        return layers


class _Part(NamedTuple):
    """Workspace of a part of a batch: memory, and the gradient as a whole and by layer."""

    scratch: Scratch
    gradient: np.ndarray
    gradients: list[Gradients]


def swap_batch_and_time(x: np.ndarray) -> np.ndarray:
    """Swap the axes of clips and steps; inputs without steps are returned unchanged."""
    return x.swapaxes(0, 1) if x.ndim > 2 else x


def _by_layer(layers: Sequence[Layer], named: Arrays, prefix: str) -> list[Gradients]:
    sorted_out: list[Gradients] = []
    for number, layer in enumerate(layers):
        mine = f"{prefix}{number}."
        if layer.inner:
            sorted_out.append(_by_layer(layer.inner, named, mine))
        else:
            sorted_out.append({name[len(mine) :]: view for name, view in named.items() if name.startswith(mine)})
    return sorted_out


def follow(layers: Sequence[Layer], shape: Shape) -> list[Shape]:
    """Return the output shapes of layers in sequence for a clip of `shape`.

    Raises PlanError, with the place of the layer, when a layer does not fit the output of the previous layer.
    """
    shapes = []
    for number, layer in enumerate(layers, start=1):
        try:
            shape = layer.shape(shape)
        except ValueError as error:
            raise PlanError(f"layer {number}: {error}") from None
        shapes.append(shape)
    return shapes


def count_kernels(layers: Sequence[Layer], shape: Shape) -> int:
    """Count the numbers in the kernels of layers for inputs of `shape`, without making them. Errors as for
    `follow`.
    """
    total = 0
    for _, layer, given in _walk(layers, [shape, *follow(layers, shape)]):
        total += layer.multiply_adds(given) // math.prod(layer.shape(given)[:-1])
    return total


def _walk(layers: Sequence[Layer], shapes: Sequence[Shape], prefix: str = "") -> Iterator[tuple[str, Layer, Shape]]:
    """Return all layers with weights or state, with dotted names and input shapes, in order."""
    for number, (layer, shape) in enumerate(zip(layers, shapes, strict=False)):
        name = f"{prefix}{number}"
        if layer.inner:
            yield from _walk(layer.inner, [shape, *follow(layer.inner, shape)], f"{name}.")
        else:
            yield name, layer, shape
