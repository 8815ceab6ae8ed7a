"""Entries and queries of a store."""

import json
from collections.abc import Iterable
from dataclasses import dataclass, field, fields
from datetime import datetime
from pathlib import Path
from typing import Any

from barn_owl.archive.hours import HOURS, STAMP

COLUMNS = ("file", "start_s", "end_s", "label", "score", "clock", "key")
UNKNOWN = "unknown"


@dataclass(frozen=True, kw_only=True)
class StoreEntry:
    """Entry of a recording in the manifest of a store.

    Attributes
    ----------
    key : str
        Of its content, the model and the settings.
    model : str
        Name of the model and its settings in the store.
    file : str
        Recording.
    stamp : list[Any]
        Path, size and time of change of the file, which identify it without reading it.
    content : str
        SHA-256 of the recording.
    day, recorder : str
        Partition of the store.
    begins : str
        Start time, ISO 8601; blank if unknown.
    duration_s : float
        Length of the recording in seconds.
    events : int
        Number of events.
    hours : dict[str, dict[str, int]]
        Events of each label by hour of the day.
    reason : str
        Why it failed, blank if it is done.
    """

    key: str
    model: str
    file: str
    stamp: list[Any]
    content: str
    day: str
    recorder: str
    begins: str
    duration_s: float
    events: int
    hours: dict[str, dict[str, int]] = field(default_factory=dict)
    reason: str = ""


@dataclass(frozen=True, kw_only=True)
class StoreQuery:
    """A query for recordings of a store; blank fields match everything."""

    model: str = ""
    day: str = ""
    recorder: str = ""
    files: tuple[str, ...] = ()

    def takes(self, one: StoreEntry) -> bool:
        """Return whether the query includes a recording."""
        pairs = (self.model, one.model), (self.day, one.day), (self.recorder, one.recorder)
        return all(wanted in ("", own) for wanted, own in pairs) and (not self.files or one.file in self.files)


def entry_of(record: dict[str, Any]) -> StoreEntry:
    """Create an entry from the fields of a line or row; raises TypeError or ValueError when they are invalid."""
    one = StoreEntry(**record)
    kinds: dict[str, Any] = {"stamp": list, "duration_s": (int, float), "events": int, "hours": dict}
    for own in fields(StoreEntry):
        if not isinstance(getattr(one, own.name), kinds.get(own.name, str)):
            raise TypeError(f"{own.name} is {getattr(one, own.name)!r}")
    for by_hour in one.hours.values():
        for hour, count in by_hour.items():
            if int(hour) not in range(HOURS) or not isinstance(count, int):
                raise ValueError(f"{count} events at hour {hour}")
    if one.begins:
        datetime.fromisoformat(one.begins)
    return one


def entries_of(lines: Iterable[str]) -> Iterable[StoreEntry]:
    """Yield the entries of a manifest; a line that a crash cut off is skipped."""
    for line in lines:
        try:
            yield entry_of(json.loads(line))
        except (ValueError, TypeError, AttributeError, RecursionError):
            continue


def recorder_of(recording: str) -> str:
    """Return the recorder of a recording: the beginning of its file name before the time, else its folder."""
    path = Path(recording)
    found = STAMP.search(path.stem)
    before = path.stem[: found.start()].strip(" -_.") if found else ""
    return before or path.parent.name or UNKNOWN
