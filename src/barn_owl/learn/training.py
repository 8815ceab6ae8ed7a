"""Training of networks: epochs, best weights, checkpoints."""

import logging
import math
import time
from collections.abc import Callable, Sequence
from dataclasses import asdict
from typing import Any

import numpy as np

from barn_owl.errors import OutputError, TrainingError
from barn_owl.learn.checkpoint import Checkpoint
from barn_owl.learn.fitted import Examples, Fitted, Progress, Watcher
from barn_owl.learn.plan import Plan, TrainingSettings
from barn_owl.learn.trainer import EpochResult, State
from barn_owl.learn.trainer_pool import TrainerPool, TrainingProcesses, held_out
from barn_owl.network.layer import Arrays

logger = logging.getLogger(__name__)

LATE = 0.9
"""Share of the epochs from which an epoch may be the best: earlier, the learning rate is high, and the validation
loss of a few groups favors weights that classify events worse."""


def fit_network(
    plan: Plan,
    labels: list[str],
    train: Examples,
    validation: Examples | None,
    *,
    workers: int,
    processes: TrainingProcesses | None = None,
    watch: Watcher,
    start: Fitted | None = None,
    resume: Checkpoint | None = None,
    save: Callable[[Checkpoint], None] | None = None,
) -> Fitted:
    """Train the networks of a plan, keeping the weights of the best epoch on the validation clips, or of the last
    epoch without validation clips.

    start : a model to train further. resume : where to continue; save : called with a checkpoint after each epoch.
    After Ctrl-C, or when the loss is not finite, the best weights so far are kept, and ``trouble`` has the epoch of
    the failure. Raises TrainingError in the first epoch.
    """
    curves: list[Progress] = []
    best = _Best(plan, judges=validation is not None)
    interrupted, trouble = False, ""
    with TrainerPool(plan, labels, train, validation, start, workers, processes) as members:
        if resume is not None:
            curves = [Progress(**line) for line in resume.curves]
            best.restore(resume)
            members.restore(_states(resume), len(curves))
        begin = time.perf_counter() - (curves[-1].seconds if curves else 0.0)
        try:
            while (epoch := len(curves) + 1) <= (last := last_epoch(plan.training, curves)):
                learned = members.epoch(epoch, last)
                curves.append(_line(epoch, last, learned, begin, best=best.take(epoch, last, learned)))
                if save is not None:
                    _save(save, _checkpoint(best, [one.state for one in learned], curves))
                watch(curves[-1])
        except KeyboardInterrupt:
            if not best.arrays:
                raise
            interrupted = True
        except TrainingError as error:
            if not best.arrays:
                raise
            trouble = str(error)
        if not best.arrays:
            raise TrainingError("the validation loss was never a number; lower training.learning_rate")
        task = members.task
        return Fitted(
            classifier=task.classifier(plan, best.arrays), mean=task.mean, deviation=task.deviation,
            curves=curves, interrupted=interrupted, trouble=trouble, held_out=held_out(plan, validation),
        )  # fmt: skip


def last_epoch(training: TrainingSettings, curves: Sequence[Progress]) -> int:
    """Return the last epoch of a training, from its curves: that of the plan, or earlier when neither loss has a new
    minimum for ``patience`` epochs.

    The learning rate then falls to zero within the following tenth, since models from a high learning rate are worse.
    """
    least_train = least_validation = np.inf
    stalled = 0
    for line in curves:
        improves = line.train_loss < least_train or line.validation_loss < least_validation
        stalled = 0 if improves else stalled + 1
        least_train = min(least_train, line.train_loss)
        least_validation = np.fmin(least_validation, line.validation_loss)
        if stalled == training.patience > 0:
            return min(training.epochs, math.ceil(line.epoch / LATE))
    return training.epochs


def _line(epoch: int, last: int, learned: list[EpochResult], begin: float, *, best: bool) -> Progress:
    """A line of the curves: the mean over the networks."""

    def mean(what: str) -> float:
        values = np.array([getattr(one, what) for one in learned])
        return float(values[~np.isnan(values)].mean()) if not np.isnan(values).all() else np.nan

    return Progress(
        epoch=epoch,
        epochs=last,
        train_loss=mean("train_loss"),
        validation_loss=mean("loss"),
        validation_recall=mean("recall"),
        validation_f1=mean("f1"),
        best=best,
        seconds=time.perf_counter() - begin,
        waiting=round(mean("waiting"), 3),
    )


def _save(save: Callable[[Checkpoint], None], checkpoint: Checkpoint) -> None:
    """Save a checkpoint; on failure, as with a full disk, log a warning and continue: the training itself is not
    lost."""
    try:
        save(checkpoint)
    except OutputError as error:
        logger.warning("%s; training continues without this checkpoint", error)


class _Best:
    """Weights of each network in the best epoch so far."""

    def __init__(self, plan: Plan, *, judges: bool) -> None:
        self._training, self._judges = plan.training, judges
        self.arrays: list[Arrays] = []
        self.epoch, self._least, self._was_late = 0, np.inf, False

    def take(self, epoch: int, last: int, learned: list[EpochResult]) -> bool:
        """Keep the weights if they are the best, or the first candidates; always, without validation clips."""
        is_late = epoch > LATE * last
        by_loss = self._training.stop_on == "loss"
        # A network without held-out clips does not vote.
        own = [one.loss if by_loss else -one.f1 for one in learned if one.judged]
        badness = float(np.mean(own)) if own else -float(epoch)
        if not self._judges:
            badness = -float(epoch)
        if badness < self._least or (is_late and not self._was_late and np.isfinite(badness)):
            self.arrays = [one.arrays for one in learned]
            self._least, self.epoch, self._was_late = badness, epoch, is_late
        return self.epoch == epoch

    def numbers(self) -> dict[str, Any]:
        """Return the state of a checkpoint besides the weights."""
        return {"best_epoch": self.epoch, "least": float(self._least), "was_late": self._was_late}

    def restore(self, checkpoint: Checkpoint) -> None:
        """Restore the state of a checkpoint."""
        numbers = checkpoint.numbers
        self.epoch, self._least, self._was_late = (numbers[key] for key in ("best_epoch", "least", "was_late"))
        for number in range(len(numbers["members"])):
            own = _below(f"best.{number}", checkpoint.arrays)
            self.arrays += [own] if own else []


def _checkpoint(best: _Best, states: list[State], curves: list[Progress]) -> Checkpoint:
    """All that is needed to continue after this epoch as if nothing had happened."""
    arrays = {
        f"{number}.{name}": array for number, state in enumerate(states) for name, array in state.arrays.items()
    }
    kept = {f"best.{number}.{name}": array for number, own in enumerate(best.arrays) for name, array in own.items()}
    numbers = best.numbers() | {"members": [state.numbers for state in states]}
    return Checkpoint(arrays=arrays | kept, numbers=numbers, curves=[asdict(line) for line in curves])


def _states(checkpoint: Checkpoint) -> list[State]:
    return [State(_below(str(number), checkpoint.arrays), own)
            for number, own in enumerate(checkpoint.numbers["members"])]  # fmt: skip


def _below(prefix: str, arrays: Arrays) -> Arrays:
    """The arrays whose name begins with a prefix and a dot, without it."""
    return {name[len(prefix) + 1 :]: array for name, array in arrays.items() if name.startswith(f"{prefix}.")}
