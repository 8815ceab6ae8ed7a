"""Matrix products whose rows do not depend on the number of rows."""

import numpy as np

CHUNK = 128
"""Frames computed at a time: few enough to stay in cache, enough to outweigh the cost of a call."""


def product(rows: np.ndarray, matrix: np.ndarray, out: np.ndarray | None = None) -> np.ndarray:
    """Multiply ``(rows, n)`` by ``(n, m)`` or ``(n,)``, `CHUNK` rows at a time.

    A matrix product may round a row differently when the number of rows changes; that of a chunk never does.
    rows : a whole number of chunks; of any other number of rows, all are multiplied at once.
    """
    if len(rows) % CHUNK:
        return np.matmul(rows, matrix, out=out)
    into = None if out is None else out.reshape(-1, CHUNK, out.shape[1])
    found = np.matmul(rows.reshape(-1, CHUNK, rows.shape[1]), matrix, out=into)
    return found.reshape(len(rows), *matrix.shape[1:]) if out is None else out
