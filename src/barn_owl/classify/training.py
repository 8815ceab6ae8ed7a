"""Training of the families that are networks: batches, averaging, the best weights, checkpoints."""

import logging
import time
from collections.abc import Callable
from concurrent.futures import Executor, ThreadPoolExecutor
from dataclasses import asdict
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
    balanced_order,
    judge_logits,
    label_weights,
)
from barn_owl.classify.mlp import Mlp
from barn_owl.classify.network import AdamW, Network, binary_cross_entropy, cross_entropy, warm_cosine
from barn_owl.classify.network.layer import Arrays
from barn_owl.classify.network.optimiser import clip_norm
from barn_owl.classify.plan import CONVOLUTIONAL, Plan
from barn_owl.classify.pooled import Pooled, centre_and_spread, drawn_rows
from barn_owl.classify.windows import TrainingWindows, central_windows
from barn_owl.errors import OutputError, TrainingError

logger = logging.getLogger(__name__)

LONGEST_GRADIENT = 5.0
JUDGED_AT_ONCE = 64
LONGER = 1.2
MIN_BATCHES = 8
"""Batches of an epoch at least: with few clips, each is seen several times, changed anew."""


class Subject(Protocol):
    """What is trained: a network, what it is given for windows, and the family it becomes part of."""

    network: Network

    def inputs(self, windows: np.ndarray, extras: np.ndarray) -> np.ndarray:
        """What the network is given for standardised windows."""

    def family(self) -> Family:
        """The family, with the weights as they are now."""


class _Frames:
    """A network that is given the frames of windows."""

    def __init__(self, plan: Plan, labels: int, rng: np.random.Generator) -> None:
        settings = getattr(plan, plan.family)
        self._family = Convolutional(plan.family, plan.window_frames, plan.front_end.width, labels, settings, rng)
        self.network, self.length = self._family.network, self._family.window

    def inputs(self, windows: np.ndarray, extras: np.ndarray) -> np.ndarray:  # noqa: ARG002
        return self._family.input(windows)

    def family(self) -> Family:
        self._family.renew()
        return self._family


class _Rows:
    """A network that is given rows of pooled features."""

    def __init__(self, plan: Plan, rows: np.ndarray, labels: int, rng: np.random.Generator) -> None:
        mlp = Mlp(rows.shape[1], labels, plan.mlp, rng)
        self._pooled = Pooled("mlp", plan.window_frames, plan.pooling.statistics, mlp, *centre_and_spread(rows))
        self.network = mlp.network

    def inputs(self, windows: np.ndarray, extras: np.ndarray) -> np.ndarray:
        return self._pooled.rows(windows, extras)

    def family(self) -> Family:
        return self._pooled


