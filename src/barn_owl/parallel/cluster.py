"""A cluster as an engine: the workers of a ``dask.distributed`` scheduler."""

import importlib
import itertools
import json
import logging
import platform
import queue
import re
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path
from typing import Any

from barn_owl.errors import EngineError
from barn_owl.files import is_file
from barn_owl.names import relative_to
from barn_owl.wording import how_to_install

CONNECT_S = 20
"""How long a scheduler and its first worker may take to answer."""
QUEUED_ITEMS = 4
"""Items that wait for each thread of a worker: enough that none is idle, and few enough that memory stays the
same.
"""
RETRIES = 3
"""How often an item is done again that failed with something that is no error of ours."""
LOOK_S = 1.0
"""Interval at which the list of workers is compared."""
WITHOUT_WORKERS_S = 120.0
"""Time without workers after which the work is given up."""
ADDRESS = re.compile(r"(tcp|tls|ws|wss|ucx|inproc)://\S+")
NOISY_LOGGERS = ("distributed", "tornado", "asyncio")
"""Loggers that print tracebacks of lost connections, which `EngineError` reports."""
SAME = ("barn-owl-audio", "numpy", "scipy", "soundfile", "soxr")
"""Packages that must be the same everywhere, since results depend on them to the last bit."""


class Cluster:
    """The workers of a scheduler."""

    def __init__(self, client: Any, where: str, warn: Callable[[str], None] | None) -> None:
        self._client, self._where = client, where
        self._warn = warn or (lambda _line: None)
        self._workers = self._now()
        self._looked = self._had_workers = time.monotonic()

    @classmethod
    @contextmanager
    def connected(
        cls, where: str, *, file: Path | None, warn: Callable[[str], None] | None = None
    ) -> Iterator["Cluster"]:
        """Connect to the scheduler at an address, or to the scheduler that wrote `file`, and check its workers."""
        try:
            distributed = importlib.import_module("distributed")
        except ImportError:
            raise EngineError(f"a cluster needs a package that is not there; {how_to_install('cluster')}") from None
        address = _address(where, file)
        with _quiet(NOISY_LOGGERS):
            client = _client(distributed, address, where)
            try:
                with client:
                    _wait_for_workers(client, where)
                    _check_workers(client, where)
                    yield cls(client, where, warn)
            finally:
                client.close(timeout=2)

    def at_a_time(self, workers: int = 1) -> int:  # noqa: ARG002 - of this machine; the cluster has its own
        """Items that the workers do at a time, at least 1."""
        with self._reached():
            return max(1, sum(self._client.nthreads().values()))

    @contextmanager
    def _reached(self) -> Iterator[None]:
        """Raise EngineError when the scheduler goes away within the block; errors of the work itself go through."""
        from distributed import CancelledError
        from distributed.comm.core import CommClosedError

        try:
            yield
        except (CancelledError, OSError) as error:
            if not isinstance(error, CancelledError | CommClosedError) and self._client.status == "running":
                raise
            raise EngineError(
                f"the scheduler at {self._where} went away; what was finished and kept is kept: start it again and "
                "give the same command"
            ) from error

    def each(
        self,
        work: Callable[[Any], Any],
        items: Iterable[Any],
        workers: int,  # noqa: ARG002 - of this machine; the cluster has its own
        *,
        processes: bool,  # noqa: ARG002 - every worker is one
        at_once: int,
        lost: Callable[[Any], Any] | None,
    ) -> Iterator[Any]:
        """Yield results in order. `work` travels once per worker; a few items for each worker are under way at a
        time.

        A worker that dies loses all its items. Items with which several workers died are repeated one by one, to find
        the fatal item.
        """
        waiting = iter(items)
        bundles = iter(lambda: list(itertools.islice(waiting, at_once)), [])
        under_way: deque[_Task] = deque()
        with self._reached():
            # A task instead of scattered data: when all its workers die, the scheduler recomputes it.
            travels = self._client.submit(_same, _Kept(work), pure=False)
            try:
                while True:
                    for bundle in itertools.islice(bundles, max(0, QUEUED_ITEMS * self.at_a_time() - len(under_way))):
                        under_way.append(_Task(self._begin(travels, bundle), bundle))
                    if not under_way:
                        return
                    open_ones = [task for task in under_way if task.results is None and not task.suspected]
                    first = under_way[0]
                    if first.results is not None:
                        yield from under_way.popleft().results or ()
                    elif first.suspected and not open_ones:
                        first.results = [self._alone(travels, item, lost) for item in first.bundle]
                    else:
                        self._fetch(open_ones)
            finally:
                if self._client.status == "running":
                    with suppress(OSError):  # it went away just now
                        self._client.cancel([travels, *(task.future for task in under_way)], force=True)

    def _begin(self, travels: Any, bundle: list[Any]) -> Any:
        return self._client.submit(_done, travels, bundle, str(Path.cwd()), pure=False, retries=RETRIES)

    def _fetch(self, tasks: Sequence["_Task"]) -> None:
        """Wait for any result, and fetch all results, since a worker that dies loses them."""
        from distributed import KilledWorker

        self._wait([task.future for task in tasks])
        for task in tasks:
            if task.future.done():
                try:
                    task.results = task.future.result()
                except KilledWorker:
                    task.suspected = True
                task.future.release()

    def _alone(self, travels: Any, item: Any, lost: Callable[[Any], Any] | None) -> Any:
        """Run an item alone, so that a dying worker identifies it."""
        from distributed import KilledWorker

        future = self._begin(travels, [item])
        while not future.done():
            self._wait([future])
        try:
            return future.result()[0]
        except KilledWorker as error:
            if lost is None:
                raise EngineError(f"worker after worker died while working on {item}") from error
            return lost(item)

    def _wait(self, futures: list[Any]) -> None:
        from distributed import wait

        with self._client.as_current(), suppress(TimeoutError):
            waiting: Callable[..., object] = wait
            waiting(futures, timeout=LOOK_S, return_when="FIRST_COMPLETED")
        self.look()

    def look(self) -> None:
        """Report which workers were lost and which came since the last call, at most once in `LOOK_S`.

        Raises EngineError after `WITHOUT_WORKERS_S` without any worker.
        """
        now_s = time.monotonic()
        if now_s - self._looked < LOOK_S or self._client.status != "running":
            return
        self._looked = now_s
        now = self._now()
        for name in sorted(self._workers - now):
            if now:
                self._warn(f"lost the worker {name}; its work is done again by others ({len(now)} left)")
            else:
                self._warn(f"lost the worker {name}, the last one; waiting {WITHOUT_WORKERS_S:.0f} s for another")
        for name in sorted(now - self._workers):
            self._warn(f"the worker {name} is here now ({len(now)} in all)")
        self._workers = now
        if now:
            self._had_workers = now_s
        elif now_s - self._had_workers > WITHOUT_WORKERS_S:
            raise EngineError(
                f"the scheduler at {self._where} has had no workers for {WITHOUT_WORKERS_S:.0f} s; what was finished "
                f"and kept is kept: start workers with dask worker {self._where}, and give the same command"
            )

    def _now(self) -> set[str]:
        return set(self._client.nthreads())


