"""What a network learns from: scenes composed of clips, or rows of pooled features; how it is judged on them."""

import time
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Protocol

import numpy as np

from barn_owl.learn.fitted import Examples, background_numbers, judge_logits, standardisation
from barn_owl.learn.plan import Plan
from barn_owl.learn.pooled import centre_and_spread, drawn_windows
from barn_owl.learn.scenes import SceneMaker, Scenes
from barn_owl.learn.variants import Variants
from barn_owl.model import Family
from barn_owl.model.convolutional import Convolutional
from barn_owl.model.mlp import Mlp
from barn_owl.model.pooled import Pooled
from barn_owl.network import Network, binary_cross_entropy, sound_cross_entropy, weighted_cross_entropy
from barn_owl.network.layer import Arrays

WATCHED_SHARE, WATCHED_STREAM = 0.2, 31
"""Scenes of validation clips that each epoch is judged by, beside those it learns from, and what keeps their random
numbers apart."""
ONSETS_COUNT, ONSET_COUNTS = 3.0, 4.0
"""How much more than what sounds it counts whether something begins, and again more where it does: that is rare."""
BACKGROUND_COUNTS = 0.25
"""How much it counts, beside the others, whether nothing sounds: that is mostly so."""
SOUNDS = 4
"""Sounds of a scene that are also judged as wholes."""
WHOLE_COUNTS = 0.05
"""How much it counts what a sound is called as a whole, beside what is said step by step. Long sounds have many
steps: without it, short ones are not told apart."""
ROWS_A_BATCH = 64
"""Rows cost next to nothing, so batches are larger than those of scenes."""


Standard = tuple[np.ndarray, np.ndarray]
"""Mean and deviation of each feature, each ``(features,)``."""


@dataclass(frozen=True)
class Batch:
    """What a network is given, and what is wanted of it; where they come from, in words."""

    inputs: np.ndarray
    targets: np.ndarray
    names: list[str]


class Subject(Protocol):
    """What is trained: a network, what it learns from, and the family it becomes part of."""

    network: Network
    mean: np.ndarray
    deviation: np.ndarray

    def loss(self, logits: np.ndarray, targets: np.ndarray) -> tuple[float, np.ndarray]:
        """Mean loss over a batch or a part of it, and its gradient."""

    def begin(self, epoch: int, epochs: int) -> float:
        """Make ready for an epoch; return the seconds waited."""

    def resume(self, epoch: int) -> None:
        """Make as if the epochs up to this one had been."""

    def batches(self, rng: np.random.Generator) -> "list[Callable[[], Batch]]":
        """Say how to make the batches of an epoch, in order."""

    def judge(self) -> tuple[float, float, float]:
        """Loss, recall and F1 on the validation side, with the weights as they are."""

    def family(self, arrays: list[Arrays]) -> Family:
        """Make the family of the weights and states of each of its networks."""

    def close(self) -> None:
        """Stop what goes on beside the training."""


