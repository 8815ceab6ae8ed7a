"""Worker processes that ignore Ctrl-C and end with their parent."""

import os
import signal
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

LOOK_S = 0.5
"""Interval of checks for the parent process."""


def begin_process(parent: int) -> None:
    """Initialize a process of `parent`: only the parent stops it, and Ctrl-C is ignored."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with, args=(parent,), daemon=True).start()


def _end_with(parent: int) -> None:
    """End this process when its parent is gone, killed for example."""
    while os.getppid() == parent:
        time.sleep(LOOK_S)
    os._exit(1)


@contextmanager
def starting() -> Iterator[None]:
    """Start processes within the block: only this process handles Ctrl-C, and only after the block.

    A process that is interrupted while importing would print a long traceback.
    """
    if not hasattr(signal, "pthread_sigmask"):
        yield
        return
    before = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)
