"""Training of the families that are networks: batches, averaging, the best weights, checkpoints."""

import logging
import time
from collections.abc import Callable
from concurrent.futures import Executor, ThreadPoolExecutor
from dataclasses import asdict, dataclass
from functools import partial
from typing import Any, Protocol

import numpy as np

from barn_owl.audio import read_ahead
from barn_owl.classify.checkpoint import Checkpoint
from barn_owl.classify.convolutional import Convolutional
from barn_owl.classify.family import Family
from barn_owl.classify.fitted import (
    Examples,
    Fitted,
    Progress,
    Watcher,
    background_numbers,
    judge_logits,
    standardisation,
)
from barn_owl.classify.mlp import Mlp
from barn_owl.classify.network import (
    AdamW,
    Network,
    binary_cross_entropy,
    sound_cross_entropy,
    warm_cosine,
    weighted_cross_entropy,
)
from barn_owl.classify.network.layer import Arrays
from barn_owl.classify.network.optimiser import clip_norm
from barn_owl.classify.plan import Plan
from barn_owl.classify.pooled import Pooled, PooledWindows, centre_and_spread
from barn_owl.classify.scenes import SceneMaker, Scenes
from barn_owl.classify.variants import Variants
from barn_owl.errors import OutputError, TrainingError

logger = logging.getLogger(__name__)

LONGEST_GRADIENT = 5.0
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
LATE = 0.5
"""Share of the epochs after which one may be the best, if there are such: until then the rate is still high."""


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

    def family(self) -> Family:
        """The family, with the weights as they are now."""

    def close(self) -> None:
        """Stop what goes on beside the training."""


class _OverScenes:
    """A network that goes along scenes."""

    def __init__(
        self, plan: Plan, labels: list[str], train: Examples, validation: Examples | None, rng: np.random.Generator,
        standard: tuple[np.ndarray, np.ndarray] | None,
    ) -> None:  # fmt: skip
        self._plan, self._train = plan, train
        background = background_numbers(plan, labels)
        self._family = Convolutional(plan.front_end.width, len(labels), plan.cnn, plan.levels, rng)
        self.network = self._family.network
        self.mean, self.deviation = standard or standardisation(plan, train.clips)
        self._frames = max(
            plan.front_end.count(round(plan.scenes.seconds * plan.front_end.rate_hz)), self._family.window
        )
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
            self._watched = own.make(max(8, round(WATCHED_SHARE * plan.scenes.count)), self._frames, rng)

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
        scenes = self._maker.make(size, self._frames, rng)
        names = [self._train.name(int(clip)) if clip >= 0 else "a scene of background" for clip in scenes.clips]
        return Batch(self._input(scenes), self._targets(scenes), names)

    def _input(self, scenes: Scenes) -> np.ndarray:
        return np.asarray(((scenes.frames - self.mean) / self.deviation)[..., None], dtype=np.float32)

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

    def family(self) -> Family:
        self._family.renew()
        return self._family

    def close(self) -> None:
        if self._variants is not None:
            self._variants.close()


class _OverRows:
    """A network that is given rows of pooled features."""

    def __init__(
        self, plan: Plan, labels: list[str], train: Examples, validation: Examples | None, rng: np.random.Generator
    ) -> None:
        self._plan = plan
        windows = PooledWindows(plan, labels, train)
        self.mean, self.deviation = windows.mean, windows.deviation
        self._rows, targets, self._names = windows.rows, windows.targets, windows.names
        self._targets = targets
        centre, spread = centre_and_spread(self._rows)
        mlp = Mlp(self._rows.shape[1], len(labels), plan.mlp, rng)
        self._pooled = Pooled("mlp", plan.window_frames, plan.pooling.statistics, plan.levels, mlp, centre, spread)
        self.network = mlp.network
        self._rows = (self._rows - centre) / spread
        self._watched = None if validation is None else PooledWindows(plan, labels, validation, watched=True)

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

    def family(self) -> Family:
        return self._pooled

    def close(self) -> None:
        pass


ROWS_A_BATCH = 64