@dataclass
class _Task:
    """A batch of items of a worker, and its results."""

    future: Any
    bundle: list[Any]
    results: list[Any] | None = None
    suspected: bool = False
    """Whether worker after worker died that had it."""


class _Kept:
    """Work as bytes until a worker uses it, so that neither the scheduler nor a task that passes it on unpacks it."""

    def __init__(self, work: Callable[[Any], Any]) -> None:
        import cloudpickle

        self._bytes: bytes = cloudpickle.dumps(work)
        self._work: Callable[[Any], Any] | None = None

    def __getstate__(self) -> bytes:
        return self._bytes

    def __setstate__(self, packed: bytes) -> None:
        self._bytes, self._work = packed, None

    def __call__(self, item: Any) -> Any:
        if self._work is None:
            import cloudpickle

            self._work = cloudpickle.loads(self._bytes)
        return self._work(item)


def _same(kept: _Kept) -> _Kept:
    return kept


def _done(work: _Kept, bundle: Sequence[Any], folder: str) -> list[Any]:
    """On a worker: do the work on a few items."""
    with relative_to(folder):
        return [work(item) for item in bundle]


def _address(where: str, file: Path | None) -> str:
    """Return the address of a scheduler, possibly from the file that it wrote."""
    address = where
    if file is not None:
        if not is_file(file):
            raise EngineError(f"{where} is not local, an address such as tcp://host:8786, or a scheduler's file")
        try:
            address = json.loads(file.read_text(encoding="utf-8"))["address"]
        except (OSError, ValueError, KeyError, TypeError, RecursionError) as error:
            raise EngineError(f"{where} is not a file that a scheduler wrote") from error
    host, _, port = str(address).rpartition(":")
    if not ADDRESS.fullmatch(str(address)) or not host.partition("://")[2] or not port.isdecimal():
        raise EngineError(f"{where}: the address of a scheduler has the form tcp://host:8786, got {address!r}")
    return str(address)