class OverScenes:
    """A network that goes along scenes."""

    def __init__(
        self, plan: Plan, labels: list[str], train: Examples, validation: Examples | None, rng: np.random.Generator,
        standard: Standard | None,
    ) -> None:  # fmt: skip
        self._plan, self._train = plan, train
        background = background_numbers(plan, labels)
        self._family = Convolutional(plan.front_end.width, len(labels), plan.cnn, plan.levels, rng)
        self.network = self._family.networks[0]
        self.mean, self.deviation = standard or standardisation(plan, train.clips)
        self._frames = max(
            plan.front_end.count(round(plan.scenes.seconds * plan.front_end.rate_hz)), self._family.window
        )
        self._margin = self._family.window // 2
        self._maker = SceneMaker(plan, train, background)
        self._reported = np.array([number not in background for number in range(len(labels))])
        self._overlapping = train.overlapping
        self._variants = None
        if plan.sound.any and train.sources:
            beds = np.flatnonzero(train.targets[:, background].any(axis=1))
            self._variants = Variants(train.sources, beds, plan)
        self._watched: Scenes | None = None
        if validation is not None:
            own = SceneMaker(plan, validation, background)
            rng = np.random.default_rng([plan.seed, WATCHED_STREAM])
            count = max(8, round(WATCHED_SHARE * plan.scenes.count))
            self._watched = own.make(count, self._frames, rng, margin=self._margin)

    def begin(self, epoch: int, epochs: int) -> float:
        if self._variants is None:
            return 0.0
        begin = time.perf_counter()
        for clip, frames in self._variants.take(epoch).items():
            self._maker.replace(clip, frames)
        if epoch < epochs:
            self._variants.start(epoch + 1)
        return time.perf_counter() - begin

    def resume(self, epoch: int) -> None:
        if self._variants is not None:
            for clip, frames in self._variants.after(epoch).items():
                self._maker.replace(clip, frames)

    def batches(self, rng: np.random.Generator) -> list[Callable[[], Batch]]:
        size = self._plan.training.batch
        return [lambda: self._batch(size, rng)] * max(1, self._plan.scenes.count // size)

    def _batch(self, size: int, rng: np.random.Generator) -> Batch:
        scenes = self._maker.make(size, self._frames, rng, margin=self._margin)
        names = [self._train.name(int(clip)) if clip >= 0 else "a scene of background" for clip in scenes.clips]
        return Batch(self._input(scenes), self._targets(scenes), names)

    def _input(self, scenes: Scenes) -> np.ndarray:
        frames = scenes.frames if self._plan.levels.frames else (scenes.frames - self.mean) / self.deviation
        return np.asarray(frames[..., None], dtype=np.float32)

    def _targets(self, scenes: Scenes) -> np.ndarray:
        """What is wanted of each step and how much it counts, ``(scenes, steps, 4 labels)``."""
        at = np.arange(self._family.count(self._frames)) * self._family.step + self._family.window // 2
        near = np.arange(-(self._family.step // 2), -(-self._family.step // 2))
        begins = scenes.begins[:, at[:, None] + near].max(axis=2)
        # Just before and after an onset either answer will do.
        beside = np.zeros_like(begins)
        beside[:, 1:] += begins[:, :-1]
        beside[:, :-1] += begins[:, 1:]
        counts = np.where((beside > 0) & (begins == 0), 0, ONSETS_COUNT * (1 + (ONSET_COUNTS - 1) * begins))
        counts = counts * self._reported
        sounds_count = scenes.counts[:, at] * np.where(self._reported, 1, BACKGROUND_COUNTS)
        parts = [scenes.sounds[:, at], begins, sounds_count, counts, *self._wholes(scenes, at)]
        return np.concatenate(parts, axis=-1, dtype=np.float32)

    def _wholes(self, scenes: Scenes, at: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Share of each step in each sound that is heard, and the label of that among those that are reported."""
        inside, labels = (np.zeros((len(scenes.frames), len(at), SOUNDS), dtype=np.float32) for _ in range(2))
        numbers, taken = np.cumsum(self._reported) - 1, np.zeros(len(scenes.frames), dtype=int)
        for scene, first, last, label in scenes.events:
            steps = slice(*np.searchsorted(at, [first, last]))
            if steps.stop > steps.start and taken[scene] < SOUNDS and not self._overlapping:
                inside[scene, steps, taken[scene]] = 1 / (steps.stop - steps.start)
                labels[scene, :, taken[scene]] = numbers[label]
                taken[scene] += 1
        return inside, labels

    def loss(self, logits: np.ndarray, targets: np.ndarray) -> tuple[float, np.ndarray]:
        outputs = logits.shape[-1]
        wanted, counts, inside, labels = np.split(targets, [outputs, 2 * outputs, 2 * outputs + SOUNDS], axis=-1)
        loss, gradient = weighted_cross_entropy(logits, wanted, counts)
        named = np.flatnonzero(self._reported)
        whole, back = sound_cross_entropy(logits[..., named], inside, labels[:, 0])
        gradient[..., named] += np.float32(WHOLE_COUNTS) * back
        return loss + WHOLE_COUNTS * whole, gradient

    def judge(self) -> tuple[float, float, float]:
        if self._watched is None:
            return np.nan, np.nan, np.nan
        x = self._input(self._watched)
        parts = np.array_split(np.arange(len(x)), max(1, len(x) // self._plan.training.batch))
        logits = np.concatenate([self.network.forward(x[part])[0] for part in parts])
        loss = self.loss(logits, self._targets(self._watched))[0]
        rows, targets = self._events(logits[..., : len(self._reported)], self._watched)
        return loss, *judge_logits(rows, targets, overlapping=self._overlapping)[1:]

    def _events(self, logits: np.ndarray, scenes: Scenes) -> tuple[np.ndarray, np.ndarray]:
        """Mean logits over each sound that is heard, and what it is; of labels that are reported."""
        centres = np.arange(logits.shape[1]) * self._family.step + self._family.window // 2
        rows, targets = [], []
        for scene, first, last, label in scenes.events:
            inside = (centres >= first) & (centres < last)
            if inside.any():
                rows.append(logits[scene, inside].mean(axis=0))
                targets.append(np.arange(logits.shape[-1]) == label)
        if not rows:
            return np.zeros((1, int(self._reported.sum()))), np.zeros((1, int(self._reported.sum())))
        return np.stack(rows)[:, self._reported], np.stack(targets)[:, self._reported].astype(np.float32)

    def family(self, arrays: list[Arrays]) -> Family:
        own = self._family
        settings = own.settings.model_copy(update={"networks": len(arrays)})
        made = Convolutional(self._plan.front_end.width, own.labels, settings, own.level, np.random.default_rng(0))
        for network, its_arrays in zip(made.networks, arrays, strict=True):
            network.load(its_arrays)
        return made

    def close(self) -> None:
        if self._variants is not None:
            self._variants.close()


class OverRows:
    """A network that is given rows of pooled features."""

    def __init__(
        self, plan: Plan, labels: list[str], train: Examples, validation: Examples | None, rng: np.random.Generator
    ) -> None:
        self._plan = plan
        windows = drawn_windows(plan, labels, train)
        self.mean, self.deviation = windows.mean, windows.deviation
        self._rows, targets, self._names = windows.rows, windows.targets, windows.names
        self._targets = targets
        centre, spread = centre_and_spread(self._rows)
        mlp = Mlp(self._rows.shape[1], len(labels), plan.mlp, rng)
        self._pooled = Pooled("mlp", plan.window_frames, plan.pooling.statistics, plan.levels, mlp, centre, spread)
        self.network = mlp.network
        self._rows = (self._rows - centre) / spread
        self._watched = None if validation is None else drawn_windows(plan, labels, validation, watched=True)

    def loss(self, logits: np.ndarray, targets: np.ndarray) -> tuple[float, np.ndarray]:
        return binary_cross_entropy(logits, targets)

    def begin(self, epoch: int, epochs: int) -> float:  # noqa: ARG002
        return 0.0

    def resume(self, epoch: int) -> None:
        pass

    def batches(self, rng: np.random.Generator) -> list[Callable[[], Batch]]:
        order = rng.permutation(len(self._rows))
        parts = np.array_split(order, max(1, len(order) // ROWS_A_BATCH))
        return [partial(self._batch, part) for part in parts]

    def _batch(self, part: np.ndarray) -> Batch:
        return Batch(self._rows[part], self._targets[part], [self._names[row] for row in part])

    def judge(self) -> tuple[float, float, float]:
        if self._watched is None:
            return np.nan, np.nan, np.nan
        rows = (self._watched.rows - self._pooled.centre) / self._pooled.spread
        return judge_logits(self.network.forward(rows)[0], self._watched.targets, overlapping=True)

    def family(self, arrays: list[Arrays]) -> Family:
        self.network.load(arrays[0])
        return self._pooled

    def close(self) -> None:
        pass
