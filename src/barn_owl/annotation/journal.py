"""Journals: append-only files of JSON lines that a crash cuts off at worst in the last line."""

import json
import os
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from barn_owl.errors import OutputError
from barn_owl.names import shortened

MAX_TEXT = 5000
"""Characters of the key of an item, a reviewer's name or a time: a path has at most 4096."""


def append_lines(path: str | Path, records: Iterable[dict[str, Any]]) -> None:
    """Append records to a journal (created if needed); they are flushed to disk before this returns.

    Raises OutputError if it cannot be written.
    """
    lines = "".join(json.dumps(record, ensure_ascii=False, allow_nan=False) + "\n" for record in records)
    try:
        # A line that was cut off by a crash must not spoil the one behind it.
        with Path(path).open("ab+") as file:
            if file.tell():
                file.seek(-1, os.SEEK_END)
                lines = lines if file.read(1) == b"\n" else "\n" + lines
            file.write(lines.encode("utf-8", "surrogatepass"))
            file.flush()
            os.fsync(file.fileno())
    except OSError as error:
        raise OutputError(f"{path} cannot be written: {error.strerror or error}") from error


def shown(given: Any) -> str:
    """Return the beginning of an invalid record for a message."""
    try:
        return shortened(str(given), 200)
    except (ValueError, RecursionError):  # a number of more digits than Python writes
        return type(given).__name__