def _client(distributed: Any, address: str, where: str) -> Any:
    """Connect to a scheduler, within `CONNECT_S`.

    In a thread: a server that accepts connections and never answers is not covered by the time-out of the client.
    """
    result: queue.SimpleQueue[Any] = queue.SimpleQueue()

    def connect() -> None:
        try:
            result.put(distributed.Client(address, timeout=CONNECT_S / 2, set_as_default=False))
        except (OSError, TimeoutError, ValueError) as error:
            result.put(error)

    threading.Thread(target=connect, daemon=True).start()
    try:
        client = result.get(timeout=CONNECT_S)
    except queue.Empty:
        client = TimeoutError(f"no answer within {CONNECT_S} s")
    if isinstance(client, Exception):
        reason = (str(client) or type(client).__name__).splitlines()[0]
        raise EngineError(f"no scheduler answers at {where}: {reason}; start one with: dask scheduler") from client
    return client


@contextmanager
def _quiet(loggers: Iterable[str]) -> Iterator[None]:
    """Show only critical messages of these loggers within the block."""
    levels = {name: logging.getLogger(name).level for name in loggers}
    for name in levels:
        logging.getLogger(name).setLevel(logging.CRITICAL)
    try:
        yield
    finally:
        for name, level in levels.items():
            logging.getLogger(name).setLevel(level)


def versions() -> dict[str, str]:
    """Return the versions of packages that results depend on, on this machine."""
    found = {"python": platform.python_version()}
    for name in SAME:
        try:
            found[name] = version(name)
        except PackageNotFoundError:
            found[name] = "missing"
    try:
        found["libsndfile"] = importlib.import_module("soundfile").__libsndfile_version__
    except (ImportError, OSError):
        found["libsndfile"] = "missing"
    return found


def _wait_for_workers(client: Any, where: str) -> None:
    try:
        client.wait_for_workers(1, timeout=CONNECT_S)
    except TimeoutError:
        raise EngineError(f"the scheduler at {where} has no workers; start some with: dask worker {where}") from None


def _check_workers(client: Any, where: str) -> None:
    """Raise EngineError, with the differences, when a worker has different versions than this machine."""
    try:
        theirs = client.run(versions)
    except Exception as error:  # any exception of unpacking there: the package is missing or too old
        raise EngineError(
            f"a worker of {where} cannot run this ({type(error).__name__}: {error}); install there what is "
            f"installed here: barn-owl-audio[cluster] {version('barn-owl-audio')}"
        ) from error
    own = versions()
    for worker, found in sorted(theirs.items()):
        other = [f"{name} {found.get(name)} there, {own[name]} here" for name in own if found.get(name) != own[name]]
        if other:
            raise EngineError(f"the worker {worker} has {'; '.join(other)}: results would differ; install the same")
