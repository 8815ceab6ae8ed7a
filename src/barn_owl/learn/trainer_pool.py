"""Training several networks in parallel processes.

A step of a small network consists of many short calls, between which threads of a process would wait for each other.
So the first network is trained in this process, and further networks in worker processes; the number of processes
does not change the result.
"""

import os
import pickle
import signal
from collections.abc import Callable
from concurrent.futures import CancelledError, Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from types import TracebackType
from typing import Any, Self

import cloudpickle
import numpy as np
from loky.backend import get_context
from threadpoolctl import threadpool_limits

from barn_owl.classifiers.cnn import networks_in
from barn_owl.classifiers.kind import NetworkKind
from barn_owl.errors import TrainingError
from barn_owl.learn.fitted import Examples, Fitted, background_numbers, held_out_parts
from barn_owl.learn.plan import LARGEST_SEED, Plan
from barn_owl.learn.tasks import TrainingTask
from barn_owl.learn.trainer import EpochResult, NetworkTrainer, Start, State
from barn_owl.parallel.processes import begin_process, starting

SEED_DISTANCE = 7919
"""Distance between the seeds of networks, so that trainings with neighboring seeds share none."""

START_S = 60.0
"""Longest wait for a process that is to be stopped and has only just been started."""

_Request = tuple[Plan, list[str], Examples, Examples | None, Start | None, int]


class TrainerPool:
    """Networks of a plan in training, distributed over this process and `workers` - 1 worker processes."""

    def __init__(
        self,
        plan: Plan,
        labels: list[str],
        train: Examples,
        validation: Examples | None,
        start: Fitted | None,
        workers: int,
        processes: "TrainingProcesses | None" = None,
    ) -> None:
        self._count = networks_of(plan)
        self._places = min(workers, self._count)
        threads = workers if self._count == 1 else 1
        shares = cross_fitted(plan, labels, train, validation)
        requested: list[_Request] = [
            (_network_plan(plan, number), labels, *share, _network_start(start, number), threads)
            for number, share in enumerate(shares)
        ]
        self._processes = processes
        source = processes or TrainingProcesses()
        self._beside = [source.take() for _ in range(self._places - 1)]
        self._in_step = True
        self._here: list[NetworkTrainer] = []
        try:
            begun = [
                process.submit(_begin, requested[place :: self._places])
                for place, process in enumerate(self._beside, 1)
            ]
            self._here = [NetworkTrainer(*one) for one in requested[:: self._places]]
            for one in begun:
                one.result()
        except BaseException:
            self._close(keep=False)
            raise

    @property
    def task(self) -> TrainingTask:
        """Task of the first network."""
        return self._here[0].task

    def epoch(self, epoch: int, last: int) -> list[EpochResult]:
        """Train all networks for an epoch. Raises TrainingError when a network fails, or its process is killed.

        last : the epoch that the learning rate falls to zero with.
        """
        self._in_step = False  # until all have come to the end of it
        others = [process.submit(_learn, epoch, last) for process in self._beside]
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
            process.submit(_restore, states[place :: self._places], epochs)
            for place, process in enumerate(self._beside, 1)
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
        for process in self._beside:
            if keep and self._processes is not None:
                self._processes.give_back(process)
            else:
                process.kill()
        for member in self._here:
            member.close()


class TrainingProcesses:
    """Worker processes that train networks; idle ones are used again by the next training.

    They start at once, so that their imports are done when training starts.
    """

    def __init__(self, plan: Plan | None = None, workers: int = 1) -> None:
        self._idle: list[_Process] = []
        for _ in range(0 if plan is None else min(workers, networks_of(plan)) - 1):
            process = _Process()
            process.submit(_begin, [])
            self._idle.append(process)

    def take(self) -> "_Process":
        """Return an idle process, or start a new process."""
        return self._idle.pop() if self._idle else _Process()

    def give_back(self, process: "_Process") -> None:
        """Let the networks of a process go, and keep the process for another training."""
        process.submit(_begin, [])
        self._idle.append(process)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        for process in self._idle:
            process.kill()
        self._idle = []


class _Process:
    """A worker process, which needs no guard in the main script.

    The pool is that of the standard library, since that of loky replaces processes whose memory grows; arguments are
    pickled by value, since custom features may be functions of the main script.
    """

    def __init__(self) -> None:
        self._pool = ProcessPoolExecutor(
            1, mp_context=get_context("loky"), initializer=begin_process, initargs=(os.getpid(),)
        )
        with starting():  # a pool starts its process when it is requested
            self._pid = self._pool.submit(os.getpid)

    def submit(self, work: Callable[..., Any], *arguments: Any) -> "Future[Any]":
        """Call a function in the process."""
        return self._pool.submit(_run, cloudpickle.dumps((work, arguments)))

    def kill(self) -> None:
        """Kill the process."""
        self._pool.shutdown(wait=False, cancel_futures=True)
        with suppress(BrokenProcessPool, CancelledError, OSError, TimeoutError):  # it has ended, or never began
            os.kill(self._pid.result(timeout=START_S), signal.SIGTERM)
        self._pool.shutdown()


def held_out(plan: Plan, validation: Examples | None) -> np.ndarray:
    """Which network of a plan does not train on each validation clip, ``(clips,)``; empty where none does.

    Each of several networks holds out its part of the clips (`held_out_parts`), so each clip is held out from a
    network. A single network holds out all clips, and so do several without ``training.refit``.
    """
    count = networks_of(plan)
    if validation is None or count < 2 or not plan.training.refit:
        return np.zeros(0, dtype=int)
    return held_out_parts(validation, count)


def cross_fitted(
    plan: Plan, labels: list[str], train: Examples, validation: Examples | None
) -> list[tuple[Examples, Examples | None]]:
    """Return training and validation clips of each network of a plan; see `held_out`."""
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
    """Count the networks of a plan; 1 for a classifier that is no network."""
    return plan.kind.count(plan.own) if isinstance(plan.kind, NetworkKind) else 1


def _network_plan(plan: Plan, number: int) -> Plan:
    """Return the plan of a network, with a different seed for initial weights and mixtures."""
    seed = (plan.seed + SEED_DISTANCE * number) % LARGEST_SEED
    return plan.but(seed=seed).model_copy(update={plan.classifier: plan.network_kind.only(plan.own, number)})


def _network_start(start: Fitted | None, number: int) -> Start | None:
    if start is None:
        return None
    classifier = networks_in(start.classifier)
    arrays = (start.classifier if classifier is None else classifier.networks[number]).state()
    return Start({name: array.copy() for name, array in arrays.items()}, (start.mean, start.deviation))


_of_this_process: list[NetworkTrainer] = []
"""Trainers of a worker process, between calls."""


def _run(call: bytes) -> Any:
    work, arguments = pickle.loads(call)  # noqa: S301 - from the parent process
    return work(*arguments)


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
