"""Events by label and hour of the day."""

import re
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import numpy as np
import pandas as pd

from barn_owl.audio import broadcast_start
from barn_owl.clips.any_table import read_any_table
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import TableError
from barn_owl.files import real_path

STAMP = re.compile(
    r"(?<!\d)(\d{4})[-_.]?(\d{2})[-_.]?(\d{2})[T_\- ]?"
    r"(\d{2})[-_.:h]?(\d{2})(?:[-_.:m]?(\d{2}))?(Z|[+-]\d{2}:?\d{2})?(?!\d)"
)
HOURS = 24


def recording_start(path: str | Path, *, zone: str = "") -> datetime | None:
    """Parse the start time of a recording from its name, such as ``night_20260314_221500.flac``.

    Without a time in the name, the file is read: see `broadcast_start`.

    Parameters
    ----------
    path : str | Path
        Sound file.
    zone : str
        Time zone of times without a zone, such as ``Europe/Lisbon``.

    Returns
    -------
    datetime | None
        None if neither name nor file has a time.

    Raises
    ------
    TableError
        For an unknown zone.

    Examples
    --------
    >>> barn_owl.archive.recording_start("quay_20260501_220000.wav")
    datetime.datetime(2026, 5, 1, 22, 0)
    """
    return _start_in_name(Path(path), zone) or _in_zone(broadcast_start(path), zone)


def starts_of_table(path: str | Path, recordings: Sequence[str], *, zone: str = "") -> dict[str, datetime | None]:
    """Read start times of recordings from a table with ``file`` and ``begins`` (ISO 8601).

    Parameters
    ----------
    path : str | Path
        Table with columns ``file`` and ``begins``.
    recordings : Sequence[str]
        Recordings to find in it.
    zone : str
        Time zone of times without a zone, such as ``Europe/Berlin``. Default: no zone.

    Raises
    ------
    TableError
        If the table lacks a column, or a time cannot be read.
    """
    table = read_any_table(path)
    missing = {"file", "begins"} - set(table.columns)
    if missing:
        raise TableError(f"{path} has no column {min(missing)!r}; it needs file and begins (2026-03-14T22:15:00)")
    known = {}
    for row, (file, begins) in enumerate(zip(table["file"], table["begins"], strict=True), start=1):
        try:
            start = datetime.fromisoformat(str(begins).strip())
        except ValueError as error:
            raise TableError(f"{path}, row {row}: {begins!r} is no time such as 2026-03-14T22:15:00") from error
        known[real_path(Path(path).parent / str(file))] = start if start.tzinfo else _in_zone(start, zone)
    return {file: known.get(real_path(file)) or recording_start(file, zone=zone) for file in recordings}


def _in_zone(start: datetime | None, zone: str) -> datetime | None:
    """Return a time without a zone as local time of `zone`, if a zone is given."""
    return start.replace(tzinfo=_zone(zone)) if start is not None and zone else start


def _start_in_name(path: Path, zone: str) -> datetime | None:
    """Parse the time in the name of a recording; None without one."""
    found = STAMP.search(path.stem)
    if found is None:
        return None
    *numbers, offset = found.groups()
    try:
        year, month, day, hour, minute, second = (int(number or 0) for number in numbers)
        start = datetime(year, month, day, hour, minute, second)
    except ValueError:  # 2026-17-42 is a number, not a day
        return None
    if offset:
        return datetime.fromisoformat(start.isoformat() + ("+00:00" if offset == "Z" else offset))
    return _in_zone(start, zone)


def _zone(name: str) -> ZoneInfo:
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError) as error:
        raise TableError(f"{name!r} is no time zone; use one such as Europe/Lisbon or UTC") from error


