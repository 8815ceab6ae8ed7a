"""Training tasks of networks: mixtures of clips or rows of pooled features, with batches, losses and evaluation."""

import time
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any, Protocol

import numpy as np

from barn_owl.classifiers.base import Classifier
from barn_owl.classifiers.cnn import split_outputs
from barn_owl.classifiers.pooled import Pooled
from barn_owl.clips import ClipFrames
from barn_owl.learn.augment import Augment
from barn_owl.learn.fitted import Examples, background_numbers, evaluate_logits, standardization
from barn_owl.learn.mixtures import MixtureMaker, Mixtures
from barn_owl.learn.plan import Plan
from barn_owl.learn.pooled import center_and_spread, drawn_windows
from barn_owl.learn.targets import FrameTargets
from barn_owl.learn.unlabeled import Teacher, Unlabeled
from barn_owl.learn.variants import Variants
from barn_owl.network import (
    Network,
    attention_pool,
    binary_cross_entropy,
    step_cross_entropy,
    stretch_cross_entropy,
    weighted_cross_entropy,
)
from barn_owl.network.layer import Arrays

VALIDATION_SHARE, VALIDATION_STREAM = 0.2, 31
"""Number of validation mixtures per epoch, and the separation of their random numbers from the training mixtures."""
ONSET_LOSS_WEIGHT, POSITIVE_ONSET_WEIGHT = 3.0, 4.0
"""Loss weight of the onset output, relative to activity, and further weight of steps with an onset, which are rare.
"""
MAX_SEGMENTS = 16
"""Largest number of segments per mixture in the label loss."""
LABEL_LOSS_WEIGHT = 0.7
"""Loss weight of the labels of segments, relative to the activity of steps."""
STEP_LOSS_WEIGHT = 0.2
"""Loss weight of the labels of single steps in segments: without it, labels are learned only where attention is, and
events in noise get wrong labels."""
UNLABELED_SEGMENT_WEIGHT = 0.3
"""Loss weight of segments of none of the labels, relative to labeled segments: there are many."""
MIXTURE_REUSE = 2
"""Training steps per mixture of an epoch, in different batches: synthesizing a mixture takes half as long as a
training step.
"""
SMOOTHING = 0.1
"""Label smoothing: share of a target spread over all labels (Szegedy et al., CVPR 2016)."""
ROWS_A_BATCH = 64
"""Batch size of rows, larger than that of mixtures since rows are cheap."""


Standard = tuple[np.ndarray, np.ndarray]
"""Mean and deviation of each feature, each ``(features,)``."""


@dataclass(frozen=True)
class Batch:
    """A batch: inputs, targets in the form that the loss of its task takes, and their description in words."""

    inputs: np.ndarray
    targets: Any
    names: list[str]


class TrainingTask(Protocol):
    """A training task: a network, its training data, and its classifier."""

    network: Network
    mean: np.ndarray
    deviation: np.ndarray

    def loss(self, logits: np.ndarray, targets: Any) -> tuple[float, np.ndarray]:
        """Mean loss over a batch or a part of it, and its gradient."""

    def begin(self, epoch: int, last: int) -> float:
        """Prepare an epoch; return the seconds waited."""

    def resume(self, epoch: int) -> None:
        """Advance random numbers as if all epochs up to this had passed."""

    def batches(self, rng: np.random.Generator) -> "list[Callable[[], Batch]]":
        """Return functions that create the batches of an epoch, in order."""

    def with_unlabeled(self, batch: Batch, teacher: Teacher, progress: float, rng: np.random.Generator) -> Batch:
        """Add a stretch of a recording without labels to a batch, if there is any; see `Unlabeled.drawn`."""

    def judge(self) -> tuple[float, float, float]:
        """Loss, recall and F1 on the validation split, with the weights as they are."""

    def classifier(self, plan: Plan, arrays: list[Arrays]) -> Classifier:
        """Create the classifier of a plan from the weights and states of its networks."""

    def close(self) -> None:
        """Stop background threads."""