def fit_network(
    plan: Plan,
    labels: list[str],
    train: Examples,
    validation: Examples,
    *,
    workers: int,
    watch: Watcher,
    start: Fitted | None = None,
    resume: Checkpoint | None = None,
    save: Callable[[Checkpoint], None] | None = None,
) -> Fitted:
    """Train a network, keeping the weights that do best on the validation clips.

    start : a model to train further. resume : where to go on; save : called with a checkpoint after each epoch.
    On Ctrl-C after the first epoch the best so far are kept; so they are when the loss stops being a number, and
    ``trouble`` says where that was. Raises TrainingError when there is no best yet.
    """
    trainer = _Trainer(plan, labels, train, validation, start)
    fitted = Fitted(family=trainer.subject.family(), mean=trainer.windows.mean, deviation=trainer.windows.deviation)
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
        trainer.windows.close()
    if trainer.best is None:
        raise TrainingError("the validation loss was never a number; lower training.rate")
    trainer.subject.network.load(trainer.best)
    fitted.family = trainer.subject.family()
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
        validation: Examples,
        start: Fitted | None,
    ) -> None:
        self.plan, self.labels, self.train, self.validation = plan, len(labels), train, validation
        self.rng = np.random.default_rng(plan.seed)
        standard = None if start is None else (start.mean, start.deviation)
        self.subject: Subject
        if plan.family in CONVOLUTIONAL:
            frames = _Frames(plan, len(labels), self.rng)
            self.windows = TrainingWindows(plan, labels, train, frames.length, standard)
            self.subject, length = frames, frames.length
        else:
            length = plan.window_frames
            self.windows = TrainingWindows(plan, labels, train, length, standard)
            rows, _, _ = drawn_rows(plan, self.windows, train, workers=None)
            self.subject = _Rows(plan, rows, len(labels), self.rng)
        watched = self.windows.standard(central_windows(plan, validation, length))
        self.watched = self.subject.inputs(watched, validation.extras)
        self.network = self.subject.network
        self.rate = plan.training.rate
        if start is not None:
            self.network.load(start.family.arrays())
            self.network.frozen = plan.start.frozen
            self.rate *= plan.start.rate_share
        self.vector = self.network.vector
        self.averaged = self.vector.copy()
        self.optimiser = AdamW(self.vector, decay=plan.training.decay, decayed=self.network.kernels)
        self.loss = binary_cross_entropy if train.overlapping else cross_entropy
        self.numbers = train.numbers
        self.weights = label_weights(self.numbers, len(labels)) if plan.training.balance == "weight" else None
        # Made-up sounds are many, but an epoch is only a fifth longer for them.
        named = len([label for label in labels if label])
        self.draws = min(round(LONGER * int((self.numbers < named).sum())), len(self.numbers))
        self.batches = max(MIN_BATCHES, -(-self.draws // plan.training.batch))
        self.best: Arrays | None = None
        self.best_epoch, self.least = 0, np.inf

    def line(self, epoch: int, threads: Executor, begin: float) -> Progress:
        """Go through an epoch, judge it, and keep its weights if they are the best."""
        started = time.perf_counter()
        train_loss, waited = self._epoch(epoch, threads)
        learnt = time.perf_counter() - started
        loss, recall, f1, arrays = self._judge()
        badness = loss if self.plan.training.stop_on == "loss" else -f1
        if badness < self.least:
            self.best, self.least, self.best_epoch = arrays, badness, epoch
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

    def _epoch(self, epoch: int, threads: Executor) -> tuple[float, float]:
        """Go once through all batches of an epoch; return the mean loss and the seconds spent waiting."""
        waited = self.windows.begin(epoch, self.plan.training.epochs)
        draws = max(self.draws, self.batches * min(self.plan.training.batch, len(self.numbers)))
        if self.plan.training.balance == "draw":
            order = balanced_order(self.numbers, draws, self.rng)
        else:
            order = np.resize(self.rng.permutation(len(self.numbers)), draws)
        losses = []
        # The windows of the next batch are drawn while the network learns from this one.
        begin = time.perf_counter()
        for clips, inputs, targets in read_ahead(self._batch(clips) for clips in np.array_split(order, self.batches)):
            waited += time.perf_counter() - begin
            losses.append(self._step(clips, inputs, targets, epoch, threads))
            begin = time.perf_counter()
        return float(np.mean(losses)), waited

    def _batch(self, clips: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Numbers of clips, what the network is given for them, and their targets."""
        targets = self.train.targets[clips]
        smoothing = self.plan.training.smoothing
        spread = 0.5 if self.train.overlapping else 1 / self.labels
        windows, targets = self.windows.draw(clips, (1 - smoothing) * targets + smoothing * spread, self.rng)
        if self.weights is not None and not self.train.overlapping:
            targets = targets * self.weights[self.numbers[clips], None]
        return clips, self.subject.inputs(windows, self.train.extras[clips]), targets.astype(np.float32)

    def _step(
        self, clips: np.ndarray, inputs: np.ndarray, targets: np.ndarray, epoch: int, threads: Executor
    ) -> float:
        settings, step = self.plan.training, self.optimiser.count
        loss, gradient = self.network.learn(inputs, targets, (self.plan.seed, step), threads, self.loss)
        if not np.isfinite(loss) or not np.isfinite(gradient).all():
            raise TrainingError(
                f"the loss is not a number at epoch {epoch}, batch {step % self.batches + 1} of {self.batches}, "
                f"{self._culprit(clips, inputs, targets)}; lower training.rate (now {settings.rate:g}), "
                "or look at that clip"
            )
        clip_norm(gradient, LONGEST_GRADIENT)
        self.optimiser.step(gradient, warm_cosine(step, settings.epochs * self.batches, self.rate))
        # The average starts short and grows, or the first values would linger in it.
        keep = min(settings.averaging, step / (step + 10))
        self.averaged += np.float32(1 - keep) * (self.vector - self.averaged)
        return loss

    def _culprit(self, clips: np.ndarray, inputs: np.ndarray, targets: np.ndarray) -> str:
        """Name the clip of a batch that has frames that are no numbers, or else the largest loss."""
        bad = ~np.isfinite(inputs.reshape(len(inputs), -1)).all(axis=1)
        if not bad.any():
            with np.errstate(all="ignore"):
                logits = self.network.forward(inputs)[0]
                losses = np.array([self.loss(logits[n : n + 1], targets[n : n + 1])[0] for n in range(len(clips))])
            bad = ~np.isfinite(losses) if not np.isfinite(losses).all() else losses == losses.max()
        return self.train.name(int(clips[np.flatnonzero(bad)[0]]))

    def _judge(self) -> tuple[float, float, float, Arrays]:
        """Loss, recall and F1 on the validation clips with the averaged weights, and a copy of those."""
        current = self.vector.copy()
        self.vector[:] = self.averaged
        parts = range(0, len(self.watched), JUDGED_AT_ONCE)
        logits = [self.network.forward(self.watched[at : at + JUDGED_AT_ONCE])[0] for at in parts]
        arrays = {name: array.copy() for name, array in self.network.arrays().items()}
        self.vector[:] = current
        return *judge_logits(np.concatenate(logits), self.validation), arrays

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
        self.rng.bit_generator.state = numbers["random"]
        self.windows.resume(len(checkpoint.curves))