def with_clock(events: TableOrPath, starts: Mapping[str, datetime | None]) -> pd.DataFrame:
    """Add a column ``clock``: the time of day of each event in ISO 8601, blank if the start is unknown.

    Parameters
    ----------
    events : pd.DataFrame | str | Path
        Event table or its path.
    starts : Mapping[str, datetime | None]
        Start time by recording; None if unknown.
    """
    events = as_clip_table(events, "events")
    clock = [
        ""
        if (start := starts.get(row.file)) is None
        else _after(start, row.start_s).isoformat(timespec="milliseconds")
        for row in events.itertuples()
    ]
    return events.assign(clock=clock)


def _after(start: datetime, seconds: float) -> datetime:
    """Add seconds as they pass, also where clocks are changed in between."""
    if start.tzinfo is None:
        return start + timedelta(seconds=seconds)
    utc = start.astimezone(ZoneInfo("UTC")) + timedelta(seconds=seconds)
    return utc.astimezone(start.tzinfo)


def hours_table(
    events: TableOrPath, starts: Mapping[str, datetime | None], seconds: Mapping[str, float]
) -> pd.DataFrame:
    """Count events by label (columns) and hour of the day (rows 0 to 23), with ``recorded_s`` of each hour.

    Parameters
    ----------
    events : pd.DataFrame | str | Path
        Event table or its path.
    starts : Mapping[str, datetime | None]
        Start time of each recording; recordings with an unknown start are skipped.
    seconds : Mapping[str, float]
        Length of each recording.

    Examples
    --------
    >>> from datetime import datetime
    >>> events = barn_owl.read_events("events.csv")
    >>> table = barn_owl.archive.hours_table(events, {"night.wav": datetime(2026, 5, 1, 22)}, {"night.wav": 14.0})
    >>> list(table)
    ['hiss', 'hum', 'tick', 'recorded_s']
    """
    events = as_clip_table(events, "events")
    known = {file: start for file, start in starts.items() if start is not None}
    labels = sorted(events["label"].unique())
    clocked = events[events["file"].isin(list(known))]
    hours = [_after(known[file], at).hour for file, at in zip(clocked["file"], clocked["start_s"], strict=True)]
    table = pd.crosstab(np.array(hours, dtype=int), clocked["label"].to_numpy()).reindex(
        index=pd.RangeIndex(HOURS, name="hour"), columns=labels, fill_value=0
    )
    table.columns.name = None
    recorded = np.zeros(HOURS)
    for file, start in known.items():
        recorded += recorded_by_hour(start, seconds.get(file, 0.0))
    return table.assign(recorded_s=np.round(recorded, 3))


def recorded_by_hour(start: datetime, seconds: float) -> np.ndarray:
    """Return the seconds of a recording in each hour of the day, ``(HOURS,)``."""
    recorded, at = np.zeros(HOURS), 0.0
    end = _after(start, seconds)
    if start.utcoffset() == end.utcoffset():  # no clock is changed meanwhile
        first = start.hour + start.minute / 60 + (start.second + start.microsecond / 1e6) / 3600
        edges = np.arange(int(first), first + seconds / 3600 + 1)
        inside = np.diff(edges.clip(first, first + seconds / 3600)) * 3600
        np.add.at(recorded, edges[:-1].astype(int) % HOURS, inside)
        return recorded
    while at < seconds:
        now = _after(start, at)
        rest = min(3600 - (now.minute * 60 + now.second + now.microsecond / 1e6), seconds - at)
        recorded[now.hour] += rest
        at += max(rest, 1e-3)
    return recorded


def counted_by_hour(events: pd.DataFrame) -> dict[str, dict[str, int]]:
    """Count events of each label by hour of the day, from their ``clock``."""
    known = events[events["clock"].str.len() > 13] if len(events) else events
    if not len(known):
        return {}
    hours = known["clock"].str.slice(11, 13).astype(int).astype(str)
    counts: dict[str, dict[str, int]] = {}
    for (label, hour), count in known.groupby([known["label"], hours]).size().items():
        counts.setdefault(str(label), {})[str(hour)] = int(count)
    return counts
