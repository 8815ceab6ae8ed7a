"""Worker processes that ignore Ctrl-C and end with their parent."""

import os
import signal
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

LOOK_S = 0.5
"""How often a process looks whether the one that started it is there."""


def begin_process(parent: int) -> None:
    """First call in a process that `parent` started: who started it stops it, whatever the terminal says to both."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with, args=(parent,), daemon=True).start()


def _end_with(parent: int) -> None:
    """End this process when the one that started it is gone, killed for example: no one waits for it any more."""
    while os.getppid() == parent:
        time.sleep(LOOK_S)
    os._exit(1)


@contextmanager
def starting() -> Iterator[None]:
    """Start processes within the block: only this process handles Ctrl-C, and only after the block.

    A process that is interrupted while it loads its packages would say so at length.
    """
    if not hasattr(signal, "pthread_sigmask"):
        yield
        return
    before = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)
