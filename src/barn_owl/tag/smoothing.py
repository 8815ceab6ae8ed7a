"""Streaming moving average of scores."""

import numpy as np


class Smoother:
    """Averages each score over `steps` steps around it, as far as there are any; rows come out half of that later."""

    def __init__(self, steps: int) -> None:
        self.half = steps // 2
        self._rows: np.ndarray | None = None
        self._before = 0  # rows at the front that have come out already and are only looked at

    def push(self, rows: np.ndarray) -> np.ndarray:
        """Take rows of scores, ``(steps, labels)``; return the rows whose average is complete."""
        if not self.half:
            return rows
        self._rows = rows if self._rows is None else np.concatenate([self._rows, rows])
        return self._take(max(len(self._rows) - self.half - self._before, 0))

    def finish(self, labels: int) -> np.ndarray:
        """Return the last rows."""
        if self._rows is None:
            return np.empty((0, labels), dtype=np.float32)
        return self._take(len(self._rows) - self._before)

    def _take(self, count: int) -> np.ndarray:
        rows = self._rows
        if rows is None:
            raise AssertionError
        at = np.arange(self._before, self._before + count)
        low, high = np.maximum(at - self.half, 0), np.minimum(at + self.half + 1, len(rows))
        # Averages of rows, not running sums, whose rounding would depend on their start.
        padded = np.pad(rows, ((self.half, self.half), (0, 0)))
        averaged = np.zeros((count, rows.shape[1]), dtype=np.float32)
        for first in range(self._before, self._before + 2 * self.half + 1):
            averaged += padded[first : first + count]
        averaged /= (high - low).astype(np.float32)[:, None]
        drop = max(self._before + count - self.half, 0)
        self._rows, self._before = rows[drop:], self._before + count - drop
        return averaged
