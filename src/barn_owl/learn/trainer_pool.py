"""Training several networks in parallel processes.

Each step of a small network is many short calls, between which threads of one process would wait for each other. So
the first network is trained here, and the others in processes of their own; the result is the same however many
there are.
"""

import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from types import TracebackType
from typing import Self

import numpy as np
from loky import ProcessPoolExecutor, process_executor
from loky.process_executor import BrokenProcessPool
from threadpoolctl import threadpool_limits

from barn_owl.classifiers.cnn import networks_in
from barn_owl.errors import TrainingError
from barn_owl.learn.fitted import Examples, Fitted, background_numbers, held_out_parts
from barn_owl.learn.plan import LARGEST_SEED, Plan
from barn_owl.learn.tasks import TrainingTask
from barn_owl.learn.trainer import EpochResult, NetworkTrainer, Start, State
from barn_owl.parallel.processes import begin_process, starting

APART = 7919
"""Between the seeds of two networks, so that those of two trainings with neighboring seeds are not the same."""

_Request = tuple[Plan, list[str], Examples, Examples | None, Start | None, int]


class TrainerPool:
    """The networks of a plan in training, shared among `workers` places: here, and processes alongside."""

    def __init__(
        self,
        plan: Plan,
        labels: list[str],
        train: Examples,
        validation: Examples | None,
        start: Fitted | None,
        workers: int,
    ) -> None:
        self._count = networks_of(plan)
        self._places = min(workers, self._count)
        threads = workers if self._count == 1 else 1
        shares = cross_fitted(plan, labels, train, validation)
        requested: list[_Request] = [
            (_own_plan(plan, number), labels, *share, _own_start(start, number), threads)
            for number, share in enumerate(shares)
        ]
        self._beside = [_kept.taken() for _ in range(self._places - 1)]
        self._in_step = True
        self._here: list[NetworkTrainer] = []
        try:
            with starting():  # a pool starts its process when it is requested
                begun = [
                    pool.submit(_begin, requested[place :: self._places])
                    for place, pool in enumerate(self._beside, 1)
                ]
            self._here = [NetworkTrainer(*one) for one in requested[:: self._places]]
            for one in begun:
                one.result()
        except BaseException:
            self._close(keep=False)
            raise

    @property
    def task(self) -> TrainingTask:
        """What the first network learns."""
        return self._here[0].task

    def epoch(self, epoch: int, last: int) -> list[EpochResult]:
        """Train all networks for an epoch. Raises TrainingError when one of them fails, or its process is killed.

        last : the epoch that the learning rate falls to zero with.
        """
        self._in_step = False  # until all have come to the end of it
        others = [pool.submit(_learn, epoch, last) for pool in self._beside]
        shares = [[member.epoch(epoch, last) for member in self._here]]
        try:
            shares += [other.result() for other in others]
            self._in_step = True
        except BrokenProcessPool as error:
            raise TrainingError(
                "a process of the training was killed, maybe for lack of memory; use fewer workers, "
                "or resume the training after its last epoch"
            ) from error
        return [shares[number % self._places][number // self._places] for number in range(self._count)]

    def restore(self, states: list[State], epochs: int) -> None:
        """Take the states that were there after this many epochs."""
        others = [
            pool.submit(_restore, states[place :: self._places], epochs) for place, pool in enumerate(self._beside, 1)
        ]
        for member, state in zip(self._here, states[:: self._places], strict=True):
            member.restore(state, epochs)
        for other in others:
            other.result()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._close(keep=kind is None and self._in_step)

    def _close(self, *, keep: bool) -> None:
        for pool in self._beside:
            if keep and _kept.blocks:
                pool.submit(_begin, [])
                _kept.give_back(pool)
            else:
                pool.shutdown(kill_workers=True)
        for member in self._here:
            member.close()


@contextmanager
def kept_processes(plan: Plan, workers: int) -> Iterator[None]:
    """Keep the processes that networks of a plan are trained in from one training within the block to the next.

    They start at once, so that their imports are done when training starts.
    """
    _kept.open()
    try:
        for _ in range(min(workers, networks_of(plan)) - 1 - len(_kept.idle)):
            pool = _new()
            with starting():  # a pool starts its process when it is requested
                pool.submit(_begin, [])
            _kept.give_back(pool)
        yield
    finally:
        _kept.close()


@dataclass
class _Kept:
    """Processes with nothing to do, and how many blocks there are that keep them, in whichever threads."""

    idle: list[ProcessPoolExecutor] = field(default_factory=list)
    blocks: int = 0
    lock: threading.Lock = field(default_factory=threading.Lock)

    def open(self) -> None:
        with self.lock:
            self.blocks += 1

    def close(self) -> None:
        with self.lock:
            self.blocks -= 1
            done, self.idle = ([], self.idle) if self.blocks else (self.idle, [])
        for pool in done:
            pool.shutdown(kill_workers=True)

    def taken(self) -> ProcessPoolExecutor:
        with self.lock:
            return self.idle.pop() if self.idle else _new()

    def give_back(self, pool: ProcessPoolExecutor) -> None:
        with self.lock:
            self.idle.append(pool)


_kept = _Kept()


def _new() -> ProcessPoolExecutor:
    return ProcessPoolExecutor(1, initializer=_begin_member, initargs=(os.getpid(),))


def _begin_member(parent: int) -> None:
    """First call in a process that holds networks: it is not to be treated as one that leaks what it was given.

    A process of a pool that has grown by 300 MB since its first call is replaced by an empty one otherwise.
    """
    process_executor._USE_PSUTIL = False
    begin_process(parent)


def held_out(plan: Plan, validation: Examples | None) -> np.ndarray:
    """Which network of a plan does not train on each validation clip, ``(clips,)``; empty where none does.

    Each of several networks holds out its own part of the clips (`held_out_parts`), so that each clip is held out
    from one of them. A single network holds out all, and so do several where the plan wants no ``training.refit``.
    """
    count = networks_of(plan)
    if validation is None or count < 2 or not plan.training.refit:
        return np.zeros(0, dtype=int)
    return held_out_parts(validation, count)


def cross_fitted(
    plan: Plan, labels: list[str], train: Examples, validation: Examples | None
) -> list[tuple[Examples, Examples | None]]:
    """What each network of a plan is trained on, and what it is judged on; see `held_out`."""
    parts, shares = held_out(plan, validation), list[tuple[Examples, Examples | None]]()
    if validation is None or not len(parts):
        return [(train, validation)] * networks_of(plan)
    for number in range(networks_of(plan)):
        own, others = np.flatnonzero(parts == number), np.flatnonzero(parts != number)
        sounding = np.delete(validation.targets[own], background_numbers(plan, labels), axis=1)
        judged_on = validation.take(own) if sounding.any() else None  # background alone cannot judge
        shares.append((train.with_more(validation.take(others)), judged_on))
    return shares


def networks_of(plan: Plan) -> int:
    """How many networks a plan has."""
    return plan.kind.networks(plan.own)


def _own_plan(plan: Plan, number: int) -> Plan:
    """Return the plan of one network: it begins elsewhere and hears other mixtures."""
    seed = (plan.seed + APART * number) % LARGEST_SEED
    return plan.but(seed=seed).model_copy(update={plan.classifier: plan.kind.only(plan.own, number)})


def _own_start(start: Fitted | None, number: int) -> Start | None:
    if start is None:
        return None
    classifier = networks_in(start.classifier)
    arrays = (start.classifier if classifier is None else classifier.networks[number]).state()
    return Start({name: array.copy() for name, array in arrays.items()}, (start.mean, start.deviation))


_of_this_process: list[NetworkTrainer] = []
"""The networks that a process alongside trains."""


def _begin(requested: list[_Request]) -> None:
    threadpool_limits(limits=1, user_api="blas")
    for member in _of_this_process:
        member.close()
    _of_this_process[:] = [NetworkTrainer(*one) for one in requested]


def _learn(epoch: int, last: int) -> list[EpochResult]:
    return [member.epoch(epoch, last) for member in _of_this_process]


def _restore(states: list[State], epochs: int) -> None:
    for member, state in zip(_of_this_process, states, strict=True):
        member.restore(state, epochs)
