"""Prefetching blocks in another thread, so that decoding and computing overlap."""

from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextvars import copy_context
from functools import partial
from typing import TypeVar

Block = TypeVar("Block")
DEPTH = 4
"""Largest number of waiting blocks: enough to bridge short delays of either thread, in little memory."""


def prefetch(blocks: Iterable[Block]) -> Iterator[Block]:
    """Yield the blocks of an iterator that runs ahead in a thread.

    An error while making a block is raised where that block would have come.

    Parameters
    ----------
    blocks : Iterable[~Block]
        Blocks to compute in a thread.
    """
    source = iter(blocks)
    waiting: deque[Future[Block | None]] = deque()
    make = partial(copy_context().run, next, source, None)
    with ThreadPoolExecutor(1) as thread:
        for _ in range(DEPTH):
            waiting.append(thread.submit(make))
        while (block := waiting.popleft().result()) is not None:
            waiting.append(thread.submit(make))
            yield block