class FrameTask:
    """A network that goes along mixtures."""

    def __init__(
        self, plan: Plan, labels: list[str], train: Examples, validation: Examples | None, rng: np.random.Generator,
        standard: Standard | None,
    ) -> None:  # fmt: skip
        self._plan, self._train = plan, train
        background = background_numbers(plan, labels)
        self._classifier = plan.network_kind.network(
            plan.front_end.width, len(labels), plan.own, plan.levels, rng, multilabel=plan.multilabel
        )
        self.network = self._classifier.networks[0]
        self.mean, self.deviation = standard or standardization(plan, train.clips)
        self._frames = max(
            plan.front_end.count(round(plan.mixtures.seconds * plan.front_end.rate_hz)), self._classifier.window
        )
        self._margin = self._classifier.window // 2
        self._maker = MixtureMaker(plan, train, background)
        self._labels, self._multilabel = len(labels), train.multilabel
        self._events = [n for n, label in enumerate(labels) if label not in (*plan.background, *plan.ignored)]
        recordings = ClipFrames([]) if train.multilabel else train.unlabeled
        step_s = self._classifier.step * plan.front_end.hop_s
        augment = Augment(plan.augment, plan.front_end)
        self._unlabeled = Unlabeled(recordings, self._frames, step_s, len(labels), augment)
        self._variants = None
        if plan.sound.any and train.sources:
            beds = np.flatnonzero(train.targets[:, background].any(axis=1))
            self._variants = Variants(train.sources, beds, plan)
        self._watched: Mixtures | None = None
        if validation is not None:
            own = MixtureMaker(plan, validation, background)
            rng = np.random.default_rng([plan.seed, VALIDATION_STREAM])
            count = max(8, round(VALIDATION_SHARE * plan.mixtures.count))
            self._watched = own.make(count, self._frames, rng, margin=self._margin)

    def begin(self, epoch: int, last: int) -> float:
        if self._variants is None:
            return 0.0
        begin = time.perf_counter()
        for clip, frames in self._variants.take(epoch).items():
            self._maker.replace(clip, frames)
        if epoch < last:
            self._variants.start(epoch + 1)
        return time.perf_counter() - begin

    def resume(self, epoch: int) -> None:
        if self._variants is not None:
            for clip, frames in self._variants.after(epoch).items():
                self._maker.replace(clip, frames)

    def batches(self, rng: np.random.Generator) -> list[Callable[[], Batch]]:
        size = self._plan.training.batch_size
        count, made = max(1, self._plan.mixtures.count // (MIXTURE_REUSE * size)), list[Batch]()

        def fresh() -> Batch:
            made.append(self._batch(size, rng))
            return made[-1]

        orders = [rng.permutation(count * size).reshape(count, size) for _ in range(MIXTURE_REUSE - 1)]
        return [fresh] * count + [partial(_put_together, made, rows) for order in orders for rows in order]

    def _batch(self, size: int, rng: np.random.Generator) -> Batch:
        mixtures = self._maker.make(size, self._frames, rng, margin=self._margin)
        names = [self._train.name(int(clip)) if clip >= 0 else "a mixture of background" for clip in mixtures.clips]
        return Batch(self._input(mixtures.frames), self._targets(mixtures), names)

    def _input(self, frames: np.ndarray) -> np.ndarray:
        frames = frames if self._plan.levels.frames else (frames - self.mean) / self.deviation
        return np.asarray(frames[..., None], dtype=np.float32)

    def with_unlabeled(self, batch: Batch, teacher: Teacher, progress: float, rng: np.random.Generator) -> Batch:
        drawn = self._unlabeled.drawn(lambda frames: teacher(self._input(frames)), progress, MAX_SEGMENTS, rng)
        if drawn is None:
            return batch
        weights = drawn.counts * np.array([1, ONSET_LOSS_WEIGHT], dtype=np.float32)
        targets = FrameTargets(drawn.wanted, weights, drawn.inside, drawn.names.astype(np.float32))
        return Batch(
            np.concatenate([batch.inputs, self._input(drawn.frames)]),
            FrameTargets.concatenate([batch.targets, targets]),
            [*batch.names, "a recording without labels"],
        )

    def _targets(self, mixtures: Mixtures) -> FrameTargets:
        at = np.arange(self._classifier.count(self._frames)) * self._classifier.step + self._classifier.window // 2
        near = np.arange(-(self._classifier.step // 2), -(-self._classifier.step // 2))
        onsets = mixtures.onsets[:, at[:, None] + near].max(axis=2)
        activity, activity_weights = mixtures.activity[:, at], mixtures.counts[:, at]
        if not self._multilabel:  # any label that is an event
            onsets, activity = (part[..., self._events].max(axis=-1, keepdims=True) for part in (onsets, activity))
            activity_weights = np.maximum(activity, activity_weights[..., self._events].min(axis=-1, keepdims=True))
        # Just before and after an onset, either target is acceptable.
        beside = np.zeros_like(onsets)
        beside[:, 1:] += onsets[:, :-1]
        beside[:, :-1] += onsets[:, 1:]
        onset_weights = np.where(
            (beside > 0) & (onsets == 0), 0, ONSET_LOSS_WEIGHT * (1 + (POSITIVE_ONSET_WEIGHT - 1) * onsets)
        )
        return FrameTargets(
            np.concatenate([activity, onsets], axis=-1, dtype=np.float32),
            np.concatenate([activity_weights, onset_weights], axis=-1, dtype=np.float32),
            *self._segments(mixtures, at),
        )

    def _segments(self, mixtures: Mixtures, at: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return the steps of each segment, and its labels or none of them; see `FrameTargets`."""
        count, labels = len(mixtures.frames), self._labels + 1
        inside = np.zeros((count, len(at), MAX_SEGMENTS), dtype=np.float32)
        wanted = np.zeros((count, MAX_SEGMENTS, labels), dtype=np.float32)
        places: dict[tuple[int, int, int], int] = {}
        taken = np.zeros(count, dtype=int)
        for mixture, first, last, label in mixtures.events:
            steps = slice(*np.searchsorted(at, [first, last]))
            # A sound with several labels has an event for each.
            place = places.setdefault((mixture, first, last), int(taken[mixture]))
            if steps.stop > steps.start and place < MAX_SEGMENTS:
                inside[mixture, steps, place] = 1
                wanted[mixture, place, label] = 1
                taken[mixture] = max(taken[mixture], place + 1)
        return inside, wanted

    def loss(self, logits: np.ndarray, targets: FrameTargets) -> tuple[float, np.ndarray]:
        tracks = targets.scores.shape[-1]
        gradient = np.empty_like(logits)
        loss, gradient[..., :tracks] = weighted_cross_entropy(logits[..., :tracks], targets.scores, targets.weights)
        labels = targets.labels.shape[-1]
        smooth = targets.labels * np.float32(1 - SMOOTHING)
        smooth += np.float32(SMOOTHING / 2 if self._multilabel else SMOOTHING / labels)
        weights = np.where(targets.labels[..., -1] > 0, np.float32(UNLABELED_SEGMENT_WEIGHT), np.float32(1))
        label_logits, attention = logits[..., tracks:-1], logits[..., -1]
        label_loss, to_logits, to_attention = stretch_cross_entropy(
            label_logits, attention, targets.inside, smooth, weights, multilabel=self._multilabel
        )
        step_loss, to_steps = step_cross_entropy(
            label_logits, targets.inside, smooth, weights, multilabel=self._multilabel
        )
        gradient[..., tracks:-1] = np.float32(LABEL_LOSS_WEIGHT) * to_logits
        gradient[..., tracks:-1] += np.float32(STEP_LOSS_WEIGHT) * to_steps
        gradient[..., -1] = np.float32(LABEL_LOSS_WEIGHT) * to_attention
        return loss + LABEL_LOSS_WEIGHT * label_loss + STEP_LOSS_WEIGHT * step_loss, gradient

    def judge(self) -> tuple[float, float, float]:
        if self._watched is None:
            return np.nan, np.nan, np.nan
        x = self._input(self._watched.frames)
        parts = np.array_split(np.arange(len(x)), max(1, len(x) // self._plan.training.batch_size))
        logits = np.concatenate([self.network.forward(x[part])[0] for part in parts])
        loss = self.loss(logits, self._targets(self._watched))[0]
        rows, targets = self._labeled_segments(logits, self._watched)
        return loss, *evaluate_logits(rows, targets, multilabel=self._multilabel)[1:]

    def _labeled_segments(self, logits: np.ndarray, mixtures: Mixtures) -> tuple[np.ndarray, np.ndarray]:
        """Return logits and labels of each labeled segment."""
        labels = self._labels
        centers = np.arange(logits.shape[1]) * self._classifier.step + self._classifier.window // 2
        inside, wanted = self._segments(mixtures, centers)
        label_logits = split_outputs(logits, labels)[2]
        pooled, _ = attention_pool(label_logits[..., :-1], label_logits[..., -1], inside)
        targets = wanted[..., :labels]
        there = inside.any(axis=1) & targets.any(axis=2)
        if not there.any():
            return np.zeros((1, labels)), np.zeros((1, labels))
        return pooled[there][:, :labels], targets[there]

    def classifier(self, plan: Plan, arrays: list[Arrays]) -> Classifier:
        labels = self._classifier.labels
        rng = np.random.default_rng(0)
        made = plan.network_kind.network(
            plan.front_end.width, labels, plan.own, plan.levels, rng, multilabel=plan.multilabel
        )
        for network, its_arrays in zip(made.networks, arrays, strict=True):
            network.load_state(its_arrays)
        return made

    def close(self) -> None:
        if self._variants is not None:
            self._variants.close()


def _put_together(made: list[Batch], rows: np.ndarray) -> Batch:
    """Combine mixtures of several sets into a batch; `rows` numbers them consecutively."""
    places = [divmod(int(row), len(made[0].inputs)) for row in rows]
    return Batch(
        np.stack([made[number].inputs[row] for number, row in places]),
        FrameTargets.concatenate([made[number].targets[row : row + 1] for number, row in places]),
        [made[number].names[row] for number, row in places],
    )


class WindowTask:
    """Training of a network on rows of pooled features."""

    def __init__(
        self, plan: Plan, labels: list[str], train: Examples, validation: Examples | None, rng: np.random.Generator
    ) -> None:
        self._plan = plan
        windows = drawn_windows(plan, labels, train)
        self.mean, self.deviation = windows.mean, windows.deviation
        self._rows, targets, self._names = windows.rows, windows.targets, windows.names
        self._targets = targets
        center, spread = center_and_spread(self._rows)
        mlp = plan.network_kind.network(self._rows.shape[1], len(labels), plan.own, rng)
        how = plan.window_frames, plan.window_step, plan.pooling.statistics, plan.levels
        self._pooled = Pooled(plan.classifier, *how, mlp, center, spread)
        self.network = mlp.network
        self._rows = (self._rows - center) / spread
        self._watched = None if validation is None else drawn_windows(plan, labels, validation, watched=True)

    def loss(self, logits: np.ndarray, targets: np.ndarray) -> tuple[float, np.ndarray]:
        return binary_cross_entropy(logits, targets)

    def begin(self, epoch: int, last: int) -> float:  # noqa: ARG002
        return 0.0

    def resume(self, epoch: int) -> None:
        pass

    def with_unlabeled(self, batch: Batch, teacher: Teacher, progress: float, rng: np.random.Generator) -> Batch:  # noqa: ARG002
        return batch

    def batches(self, rng: np.random.Generator) -> list[Callable[[], Batch]]:
        order = rng.permutation(len(self._rows))
        parts = np.array_split(order, max(1, len(order) // ROWS_A_BATCH))
        return [partial(self._batch, part) for part in parts]

    def _batch(self, part: np.ndarray) -> Batch:
        return Batch(self._rows[part], self._targets[part], [self._names[row] for row in part])

    def judge(self) -> tuple[float, float, float]:
        if self._watched is None:
            return np.nan, np.nan, np.nan
        rows = (self._watched.rows - self._pooled.center) / self._pooled.spread
        return evaluate_logits(self.network.forward(rows)[0], self._watched.targets, multilabel=True)

    def classifier(self, plan: Plan, arrays: list[Arrays]) -> Classifier:  # noqa: ARG002
        self.network.load_state(arrays[0])
        return self._pooled

    def close(self) -> None:
        pass
