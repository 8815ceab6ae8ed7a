"""A stack of layers whose weights are one vector."""

from collections.abc import Iterator, Sequence
from concurrent.futures import Executor
from typing import Any

import numpy as np

from barn_owl.classify.network.layers import Arrays, Convolution, Layer, Residual
from barn_owl.classify.network.loss import cross_entropy
from barn_owl.errors import PlanError

PART = 32
"""Clips of a batch that one thread works on at a time: few enough for the activations to stay in cache."""
MIN_PARTS = 2
"""A small batch is cut in two all the same, so that two cores have work."""


class Network:
    """Layers in a row, applied to batches ``(clips, steps, channels)``.

    ``vector`` holds all weights; the arrays of the layers are views into it, so that an optimiser or a file
    deals with one array. The work on a batch is cut into fixed parts whose gradients are summed in fixed
    order: the result does not depend on the number of threads.
    """

    def __init__(self, layers: Sequence[Layer], channels: int, rng: np.random.Generator) -> None:
        self.layers = list(layers)
        self.channels = channels
        self._names: list[tuple[Layer, str, str]] = []
        arrays: list[np.ndarray] = []
        for name, layer, is_inner in _walk(self.layers):
            if isinstance(layer, Residual):
                continue
            values, out = layer.build(channels, rng)
            if is_inner and isinstance(layer, Convolution) and out != channels:
                raise PlanError(f"a residual block must keep its {channels} channels, got {out}")
            channels = out
            for key, value in values.items():
                self._names.append((layer, key, f"{name}.{key}"))
                arrays.append(value)
        self.layers[0].is_first = True
        self._shapes = [array.shape for array in arrays]
        self.vector = np.concatenate([array.ravel() for array in arrays])
        for (layer, key, _), view in zip(self._names, self._views(self.vector), strict=True):
            layer.weights[key] = view

    def _views(self, vector: np.ndarray) -> list[np.ndarray]:
        ends = np.cumsum([int(np.prod(shape)) for shape in self._shapes])
        return [part.reshape(shape) for part, shape in zip(np.split(vector, ends[:-1]), self._shapes, strict=True)]

    @property
    def kernels(self) -> np.ndarray:
        """Which entries of the vector are kernels, and so take weight decay; boolean ``(n,)``."""
        marks = [
            np.full(shape, key == "kernel").ravel()
            for (_, key, _), shape in zip(self._names, self._shapes, strict=True)
        ]
        return np.concatenate(marks)

    def steps(self, steps: int) -> int:
        """Count the steps that come out of the layers for `steps` that go in; below 1 when too few."""
        for layer in self.layers:
            steps = layer.steps(steps)
        return steps

    def states(self) -> Arrays:
        """All that was observed while training, by dotted name."""
        return {f"{name}.{key}": array for name, layer, _ in _walk(self.layers) for key, array in layer.state.items()}

    def arrays(self) -> Arrays:
        """Weights and states by dotted name: all that must be kept to rebuild the network."""
        views = self._views(self.vector)
        return {name: view for (_, _, name), view in zip(self._names, views, strict=True)} | self.states()

    def load(self, arrays: Arrays) -> None:
        """Set weights and states from what `arrays` gave; raises KeyError or ValueError when they do not fit."""
        for name, own in self.arrays().items():
            if arrays[name].shape != own.shape:
                raise ValueError(f"{name} has shape {arrays[name].shape}, expected {own.shape}")
            own[...] = arrays[name]

    def forward(self, x: np.ndarray, rng: np.random.Generator | None = None) -> tuple[np.ndarray, list[Any]]:
        """Push a batch through all layers; `rng` is given while training."""
        kept = []
        for layer in self.layers:
            x, own = layer.forward(x, rng)
            kept.append(own)
        return x, kept

    def backward(self, dy: np.ndarray, kept: list[Any]) -> np.ndarray:
        """Return the gradient of the vector for the gradient `dy` of the output."""
        gradient = np.empty_like(self.vector)
        named = {name: view for (_, _, name), view in zip(self._names, self._views(gradient), strict=True)}
        for number in reversed(range(len(self.layers))):
            prefix = f"{number}."
            mine = {name[len(prefix) :]: view for name, view in named.items() if name.startswith(prefix)}
            dy = self.layers[number].backward(dy, kept[number], mine)
        return gradient

    def learn(
        self, x: np.ndarray, targets: np.ndarray, seed: Sequence[int], threads: Executor
    ) -> tuple[float, np.ndarray]:
        """Loss and gradient of one batch; also updates the states.

        x : ``(clips, steps, channels)``; targets : ``(clips, labels)``; seed : of the random parts.
        """
        parts = min(max(MIN_PARTS, round(len(x) / PART)), len(x))
        xs, ts = np.array_split(x, parts), np.array_split(targets, parts)

        def work(part: int) -> tuple[float, np.ndarray, list[Any]]:
            rng = np.random.default_rng([*seed, part])
            # A loss that is no number is the caller's to notice; NumPy's warnings would not say where.
            with np.errstate(over="ignore", invalid="ignore", divide="ignore"):
                logits, kept = self.forward(xs[part], rng)
                loss, dlogits = cross_entropy(logits, ts[part])
                return loss, self.backward(dlogits, kept), kept

        done = list(threads.map(work, range(parts)))
        shares = [len(part) / len(x) for part in xs]
        gradient = np.zeros_like(self.vector)
        for share, (_, part, _) in zip(shares, done, strict=True):
            gradient += np.float32(share) * part
        for number, layer in enumerate(self.layers):
            layer.absorb([kept[number] for _, _, kept in done])
        return sum(share * loss for share, (loss, _, _) in zip(shares, done, strict=True)), gradient


def _walk(layers: Sequence[Layer], prefix: str = "", *, inner: bool = False) -> Iterator[tuple[str, Layer, bool]]:
    """All layers with their dotted names, in the order they are applied."""
    for number, layer in enumerate(layers):
        name = f"{prefix}{number}"
        yield name, layer, inner
        if isinstance(layer, Residual):
            yield from _walk(layer.inner, f"{name}.", inner=True)
