"""A store as one SQLite file."""

import json
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import asdict, fields
from pathlib import Path
from typing import Any

import pandas as pd

from barn_owl.archive.entries import COLUMNS, StoreEntry, StoreQuery, entry_of
from barn_owl.errors import OutputError, TableError
from barn_owl.files import is_folder

BUSY_S = 60
"""How long a writer waits for another."""
ROWS_PER_BLOCK = 200_000
"""Largest number of rows in memory."""
NAMES_PER_QUERY = 500
"""Recordings per query by name; a statement takes some thousand parameters."""
OURS = 1870097457
"""Application id of the SQLite file."""
EVENT_COLUMNS = ("start_s", "end_s", "label", "score", "clock")
JOINED = "recordings JOIN found ON found.recording = recordings.id"
TABLES = (
    f"PRAGMA application_id = {OURS}",
    "CREATE TABLE IF NOT EXISTS recordings (id INTEGER PRIMARY KEY, key TEXT, model TEXT, file TEXT, stamp TEXT, "
    "content TEXT, day TEXT, recorder TEXT, begins TEXT, duration_s REAL, events INTEGER, hours TEXT, reason TEXT, "
    "UNIQUE (model, file))",
    "CREATE INDEX IF NOT EXISTS by_day ON recordings (day, recorder)",
    "CREATE TABLE IF NOT EXISTS found (recording INTEGER, start_s REAL, end_s REAL, label TEXT, score REAL, "
    "clock TEXT)",
    "CREATE INDEX IF NOT EXISTS by_recording ON found (recording)",
    "CREATE VIEW IF NOT EXISTS events AS SELECT model, day, recorder, file, start_s, end_s, label, score, clock, key "
    "FROM recordings JOIN found ON found.recording = recordings.id",
    "CREATE TABLE IF NOT EXISTS unfinished (name TEXT PRIMARY KEY, content BLOB)",
)


class SqliteStore:
    """A file; see `barn_owl.archive.store.Store`."""

    def __init__(self, path: Path) -> None:
        self.path = path
        if is_folder(path):
            raise OutputError(f"{path} is a folder; a store with this ending is one file")
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with self._open() as file:
                file.execute("BEGIN IMMEDIATE")  # another may be beginning it just now
                ours = file.execute("PRAGMA application_id").fetchone()[0] == OURS
                if not ours and file.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]:
                    raise OutputError(f"{path} is a database of something else; give another name")
                for statement in TABLES:
                    file.execute(statement)
        except OutputError:
            raise
        except OSError as error:
            raise OutputError(f"{path} cannot be written: {error.strerror or error}") from error

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        """Open the file for a transaction."""
        try:
            file = sqlite3.connect(self.path, timeout=BUSY_S)
            try:
                with file:
                    yield file
            finally:
                file.close()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise OutputError(f"{self.path} cannot be used as a store: {error}") from error

    def recordings(self, model: str = "") -> list[StoreEntry]:
        """See `Store`."""
        names = [own.name for own in fields(StoreEntry)]
        sql = f"SELECT {', '.join(names)} FROM recordings WHERE ? IN ('', model) ORDER BY id"  # noqa: S608 - ours
        with self._open() as file:
            rows = file.execute(sql, (model,)).fetchall()
        try:
            records = [dict(zip(names, row, strict=True)) for row in rows]
            parsed = [{name: json.loads(one[name]) for name in ("stamp", "hours")} for one in records]
            return [entry_of(one | more) for one, more in zip(records, parsed, strict=True)]
        except (ValueError, TypeError, AttributeError, RecursionError) as error:
            raise TableError(f"{self.path} is damaged: {error}") from error

    def models(self) -> list[str]:
        """See `Store`."""
        with self._open() as file:
            return [str(model) for (model,) in file.execute("SELECT DISTINCT model FROM recordings ORDER BY 1")]

    def holds(self, one: StoreEntry) -> bool:  # noqa: ARG002 - events and the line on them are kept together
        """See `Store`."""
        return True

    def add(self, recorded: StoreEntry, events: pd.DataFrame) -> None:
        """See `Store`."""
        row = asdict(recorded) | {"stamp": json.dumps(recorded.stamp), "hours": json.dumps(recorded.hours)}
        with self._open() as file:
            file.execute("BEGIN IMMEDIATE")  # another process may add the same recording
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
            own = events.reindex(columns=list(EVENT_COLUMNS)).astype(object).to_numpy().tolist()
            file.executemany("INSERT INTO found VALUES (?, ?, ?, ?, ?, ?)", [[number, *one] for one in own])

    def batches(self, query: StoreQuery, columns: Sequence[str] = COLUMNS) -> Iterator[pd.DataFrame]:
        """See `Store`."""
        named = {"model": query.model, "day": query.day, "recorder": query.recorder}
        given = {name: value for name, value in named.items() if value}
        where = " AND ".join(["1", *(f"recordings.{name} = ?" for name in given)])
        sql = f"SELECT {', '.join(columns)} FROM {JOINED} WHERE {where}"  # noqa: S608 - names of ours
        groups = [
            query.files[first : first + NAMES_PER_QUERY] for first in range(0, len(query.files), NAMES_PER_QUERY)
        ] or [()]
        with self._open() as file:
            for files in groups:
                marks = f" AND recordings.file IN ({', '.join(['?'] * len(files))})" if files else ""
                values: list[Any] = [*given.values(), *files]
                found = file.execute(sql + marks, values)
                while rows := found.fetchmany(ROWS_PER_BLOCK):
                    yield pd.DataFrame(rows, columns=list(columns))

    def keep_piece(self, name: str, content: bytes) -> None:
        """See `Store`."""
        with self._open() as file:
            file.execute("INSERT OR REPLACE INTO unfinished VALUES (?, ?)", (name, content))

    def piece(self, name: str) -> bytes | None:
        """See `Store`."""
        with self._open() as file:
            found = file.execute("SELECT content FROM unfinished WHERE name = ?", (name,)).fetchone()
        return None if found is None else bytes(found[0])

    def drop_pieces(self, prefix: str) -> None:
        """See `Store`."""
        with self._open() as file:
            file.execute("DELETE FROM unfinished WHERE substr(name, 1, ?) = ?", (len(prefix), prefix))
