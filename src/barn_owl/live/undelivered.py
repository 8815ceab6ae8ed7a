"""A file of events that could not be delivered, in JSON Lines, for a later attempt."""

import json
import logging
import os
import threading
from collections import deque
from contextlib import ExitStack
from pathlib import Path

from barn_owl.errors import OutputError, TableError
from barn_owl.files import atomic_write, checked_target, exclusive_use, is_file
from barn_owl.live.events import LiveEvent

logger = logging.getLogger(__name__)

MAX_BYTES = 1 << 28
"""Size limit of the file: about a million events."""
REWRITE = 64
"""Removals after which the file is rewritten."""


class UndeliveredEvents:
    """Queue of events in a file; additions are flushed to disk, so a crash loses none.

    Removals are written every `REWRITE` events: a crash delivers up to that many events twice, and loses none.

    Parameters
    ----------
    path : str | Path
        The file; created with the first event, removed with the last.

    Raises
    ------
    OutputError
        If the file cannot be written, or another process uses it.
    TableError
        If the file exists and cannot be read.
    """

    def __init__(self, path: str | Path) -> None:
        self._path = checked_target(path, make_folders=True)
        self._lock = threading.Lock()
        self._use = ExitStack()
        self._use.enter_context(exclusive_use(self._path.with_name(f".{self._path.name}.lock"), str(path)))
        self._removed = 0
        try:
            self._events = deque(self._read())
            if self._removed:
                self._rewrite()
        except BaseException:
            self._use.close()
            raise

    def __len__(self) -> int:
        return len(self._events)

    def first(self) -> LiveEvent | None:
        """Return the event that waits longest; None without events."""
        with self._lock:
            return self._events[0] if self._events else None

    def remove_first(self) -> None:
        """Remove the event that `first` returned."""
        with self._lock:
            self._events.popleft()
            self._removed += 1
            if not self._events or self._removed >= REWRITE:
                self._rewrite()

    def add(self, event: LiveEvent) -> None:
        """Append an event; raises OutputError if the file cannot be written."""
        with self._lock:
            self._events.append(event)
            try:
                with self._path.open("ab") as file:
                    file.write(_line(event))
                    file.flush()
                    os.fsync(file.fileno())
            except OSError as error:
                raise OutputError(f"{self._path} cannot be written: {error.strerror or error}") from error

    def close(self) -> None:
        """Write pending removals, and release the file."""
        with self._lock, self._use:
            if self._removed:
                self._rewrite()

    def _rewrite(self) -> None:
        self._removed = 0
        if not self._events:
            self._path.unlink(missing_ok=True)
            return
        with atomic_write(self._path) as beside:
            beside.write_bytes(b"".join(map(_line, self._events)))

    def _read(self) -> list[LiveEvent]:
        if not is_file(self._path):
            return []
        try:
            if self._path.stat().st_size > MAX_BYTES:
                raise TableError(f"{self._path} is too large for a file of undelivered events")
            content = self._path.read_bytes()
        except OSError as error:
            raise TableError(f"{self._path} cannot be read: {error.strerror or error}") from error
        events, invalid = [], 0
        for line in filter(None, content.splitlines()):
            try:
                events.append(LiveEvent.from_record(json.loads(line)))
            except (ValueError, KeyError, TypeError, OverflowError, RecursionError):
                invalid += 1
        if invalid and not events:
            raise TableError(f"{self._path} is not a file of undelivered events; choose another name")
        if invalid:
            logger.warning("%s: skipped %d lines that are not events", self._path, invalid)
        # The next event must not continue a line that a crash cut off.
        self._removed = int(invalid > 0 or not content.endswith(b"\n"))
        return events


def _line(event: LiveEvent) -> bytes:
    return json.dumps(event.record(), ensure_ascii=False).encode("utf-8", "backslashreplace") + b"\n"
