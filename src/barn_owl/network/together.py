"""Threads that work on parts of one batch, and meet where a layer needs what all of them found."""

import threading
from collections.abc import Sequence

import numpy as np


class Together:
    """Parts of a batch that are worked on at the same time, each in a thread of its own.

    shares : of the batch, one for each part. at_once : parts that are really worked on at a time; the others wait.
    """

    def __init__(self, shares: Sequence[float], at_once: int) -> None:
        self._shares = [np.float32(share) for share in shares]
        # Two turns of values: nobody can be two meetings ahead of anybody else.
        self._given: tuple[dict[int, np.ndarray], ...] = {}, {}
        self._barrier = threading.Barrier(len(shares))
        self._turn = threading.Semaphore(at_once)

    def begin(self) -> None:
        """Wait until this part may be worked on."""
        self._turn.acquire()

    def end(self) -> None:
        """Let another part be worked on."""
        self._turn.release()

    def give_up(self) -> None:
        """Let the others fail as well, rather than wait for a part that failed."""
        self._barrier.abort()

    def mean(self, part: int, meeting: int, values: np.ndarray) -> np.ndarray:
        """Mean over all parts, each weighted with its share, in fixed order; `meeting` counts from 0."""
        given = self._given[meeting % 2]
        given[part] = values
        self.end()
        try:
            self._barrier.wait()
        finally:
            self.begin()
        total = np.zeros_like(values)
        for number, share in enumerate(self._shares):
            total += share * given[number]
        return total


class Member:
    """One part of a batch, as its layers see it; without `together` it is alone and agrees with itself."""

    def __init__(self, together: Together | None = None, part: int = 0, share: float = 1.0) -> None:
        self._together, self._part, self._meetings = together, part, 0
        self.share = np.float32(share)
        """Of the batch."""

    def mean(self, values: np.ndarray) -> np.ndarray:
        """Mean of `values` over all parts."""
        if self._together is None:
            return values
        self._meetings += 1
        return self._together.mean(self._part, self._meetings, values)