def fit_network(
    plan: Plan,
    labels: list[str],
    train: Examples,
    validation: Examples | None,
    *,
    workers: int,
    watch: Watcher,
    start: Fitted | None = None,
    resume: Checkpoint | None = None,
    save: Callable[[Checkpoint], None] | None = None,
) -> Fitted:
    """Train a network, keeping the weights that do best on the validation clips; the last ones without any.

    start : a model to train further. resume : where to go on; save : called with a checkpoint after each epoch.
    On Ctrl-C after the first epoch the best so far are kept; so they are when the loss stops being a number, and
    ``trouble`` says where that was. Raises TrainingError when there is no best yet.
    """
    trainer = _Trainer(plan, labels, train, validation, start)
    subject = trainer.subject
    fitted = Fitted(family=subject.family(), mean=subject.mean, deviation=subject.deviation)
    first = 1
    if resume is not None:
        trainer.restore(resume)
        fitted.curves = [Progress(**line) for line in resume.curves]
        first = len(fitted.curves) + 1
    before = fitted.curves[-1].seconds if fitted.curves else 0.0
    begin = time.perf_counter() - before
    try:
        with ThreadPoolExecutor(workers) as threads:
            for epoch in range(first, plan.training.epochs + 1):
                if fitted.curves and epoch - 1 - trainer.best_epoch >= plan.training.patience:
                    break
                line = trainer.line(epoch, threads, begin)
                fitted.curves.append(line)
                if save is not None:
                    _save(save, trainer.checkpoint(fitted.curves))
                watch(line)
    except KeyboardInterrupt:
        if trainer.best is None:
            raise
        fitted.interrupted = True
    except TrainingError as error:
        if trainer.best is None:
            raise
        fitted.trouble = str(error)
    finally:
        subject.close()
    if trainer.best is None:
        raise TrainingError("the validation loss was never a number; lower training.rate")
    subject.network.load(trainer.best)
    fitted.family = subject.family()
    return fitted


def _save(save: Callable[[Checkpoint], None], checkpoint: Checkpoint) -> None:
    """Save a checkpoint; when that fails, as on a full disk, say so and go on: the training itself is not lost."""
    try:
        save(checkpoint)
    except OutputError as error:
        logger.warning("%s; training goes on without this checkpoint", error)


