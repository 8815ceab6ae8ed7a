"""A store of events that outlives crashes: what is finished of months of recordings, by day and recorder.

Two forms, one meaning. A folder of Parquet files, ``model=…/day=…/recorder=…/KEY.parquet``, a file a recording, with
a manifest of lines of JSON beside it, each writer its own file; or a single SQLite file. Files are written whole or
not at all and have a name of their own, so that any number of writers need no lock on the folder.
"""

import io
import json
import os
import sqlite3
import uuid
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import asdict, dataclass, field, fields
from datetime import datetime
from pathlib import Path
from typing import Any, Protocol
from urllib.parse import quote

import numpy as np
import pandas as pd

from barn_owl.errors import OutputError, TableError
from barn_owl.files import whole_file
from barn_owl.tag.hours import HOURS, STAMP, recorded_by_hour
from barn_owl.wording import how_to_install

SQLITE = (".sqlite", ".db", ".sqlite3")
COLUMNS = ("file", "start_s", "end_s", "label", "score", "clock", "key")
UNKNOWN = "unknown"
BUSY_S = 60
"""How long a writer of a SQLite file waits for another."""
AT_ONCE = 200_000
"""Rows of a SQLite file that are held in memory at a time."""


@dataclass(frozen=True, kw_only=True)
class Recorded:
    """What a store knows of a recording: a line of its manifest.

    key : of its content, the model and the settings. model : what the model and its settings are known by. stamp : of
    the file, by which it is known without being read. day, recorder : what the store is parted by. begins : ISO 8601,
    blank if not known. reason : why it failed, blank if it is done.
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


class Store(Protocol):
    """What all stores can do.

    >>> store = barn_owl.open_store("store.sqlite")
    >>> _ = barn_owl.tag_archive(barn_owl.load_model("first"), ["night.wav"], keep="store.sqlite", workers=1)
    >>> [Path(one.file).name for one in store.recordings()]
    ['night.wav']
    """

    path: Path

    def recordings(self, model: str = "") -> list[Recorded]:
        """All recordings that are done or failed, the last line on each; of all models or one."""

    def models(self) -> list[str]:
        """What the models and settings are known by, in order."""

    def add(self, recorded: Recorded, events: pd.DataFrame) -> None:
        """Keep the events of a recording, or that it failed."""

    def batches(
        self,
        *,
        model: str = "",
        day: str = "",
        recorder: str = "",
        files: Sequence[str] = (),
        columns: Sequence[str] = (),
    ) -> Iterator[pd.DataFrame]:
        """Yield events part by part, so that not all are in memory."""

    def keep_piece(self, name: str, content: bytes) -> None:
        """Keep a part of a recording that is not finished."""

    def piece(self, name: str) -> bytes | None:
        """Return such a part, None if there is none."""

    def drop_pieces(self, prefix: str) -> None:
        """Forget the parts whose names begin so."""


def is_store(path: str | Path) -> bool:
    """Tell whether a path is a store, or would be one by its ending."""
    path = Path(path)
    return path.suffix.lower() in SQLITE or (path / ABOUT).is_file()


def open_store(path: str | Path) -> Store:
    """Open a store, or begin one: a SQLite file by its ending (``.sqlite``, ``.db``), else a folder of Parquet files.

    Raises OutputError when it cannot be begun or written, or is something else; TableError when it is damaged.

    >>> barn_owl.open_store("new.sqlite").recordings()
    []
    """
    path = Path(path)
    return _File(path) if path.suffix.lower() in SQLITE else _Folder(path)


def read_store(
    path: str | Path, *, model: str = "", day: str = "", recorder: str = "", files: Sequence[str] = ()
) -> pd.DataFrame:
    """Read events of a store as one table: all, or those of a day (``2026-05-01``), a recorder, or some recordings.

    model : what the store calls it, where it holds events of several. Raises TableError when it does and none is
    named.

    >>> _ = barn_owl.tag_archive(barn_owl.load_model("first"), ["night.wav"], keep="store.sqlite", workers=1)
    >>> list(barn_owl.read_store("store.sqlite"))[:4]
    ['file', 'start_s', 'end_s', 'label']
    """
    store = opened_to_read(path)
    own = the_model(store, model)
    parts = list(store.batches(model=own, day=day, recorder=recorder, files=files))
    table = pd.concat(parts, ignore_index=True) if parts else pd.DataFrame(columns=list(COLUMNS))
    ordered = table.sort_values(["file", "start_s", "label"], ignore_index=True, kind="stable").drop(columns="key")
    return ordered if (ordered["clock"] != "").any() else ordered.drop(columns="clock")


def opened_to_read(path: str | Path) -> Store:
    """Open a store that must be there."""
    if not Path(path).exists():
        raise TableError(f"{path} does not exist; barn-owl tag --keep makes a store of events")
    if not is_store(path):
        raise TableError(f"{path} is no store of events; barn-owl tag --keep makes one")
    return open_store(path)


def the_model(store: Store, model: str = "") -> str:
    """Return what the one model of a store is known by; raises TableError when there are several or not that one."""
    known = store.models()
    if model and not any(one.startswith(model) for one in known):  # perhaps one that found nothing at all
        known = sorted({one.model for one in store.recordings()})
    found = [one for one in known if one.startswith(model)] if model else known
    if len(found) > 1:
        raise TableError(
            f"{store.path} holds events of {len(found)} models or settings: {', '.join(found)}; say which"
        )
    if known and not found:
        raise TableError(f"{store.path} holds no events of {model}; it knows {', '.join(known)}")
    return found[0] if found else model


def events_of_recordings(path: str | Path, recordings: Iterable[str]) -> pd.DataFrame:
    """Read the events of the recordings with these file names, wherever they lay, and of no others.

    Raises TableError when the store holds none of them.
    """
    names = [Path(file).name for file in recordings]
    files = [one.file for one in opened_to_read(path).recordings() if Path(one.file).name in set(names)]
    if not files:
        raise TableError(f"{path} holds none of the recordings that are asked for, such as {names[0]}")
    return read_store(path, files=files)


def store_hours(path: str | Path, *, model: str = "", day: str = "", recorder: str = "") -> pd.DataFrame:
    """Count the events of a store by label and hour of the day; see `barn_owl.hours_table`.

    Recordings whose beginning is not known are left out. The events themselves are not read.

    >>> _ = barn_owl.tag_archive(barn_owl.load_model("first"), ["night.wav"], keep="store.sqlite", workers=1)
    >>> list(barn_owl.store_hours("store.sqlite"))[-1]
    'recorded_s'
    """
    store = opened_to_read(path)
    own = the_model(store, model)
    counts: dict[str, np.ndarray] = {}
    recorded = np.zeros(HOURS)
    for one in store.recordings(own):
        if one.reason or not one.begins or day not in ("", one.day) or recorder not in ("", one.recorder):
            continue
        recorded += recorded_by_hour(datetime.fromisoformat(one.begins), one.duration_s)
        for label, by_hour in one.hours.items():
            for hour, count in by_hour.items():
                counts.setdefault(label, np.zeros(HOURS, dtype=int))[int(hour)] += count
    table = pd.DataFrame({label: counts[label] for label in sorted(counts)}, index=pd.RangeIndex(HOURS, name="hour"))
    return table.assign(recorded_s=np.round(recorded, 3))


def recorder_of(recording: str) -> str:
    """Name of the recorder of a recording: what its file is called before the time in it, else its folder."""
    path = Path(recording)
    found = STAMP.search(path.stem)
    before = path.stem[: found.start()].strip(" -_.") if found else ""
    return before or path.parent.name or UNKNOWN


ABOUT = "_about.json"
"""Marks a folder as a store, and says which form it has; readers of such folders pass over names with a dash
below.
"""
FORM = {"holds": "events of recordings", "form": 1}


class _Folder:
    """Parquet files by model, day and recorder."""

    def __init__(self, path: Path) -> None:
        self.path, self._manifest = path, path / "_manifest"
        try:
            import pyarrow.parquet  # noqa: F401
        except ImportError:
            raise OutputError(
                f"{path}: a folder of Parquet files needs pyarrow; {how_to_install('parquet')}, or give a name that "
                "ends in .sqlite"
            ) from None
        self._own = self._manifest / f"{uuid.uuid4().hex[:12]}.jsonl"
        if path.exists() and not path.is_dir():
            raise OutputError(f"{path} is a file; a store is a folder, or a name that ends in .sqlite")
        if not (path / ABOUT).is_file():
            if path.is_dir() and any(path.iterdir()):
                raise OutputError(f"{path} is a folder with other things in it, and no store; give another name")
            with whole_file(path / ABOUT) as beside:
                beside.write_text(json.dumps(FORM) + "\n", encoding="utf-8")
        elif _form(path / ABOUT) != FORM["form"]:
            raise TableError(f"{path} is a store of a newer form; update barn-owl-audio")

    def recordings(self, model: str = "") -> list[Recorded]:
        known: dict[tuple[str, str], Recorded] = {}
        for file in sorted(self._manifest.glob("*.jsonl")):
            with file.open(encoding="utf-8", errors="replace") as lines:
                for line in lines:
                    one = _line(line)
                    if one is None or (model and one.model != model):
                        continue
                    before = known.get((one.model, one.file))
                    # A failure never hides what was done, by whichever writer and in whichever order.
                    if before is None or before.reason or not one.reason:
                        known[one.model, one.file] = one
        return list(known.values())

    def models(self) -> list[str]:
        found = {folder.name.removeprefix("model=") for folder in self.path.glob("model=*")}
        # Without any event there is no folder.
        return sorted(found or {one.model for one in self.recordings()})

    def add(self, recorded: Recorded, events: pd.DataFrame) -> None:
        if len(events):
            with whole_file(self._place(recorded)) as beside:
                events.to_parquet(beside, index=False)
        try:
            self._manifest.mkdir(exist_ok=True)
            with self._own.open("ab") as file:
                file.write(json.dumps(asdict(recorded), ensure_ascii=True).encode() + b"\n")
                file.flush()
                os.fsync(file.fileno())
        except OSError as error:
            raise OutputError(f"{self._own} cannot be written: {error.strerror or error}") from error

    def _place(self, one: Recorded) -> Path:
        parts = (f"model={one.model}", f"day={_safe(one.day)}", f"recorder={_safe(one.recorder)}")
        return self.path.joinpath(*parts) / f"{one.key}.parquet"

    def batches(
        self,
        *,
        model: str = "",
        day: str = "",
        recorder: str = "",
        files: Sequence[str] = (),
        columns: Sequence[str] = (),
    ) -> Iterator[pd.DataFrame]:
        import pyarrow as pa
        import pyarrow.parquet as pq

        asked = list(columns) or list(COLUMNS)
        for paths in _in_groups(self._files(model, day, recorder, files)):
            try:
                tables = [pq.ParquetFile(path).read(asked) for path in paths]
                part = pa.concat_tables(tables).to_pandas(ignore_metadata=True)
                if list(part) != asked:
                    raise KeyError(f"it has the columns {', '.join(part)}")
                yield part
            except (OSError, pa.ArrowException, KeyError, ValueError, TypeError) as error:
                raise TableError(f"a file of the store {self.path} is damaged: {error}") from error

    def _files(self, model: str, day: str, recorder: str, files: Sequence[str]) -> Iterator[Path]:
        if files:
            wanted = set(files)
            chosen = [self._place(one) for one in self.recordings(model) if one.file in wanted and one.events]
            yield from sorted(chosen)
            return
        days = f"day={_safe(day)}" if day else "day=*"
        recorders = f"recorder={_safe(recorder)}" if recorder else "recorder=*"
        for folder in sorted(self.path.glob(f"model={model or '*'}/{days}/{recorders}")):
            names = sorted(entry.name for entry in os.scandir(folder))
            yield from (folder / name for name in names if name.endswith(".parquet") and not name.startswith("."))

    def keep_piece(self, name: str, content: bytes) -> None:
        with whole_file(self.path / "_unfinished" / name) as beside:
            beside.write_bytes(content)

    def piece(self, name: str) -> bytes | None:
        try:
            return (self.path / "_unfinished" / name).read_bytes()
        except OSError:
            return None

    def drop_pieces(self, prefix: str) -> None:
        for path in (self.path / "_unfinished").glob(f"{prefix}*"):
            path.unlink(missing_ok=True)


class _File:
    """One SQLite file."""

    def __init__(self, path: Path) -> None:
        self.path = path
        if path.is_dir():
            raise OutputError(f"{path} is a folder; a store with this ending is one file")
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with self._open() as file:
                file.execute("BEGIN IMMEDIATE")  # another may be beginning it just now
                ours = file.execute("PRAGMA application_id").fetchone()[0] == OURS
                if not ours and file.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]:
                    raise OutputError(f"{path} is a database of something else; give another name")
                for statement in _TABLES.split(";"):
                    file.execute(statement)
        except OSError as error:
            if isinstance(error, OutputError):
                raise
            raise OutputError(f"{path} cannot be written: {error.strerror or error}") from error

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        """Open the file for one piece of work, which is kept whole or not at all."""
        try:
            file = sqlite3.connect(self.path, timeout=BUSY_S)
            try:
                with file:
                    yield file
            finally:
                file.close()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise OutputError(f"{self.path} cannot be used as a store: {error}") from error

    def recordings(self, model: str = "") -> list[Recorded]:
        names = [own.name for own in fields(Recorded)]
        with self._open() as file:
            rows = file.execute(
                f"SELECT {', '.join(names)} FROM recordings WHERE ? IN ('', model) ORDER BY id",  # noqa: S608 - names of ours
                (model,),
            ).fetchall()
        try:
            told = [dict(zip(names, row, strict=True)) for row in rows]
            parsed = [{name: json.loads(one[name]) for name in ("stamp", "hours")} for one in told]
            return [_recorded(one | more) for one, more in zip(told, parsed, strict=True)]
        except (ValueError, TypeError, AttributeError, RecursionError) as error:
            raise TableError(f"{self.path} is damaged: {error}") from error

    def models(self) -> list[str]:
        with self._open() as file:
            return [str(model) for (model,) in file.execute("SELECT DISTINCT model FROM recordings ORDER BY 1")]

    def add(self, recorded: Recorded, events: pd.DataFrame) -> None:
        row = asdict(recorded) | {"stamp": json.dumps(recorded.stamp), "hours": json.dumps(recorded.hours)}
        with self._open() as file:
            known = file.execute(
                "SELECT id, reason FROM recordings WHERE model = ? AND file = ?", (recorded.model, recorded.file)
            ).fetchone()
            if known is not None:
                if recorded.reason and not known[1]:
                    return
                file.execute("DELETE FROM found WHERE recording = ?", known[:1])
                file.execute("DELETE FROM recordings WHERE id = ?", known[:1])
            marks = ", ".join(["?"] * len(row))
            sql = f"INSERT INTO recordings ({', '.join(row)}) VALUES ({marks})"  # noqa: S608 - names of ours
            number = file.execute(sql, list(row.values())).lastrowid
            own = events.reindex(columns=list(OWN)).astype(object).to_numpy().tolist()
            file.executemany(
                f"INSERT INTO found (recording, {', '.join(OWN)}) VALUES (?, ?, ?, ?, ?, ?)",  # noqa: S608 - the same
                [[number, *one] for one in own],
            )

    def batches(
        self,
        *,
        model: str = "",
        day: str = "",
        recorder: str = "",
        files: Sequence[str] = (),
        columns: Sequence[str] = (),
    ) -> Iterator[pd.DataFrame]:
        asked = list(columns) or list(COLUMNS)
        where, values = self._where(model, day, recorder)
        if files:
            where += f" AND recordings.file IN ({', '.join(['?'] * len(files))})"
            values += files
        with self._open() as file:
            found = file.execute(f"SELECT {', '.join(asked)} FROM {JOINED}{where}", values)  # noqa: S608 - the same
            while rows := found.fetchmany(AT_ONCE):
                yield pd.DataFrame(rows, columns=asked)

    @staticmethod
    def _where(model: str, day: str, recorder: str) -> tuple[str, list[Any]]:
        named = {"model": model, "day": day, "recorder": recorder}
        given = {name: value for name, value in named.items() if value}
        return " WHERE 1" + "".join(f" AND recordings.{name} = ?" for name in given), list(given.values())

    def keep_piece(self, name: str, content: bytes) -> None:
        with self._open() as file:
            file.execute("INSERT OR REPLACE INTO unfinished VALUES (?, ?)", (name, content))

    def piece(self, name: str) -> bytes | None:
        with self._open() as file:
            found = file.execute("SELECT content FROM unfinished WHERE name = ?", (name,)).fetchone()
        return None if found is None else bytes(found[0])

    def drop_pieces(self, prefix: str) -> None:
        with self._open() as file:
            file.execute("DELETE FROM unfinished WHERE substr(name, 1, ?) = ?", (len(prefix), prefix))


OWN = ("start_s", "end_s", "label", "score", "clock")
JOINED = "recordings JOIN found ON found.recording = recordings.id"
OURS = 1870097457
"""What a SQLite file of ours says that it is."""
_TABLES = """
PRAGMA application_id = 1870097457;
CREATE TABLE IF NOT EXISTS recordings (id INTEGER PRIMARY KEY, key TEXT, model TEXT, file TEXT, stamp TEXT,
    content TEXT, day TEXT, recorder TEXT, begins TEXT, duration_s REAL, events INTEGER, hours TEXT,
    reason TEXT,
    UNIQUE (model, file));
