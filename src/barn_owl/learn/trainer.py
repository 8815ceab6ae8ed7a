"""Training of a network: batches, optimizer, and weight averaging."""

import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from barn_owl.errors import TrainingError
from barn_owl.learn.fitted import Examples
from barn_owl.learn.plan import Plan
from barn_owl.learn.tasks import Batch, FrameTask, Standard, TrainingTask, WindowTask
from barn_owl.network import AdamW, warm_cosine
from barn_owl.network.layer import Arrays
from barn_owl.network.optimizer import clip_norm

LONGEST_GRADIENT = 5.0
"""Limit of the gradient norm, several times its usual value: only outliers are clipped."""


class State(NamedTuple):
    """Arrays (weights, averages, moments) and numbers (steps, random state) of a training between two epochs."""

    arrays: Arrays
    numbers: dict[str, Any]


class Start(NamedTuple):
    """Initial weights and states of a network, and the standardization of its features."""

    arrays: Arrays
    standard: Standard


@dataclass(frozen=True, kw_only=True)
class EpochResult:
    """Result of an epoch: training loss; loss, recall and F1 on the validation split, with averaged weights.

    waiting : share of the epoch that was spent waiting for sound to be changed. arrays : the averaged weights and
    the states of the network. state : all that is needed to continue.
    """

    train_loss: float
    waiting: float
    loss: float
    recall: float
    f1: float
    arrays: Arrays
    state: State
    judged: bool = True
    """Whether there were validation clips to judge it on."""


class NetworkTrainer:
    """A network in training. The same arguments yield the same weights for any number of threads."""

    def __init__(
        self,
        plan: Plan,
        labels: list[str],
        train: Examples,
        validation: Examples | None,
        start: Start | None,
        threads: int,
    ) -> None:
        self._plan = plan
        self._rng = np.random.default_rng(plan.seed)
        self.task: TrainingTask
        if plan.kind.sees_frames:
            standard = None if start is None else start.standard
            self.task = FrameTask(plan, labels, train, validation, self._rng, standard)
        else:
            self.task = WindowTask(plan, labels, train, validation, self._rng)
        self._network = self.task.network
        self._rate = plan.training.learning_rate
        if start is not None:
            self._network.load_state(start.arrays)
            self._network.frozen = plan.start.frozen
            self._rate *= plan.start.rate_share
        self._vector = self._network.vector
        self._averaged = self._vector.copy()
        self._optimizer = AdamW(self._vector, decay=plan.training.weight_decay, decayed=self._network.kernels)
        self._threads = ThreadPoolExecutor(threads)
        self._judges = validation is not None

    def epoch(self, epoch: int, last: int) -> EpochResult:
        """Train on all batches of an epoch, and evaluate the network.

        last : the epoch that the learning rate falls to zero with.
        """
        begin = time.perf_counter()
        waited = self.task.begin(epoch, last)
        makers = self.task.batches(self._rng)
        losses = [self._step(make(), epoch, last, len(makers)) for make in makers]
        took = time.perf_counter() - begin
        (loss, recall, f1), arrays = self._judged()
        return EpochResult(
            train_loss=float(np.mean(losses)), waiting=waited / max(took, 1e-9),
            loss=loss, recall=recall, f1=f1, arrays=arrays, state=self._state(), judged=self._judges,
        )  # fmt: skip

    def _step(self, batch: Batch, epoch: int, last: int, batches: int) -> float:
        settings, step = self._plan.training, self._optimizer.count
        batch = self.task.with_unlabeled(batch, self._averaged_outputs, step / (last * batches), self._rng)
        loss, gradient = self._network.learn(
            batch.inputs, batch.targets, (self._plan.seed, step), self._threads, self.task.loss
        )
        if not np.isfinite(loss) or not np.isfinite(gradient).all():
            raise TrainingError(
                f"the loss is not a number at epoch {epoch}, batch {step % batches + 1} of {batches}, "
                f"{self._culprit(batch)}; lower training.learning_rate ({settings.learning_rate:g}), or check it"
            )
        clip_norm(gradient, LONGEST_GRADIENT)
        self._optimizer.step(gradient, warm_cosine(step, last * batches, self._rate))
        # The average starts short and grows, or the first values would linger in it.
        keep = min(settings.weight_averaging, step / (step + 10))
        self._averaged += np.float32(1 - keep) * (self._vector - self._averaged)
        return loss

    def _culprit(self, batch: Batch) -> str:
        """Name the clip of a batch that has frames that are no numbers, or else the largest loss."""
        bad = ~np.isfinite(batch.inputs.reshape(len(batch.inputs), -1)).all(axis=1)
        if not bad.any():
            with np.errstate(all="ignore"):
                logits = self._network.forward(batch.inputs)[0]
                losses = np.array(
                    [self.task.loss(logits[n : n + 1], batch.targets[n : n + 1])[0] for n in range(len(logits))]
                )
            bad = ~np.isfinite(losses) if not np.isfinite(losses).all() else losses == losses.max()
        return batch.names[int(np.flatnonzero(bad)[0])]

    def _judged(self) -> tuple[tuple[float, float, float], Arrays]:
        """Return loss, recall and F1 on the validation split with averaged weights, and a copy of these weights."""
        with self._with_averaged_weights():
            return self.task.judge(), {name: array.copy() for name, array in self._network.state().items()}

    def _averaged_outputs(self, inputs: np.ndarray) -> np.ndarray:
        """Outputs of the network with the averaged weights."""
        with self._with_averaged_weights():
            return self._network.forward(inputs)[0]

    @contextmanager
    def _with_averaged_weights(self) -> Iterator[None]:
        current = self._vector.copy()
        self._vector[:] = self._averaged
        try:
            yield
        finally:
            self._vector[:] = current

    def _state(self) -> State:
        arrays = {
            "vector": self._vector.copy(),
            "averaged": self._averaged.copy(),
            "first": self._optimizer.first.copy(),
            "second": self._optimizer.second.copy(),
            **{f"state.{name}": array.copy() for name, array in self._network.states().items()},
        }
        return State(arrays, {"steps": self._optimizer.count, "random": self._rng.bit_generator.state})

    def restore(self, state: State, epochs: int) -> None:
        """Take the state that was there after this many epochs."""
        arrays = state.arrays
        self._vector[:], self._averaged[:] = arrays["vector"], arrays["averaged"]
        self._optimizer.first[:], self._optimizer.second[:] = arrays["first"], arrays["second"]
        self._optimizer.count = state.numbers["steps"]
        for name, array in self._network.states().items():
            array[...] = arrays[f"state.{name}"]
        self._rng.bit_generator.state = state.numbers["random"]
        self.task.resume(epochs)

    def close(self) -> None:
        """Stop background threads."""
        self._threads.shutdown()
        self.task.close()