class _Trainer:
    """A network in training, with the optimiser, the running average of the weights and the best of it."""

    def __init__(
        self,
        plan: Plan,
        labels: list[str],
        train: Examples,
        validation: Examples | None,
        start: Fitted | None,
    ) -> None:
        self.plan, self._judges = plan, validation is not None
        self.rng = np.random.default_rng(plan.seed)
        standard = None if start is None else (start.mean, start.deviation)
        self.subject: Subject
        if plan.family == "cnn":
            self.subject = _OverScenes(plan, labels, train, validation, self.rng, standard)
        else:
            self.subject = _OverRows(plan, labels, train, validation, self.rng)
        self.network = self.subject.network
        self.rate = plan.training.rate
        if start is not None:
            self.network.load(start.family.arrays())
            self.network.frozen = plan.start.frozen
            self.rate *= plan.start.rate_share
        self.vector = self.network.vector
        self.averaged = self.vector.copy()
        self.optimiser = AdamW(self.vector, decay=plan.training.decay, decayed=self.network.kernels)
        self.best: Arrays | None = None
        self.best_epoch, self.least = 0, np.inf
        self.was_late = False

    def line(self, epoch: int, threads: Executor, begin: float) -> Progress:
        """Go through an epoch, judge it, and keep its weights if they are the best."""
        started = time.perf_counter()
        train_loss, waited = self._epoch(epoch, threads)
        learnt = time.perf_counter() - started
        loss, recall, f1, arrays = self._judge()
        self._keep(epoch, loss, f1, arrays)
        return Progress(
            epoch=epoch,
            epochs=self.plan.training.epochs,
            train_loss=train_loss,
            validation_loss=loss,
            validation_recall=recall,
            validation_f1=f1,
            best=self.best_epoch == epoch,
            seconds=time.perf_counter() - begin,
            waiting=round(waited / max(learnt, 1e-9), 3),
        )

    def _keep(self, epoch: int, loss: float, f1: float, arrays: Arrays) -> None:
        """Keep the weights if they are the best, or the first of those that may be; without a judge, always."""
        is_late = epoch > LATE * self.plan.training.epochs
        badness = loss if self.plan.training.stop_on == "loss" else -f1
        if not self._judges:
            badness = -float(epoch)
        if badness < self.least or (is_late and not self.was_late and np.isfinite(badness)):
            self.best, self.least, self.best_epoch = arrays, badness, epoch
            self.was_late = is_late

    def _epoch(self, epoch: int, threads: Executor) -> tuple[float, float]:
        """Go once through all batches of an epoch; return the mean loss and the seconds spent waiting."""
        waited = self.subject.begin(epoch, self.plan.training.epochs)
        makers = self.subject.batches(self.rng)
        losses = []
        # The next batch is made while the network learns from this one.
        begin = time.perf_counter()
        for batch in read_ahead(make() for make in makers):
            waited += time.perf_counter() - begin
            losses.append(self._step(batch, epoch, len(makers), threads))
            begin = time.perf_counter()
        return float(np.mean(losses)), waited

    def _step(self, batch: Batch, epoch: int, batches: int, threads: Executor) -> float:
        settings, step = self.plan.training, self.optimiser.count
        loss, gradient = self.network.learn(
            batch.inputs, batch.targets, (self.plan.seed, step), threads, self.subject.loss
        )
        if not np.isfinite(loss) or not np.isfinite(gradient).all():
            raise TrainingError(
                f"the loss is not a number at epoch {epoch}, batch {step % batches + 1} of {batches}, "
                f"{self._culprit(batch)}; lower training.rate (now {settings.rate:g}), or look at that clip"
            )
        clip_norm(gradient, LONGEST_GRADIENT)
        self.optimiser.step(gradient, warm_cosine(step, settings.epochs * batches, self.rate))
        # The average starts short and grows, or the first values would linger in it.
        keep = min(settings.averaging, step / (step + 10))
        self.averaged += np.float32(1 - keep) * (self.vector - self.averaged)
        return loss

    def _culprit(self, batch: Batch) -> str:
        """Name the clip of a batch that has frames that are no numbers, or else the largest loss."""
        bad = ~np.isfinite(batch.inputs.reshape(len(batch.inputs), -1)).all(axis=1)
        if not bad.any():
            with np.errstate(all="ignore"):
                logits = self.network.forward(batch.inputs)[0]
                losses = np.array(
                    [self.subject.loss(logits[n : n + 1], batch.targets[n : n + 1])[0] for n in range(len(logits))]
                )
            bad = ~np.isfinite(losses) if not np.isfinite(losses).all() else losses == losses.max()
        return batch.names[int(np.flatnonzero(bad)[0])]

    def _judge(self) -> tuple[float, float, float, Arrays]:
        """Loss, recall and F1 on the validation side with the averaged weights, and a copy of those."""
        current = self.vector.copy()
        self.vector[:] = self.averaged
        judged = self.subject.judge()
        arrays = {name: array.copy() for name, array in self.network.arrays().items()}
        self.vector[:] = current
        return *judged, arrays

    def checkpoint(self, curves: list[Progress]) -> Checkpoint:
        """All that is needed to go on after this epoch as if nothing had happened."""
        arrays: dict[str, np.ndarray] = {
            "vector": self.vector,
            "averaged": self.averaged,
            "first": self.optimiser.first,
            "second": self.optimiser.second,
            **{f"state.{name}": array for name, array in self.network.states().items()},
            **{f"best.{name}": array for name, array in (self.best or {}).items()},
        }
        numbers: dict[str, Any] = {
            "steps": self.optimiser.count,
            "best_epoch": self.best_epoch,
            "least": float(self.least),
            "was_late": self.was_late,
            "random": self.rng.bit_generator.state,
        }
        return Checkpoint(arrays=arrays, numbers=numbers, curves=[asdict(line) for line in curves])

    def restore(self, checkpoint: Checkpoint) -> None:
        """Take the state of a checkpoint."""
        arrays, numbers = checkpoint.arrays, checkpoint.numbers
        self.vector[:], self.averaged[:] = arrays["vector"], arrays["averaged"]
        self.optimiser.first[:], self.optimiser.second[:] = arrays["first"], arrays["second"]
        self.optimiser.count = numbers["steps"]
        for name, array in self.network.states().items():
            array[...] = arrays[f"state.{name}"]
        best = {name[5:]: array for name, array in arrays.items() if name.startswith("best.")}
        self.best, self.best_epoch, self.least = best or None, numbers["best_epoch"], numbers["least"]
        self.was_late = numbers["was_late"]
        self.rng.bit_generator.state = numbers["random"]
        self.subject.resume(len(checkpoint.curves))