CREATE INDEX IF NOT EXISTS by_day ON recordings (day, recorder);
CREATE TABLE IF NOT EXISTS found (recording INTEGER, start_s REAL, end_s REAL, label TEXT, score REAL, clock TEXT);
CREATE INDEX IF NOT EXISTS by_recording ON found (recording);
CREATE VIEW IF NOT EXISTS events AS SELECT model, day, recorder, file, start_s, end_s, label, score, clock, key
    FROM recordings JOIN found ON found.recording = recordings.id;
CREATE TABLE IF NOT EXISTS unfinished (name TEXT PRIMARY KEY, content BLOB);
"""


def _form(about: Path) -> Any:
    try:
        told = json.loads(about.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError) as error:
        raise TableError(f"{about} is damaged: {error}") from error
    return told.get("form") if isinstance(told, dict) else None


def _line(text: str) -> Recorded | None:
    """A line of a manifest; None for one that a crash cut off."""
    try:
        return _recorded(json.loads(text))
    except (ValueError, TypeError, AttributeError, RecursionError):
        return None


def _recorded(told: dict[str, Any]) -> Recorded:
    """What a line or a row says; raises TypeError or ValueError when it says something else."""
    one = Recorded(**told)
    kinds: dict[str, Any] = {"stamp": list, "duration_s": (int, float), "events": int, "hours": dict}
    for own in fields(Recorded):
        if not isinstance(getattr(one, own.name), kinds.get(own.name, str)):
            raise TypeError(f"{own.name} is {getattr(one, own.name)!r}")
    for by_hour in one.hours.values():
        for hour, count in by_hour.items():
            if int(hour) not in range(HOURS) or not isinstance(count, int):
                raise ValueError(f"{count} events at hour {hour}")
    if one.begins:
        datetime.fromisoformat(one.begins)
    return one


def _safe(name: str) -> str:
    """A name as it may stand in a path; it is read back by whoever reads such folders."""
    return quote(name, safe=" ,+") or UNKNOWN


def _in_groups(paths: Iterable[Path], size: int = 64) -> Iterator[list[Path]]:
    group: list[Path] = []
    for path in paths:
        group.append(path)
        if len(group) == size:
            yield group
            group = []
    if group:
        yield group


def packed(arrays: dict[str, np.ndarray]) -> bytes:
    """Arrays as the bytes of an NPZ file."""
    content = io.BytesIO()
    np.savez(content, **arrays)  # type: ignore[arg-type]  # the stubs take the names for options
    return content.getvalue()


def unpacked(content: bytes) -> dict[str, np.ndarray] | None:
    """Arrays of `packed`; None when they are damaged."""
    try:
        with np.load(io.BytesIO(content), allow_pickle=False) as kept:
            return {name: kept[name] for name in kept.files}
    except (OSError, ValueError, KeyError, EOFError):
        return None
