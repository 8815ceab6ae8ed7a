"""Live audio of unlimited length: bounded buffers, counted losses, reconnection."""

import threading
import time
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from barn_owl.errors import AudioError

WAITING_S = 10.0
"""Sound that waits at most for who listens; a hiccup of the machine is shorter."""
TICK_S = 0.25
"""Interval at which a waiting consumer is woken."""
RETRY_S = 1.0
"""Pause before a device that went away is tried again."""


@dataclass(frozen=True)
class Break:
    """A gap in a live source: missing seconds and why.

    The samples after it are another piece of sound.

    Attributes
    ----------
    lost_s : float
        Length of the gap in seconds.
    why : str
        Reason.
    """

    lost_s: float
    why: str


class Source(Protocol):
    """Interface of live sources: a microphone, a pipe, a simulated microphone."""

    rate_hz: int
    comes_back: bool
    """Whether it is tried again when it fails."""

    def deliver(self, inlet: "Inlet") -> None:
        """Put mono float32 blocks into `inlet` until it is closed or the sound ends; raises AudioError on failure.

        Parameters
        ----------
        inlet : Inlet
            Receives the blocks of samples.
        """


class Inlet:
    """Queue between a source and its consumer, each in a thread.

    Sources that cannot wait, such as sound cards, use ``put``: blocks without room are dropped and counted. Sources
    that can wait use ``put_blocking``.
    """

    def __init__(self, rate_hz: int, *, waiting_s: float = WAITING_S) -> None:
        self._rate_hz, self._most = rate_hz, round(waiting_s * rate_hz)
        self._blocks: deque[np.ndarray | Break] = deque()
        self._waiting = self._lost = 0
        self._changed = threading.Condition()
        self.closed = False
        """Return whether the consumer has stopped."""

    def put(self, block: np.ndarray) -> None:
        """Add a block, or lose it if too much waits already."""
        with self._changed:
            if self._waiting + len(block) > self._most and self._waiting:
                self._lost += len(block)
                return
            if self._lost:
                self._blocks.append(Break(self._lost / self._rate_hz, "sound came faster than it could be worked on"))
                self._lost = 0
            self._add(block)

    def put_blocking(self, block: np.ndarray) -> None:
        """Add a block as soon as there is room for it."""
        with self._changed:
            self._changed.wait_for(
                lambda: self.closed or not self._waiting or self._waiting + len(block) <= self._most
            )
            self._add(block)

    def _add(self, block: np.ndarray) -> None:
        self._blocks.append(block)
        self._waiting += len(block)
        self._changed.notify_all()

    def lose(self, lost_s: float, why: str) -> None:
        """Report samples that were lost before this point."""
        with self._changed:
            self._blocks.append(Break(lost_s, why))
            self._changed.notify_all()

    def take(self, wait_s: float) -> np.ndarray | Break | None:
        """Take the next block; None if none arrived within this many seconds."""
        with self._changed:
            self._changed.wait_for(lambda: bool(self._blocks), timeout=wait_s)
            if not self._blocks:
                return None
            block = self._blocks.popleft()
            if isinstance(block, np.ndarray):
                self._waiting -= len(block)
            self._changed.notify_all()
            return block

    def close(self) -> None:
        """Take nothing any more; a source that waits continues and sees it."""
        with self._changed:
            self.closed = True
            self._changed.notify_all()


def incoming(source: Source, *, stop: threading.Event | None = None) -> Iterator[np.ndarray | Break | None]:
    """Yield blocks from a source until it ends or `stop` is set; None when no block arrived for a moment.

    A failed source is reopened again and again, and a `Break` reports the length of the gap.

    Parameters
    ----------
    source : Source
        Live source.
    stop : Event | None
        Set from another thread to end the source.

    Raises
    ------
    AudioError
        If it fails at the very beginning, or cannot come back.
    """
    stop, received = stop or threading.Event(), False
    while not stop.is_set():
        inlet, failed = Inlet(source.rate_hz), list[Exception]()
        thread = threading.Thread(target=_deliver, args=(source, inlet, failed), daemon=True)
        thread.start()
        try:
            while not stop.is_set():
                over = not thread.is_alive()
                block = inlet.take(0 if over else TICK_S)
                received = received or block is not None
                if block is None and over:
                    break
                yield block
        finally:
            inlet.close()
            # A thread that hangs in a driver is left behind and ends with the process.
            thread.join(timeout=RETRY_S)
        if stop.is_set() or not failed:
            return
        if not (received and source.comes_back and isinstance(failed[0], AudioError)):
            raise failed[0]
        yield Break(0.0, str(failed[0]))
        begin = time.monotonic()
        stop.wait(RETRY_S)
        yield Break(time.monotonic() - begin, "")


def _deliver(source: Source, inlet: Inlet, failed: list[Exception]) -> None:
    try:
        source.deliver(inlet)
    except Exception as error:
        failed.append(error)
