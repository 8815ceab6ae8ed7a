"""Decoded samples of many clips in a temporary file."""

import tempfile
from threading import Lock

import numpy as np


class SampleFile:
    """Float32 samples by the number of their clip; any thread may keep and read. Gone when it is closed."""

    def __init__(self) -> None:
        self._file = tempfile.TemporaryFile()  # noqa: SIM115 - lives as long as this
        self._places: dict[int, tuple[int, int]] = {}
        self._lock = Lock()

    def __contains__(self, clip: int) -> bool:
        return clip in self._places

    def keep(self, clip: int, samples: np.ndarray) -> None:
        """Write the samples of a clip, shape ``(samples,)``."""
        with self._lock:
            self._places[clip] = (self._file.seek(0, 2), len(samples))
            self._file.write(np.ascontiguousarray(samples, dtype=np.float32).tobytes())

    def read(self, clip: int) -> np.ndarray:
        """Return the samples of a clip; raises KeyError when none were kept."""
        with self._lock:
            at, count = self._places[clip]
            self._file.seek(at)
            return np.frombuffer(self._file.read(4 * count), dtype=np.float32)

    def close(self) -> None:
        """Free the disk space."""
        self._file.close()
