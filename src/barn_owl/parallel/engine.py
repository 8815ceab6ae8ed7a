"""Engines: local processes and threads, or the workers of a cluster."""

import itertools
import os
import warnings
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, nullcontext
from contextvars import ContextVar
from pathlib import Path
from typing import Any, Protocol

from barn_owl.parallel.processes import begin_process, starting

LOCAL = "local"


class Engine(Protocol):
    """Applies a function to many items and returns results in order, on this machine or a cluster."""

    def each(
        self,
        work: Callable[[Any], Any],
        items: Iterable[Any],
        workers: int,
        *,
        processes: bool,
        at_once: int,
        lost: Callable[[Any], Any] | None,
    ) -> Iterator[Any]:
        """See the function `each`."""

    def at_a_time(self, workers: int) -> int:
        """See the function `at_a_time`."""


class _Local:
    """Threads or processes of this machine, by joblib."""

    def each(
        self,
        work: Callable[[Any], Any],
        items: Iterable[Any],
        workers: int,
        *,
        processes: bool,
        at_once: int,
        lost: Callable[[Any], Any] | None,  # noqa: ARG002 - a process that dies here is a fault of this machine
    ) -> Iterator[Any]:
        waiting = iter(items)
        first = list(itertools.islice(waiting, 2))
        items = itertools.chain(first, waiting)
        if workers == 1 or len(first) < 2:
            yield from map(work, items)
            return
        import joblib

        own = {"backend": "loky", "initializer": begin_process, "initargs": (os.getpid(),)}
        how = own if processes else {"prefer": "threads"}
        jobs = joblib.Parallel(n_jobs=workers, return_as="generator", batch_size=at_once, **how)
        with starting() if processes else nullcontext():
            results = jobs(joblib.delayed(work)(item) for item in items)
        try:
            for result in results:  # noqa: UP028 - closed below, not here
                yield result
        finally:
            with warnings.catch_warnings():  # that work was lost is no news to who stopped it
                warnings.filterwarnings("ignore", message=".* tasks", category=UserWarning)
                results.close()

    def at_a_time(self, workers: int) -> int:
        return workers


_LOCAL = _Local()
_engine: ContextVar[Engine] = ContextVar("engine", default=_LOCAL)


def each(
    work: Callable[[Any], Any],
    items: Iterable[Any],
    workers: int,
    *,
    processes: bool = False,
    at_once: int = 1,
    here: bool = False,
    lost: Callable[[Any], Any] | None = None,
) -> Iterator[Any]:
    """Yield ``work(item)`` for each item, in order, by the engine that was chosen with `engine`.

    workers : how many things this machine does at a time. processes : in processes rather than threads, for long work
    with many small steps; decoding, transforms and matrix products release the interpreter's lock, so threads suffice
    elsewhere. at_once : items per task; more for short work. lost : returns the result of an item that killed several
    processes; without it, raises EngineError. here : on this machine with any engine, for work on data of this
    process.

    `work` may be a closure in threads; in processes and on a cluster it is sent, with its data, once per
    worker.
    """
    chosen = _LOCAL if here else _engine.get()
    yield from chosen.each(work, items, workers, processes=processes, at_once=at_once, lost=lost)


def at_a_time(workers: int) -> int:
    """Return the number of parallel tasks: `workers` on this machine, else the workers of the cluster."""
    return _engine.get().at_a_time(workers)


def on_cluster() -> bool:
    """Return whether work is sent to machines without shared memory or cores."""
    return _engine.get() is not _LOCAL


@contextmanager
def engine(where: str = LOCAL, *, warn: Callable[[str], None] | None = None) -> Iterator[Engine]:
    """Select the engine for many files within the block.

    Parameters
    ----------
    where : str
        ``local``, the address of a scheduler of ``dask.distributed``, such as ``tcp://host:8786``, or the path of the
        file that the scheduler wrote with ``--scheduler-file``.
    warn : Callable[[str], None] | None
        Called with a sentence when a worker is lost or comes back.

    Raises
    ------
    EngineError
        If the scheduler cannot be reached, has no workers, or its workers do not fit.

    Examples
    --------
    >>> with barn_owl.engine("local"):
    ...     archive = barn_owl.tag_archive(barn_owl.load_model("first"), ["night.wav"], workers=1)
    """
    if where == LOCAL:
        chosen: Engine = _LOCAL
        token = _engine.set(chosen)
        try:
            yield chosen
        finally:
            _engine.reset(token)
        return
    from barn_owl.parallel.cluster import Cluster

    with Cluster.connected(where, file=Path(where) if "://" not in where else None, warn=warn) as cluster:
        token = _engine.set(cluster)
        try:
            yield cluster
        finally:
            _engine.reset(token)
