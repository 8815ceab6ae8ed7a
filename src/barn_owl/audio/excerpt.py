"""An excerpt of a sound file, identified by its content."""

import hashlib
import os
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from barn_owl.audio.remote import is_remote, remote_stamp
from barn_owl.names import as_text, from_text


@dataclass(frozen=True)
class Excerpt:
    """An excerpt of a file; times are None for the whole file.

    Attributes
    ----------
    file : str
        Sound file.
    start_s : float | None
        Start and end in seconds. None: start and end of the file.
    end_s : float | None
        Start and end in seconds. None: start and end of the file.
    """

    file: str
    start_s: float | None = None
    end_s: float | None = None

    def stamp(self) -> tuple[str, int, int]:
        """Where the file is, its size and when it was changed: if all are the same, so is the content."""
        if is_remote(self.file):
            return remote_stamp(self.file)
        name = from_text(self.file)
        status = os.stat(name)  # noqa: PTH116 - thousands of these are requested before training starts
        return as_text(os.path.abspath(name)), status.st_size, status.st_mtime_ns  # noqa: PTH100 - as above

    def content(self) -> str:
        """Return the SHA-256 of the file, which identifies it after moving; of a remote file, of the facts from its
        store."""
        if is_remote(self.file):
            return hashlib.sha256(repr(remote_stamp(self.file)).encode()).hexdigest()
        with open(from_text(self.file), "rb", buffering=0) as file:  # noqa: PTH123 - as above
            return hashlib.file_digest(file, "sha256").hexdigest()


def excerpts(files: Iterable[str], starts: Iterable[float], ends: Iterable[float]) -> list[Excerpt]:
    """Excerpts from the columns of a clip table, where NaN is a blank.

    Parameters
    ----------
    files : Iterable[str]
        Sound files.
    starts : Iterable[float]
        Start and end of each in seconds; NaN: of the file.
    ends : Iterable[float]
        Start and end of each in seconds; NaN: of the file.
    """
    return [
        Excerpt(file, None if np.isnan(start) else float(start), None if np.isnan(end) else float(end))
        for file, start, end in zip(files, starts, ends, strict=True)
    ]
