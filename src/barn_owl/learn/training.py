"""Training of the families that are networks: batches, averaging, the best weights, checkpoints."""

import logging
import time
from collections.abc import Callable
from concurrent.futures import Executor, ThreadPoolExecutor
from dataclasses import asdict
from typing import Any

import numpy as np

from barn_owl.audio import read_ahead
from barn_owl.errors import OutputError, TrainingError
from barn_owl.learn.checkpoint import Checkpoint
from barn_owl.learn.fitted import Examples, Fitted, Progress, Watcher
from barn_owl.learn.plan import Plan
from barn_owl.learn.subjects import Batch, OverRows, OverScenes, Subject
from barn_owl.network import AdamW, warm_cosine
from barn_owl.network.layer import Arrays
from barn_owl.network.optimiser import clip_norm

logger = logging.getLogger(__name__)

LONGEST_GRADIENT = 5.0
LATE = 0.5
"""Share of the epochs after which one may be the best, if there are such: until then the rate is still high."""


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
    trainer = _Trainer(plan, labels, train, validation, start, workers)
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
        workers: int,
    ) -> None:
        self.plan, self._judges, self.workers = plan, validation is not None, workers
        self.rng = np.random.default_rng(plan.seed)
        standard = None if start is None else (start.mean, start.deviation)
        self.subject: Subject
        if plan.family == "cnn":
            self.subject = OverScenes(plan, labels, train, validation, self.rng, standard)
        else:
            self.subject = OverRows(plan, labels, train, validation, self.rng)
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
        begin = time.perf_counter()
        batches = (make() for make in makers)
        # The next batch is made while the network learns from this one.
        for batch in read_ahead(batches) if self.workers > 1 else batches:
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
