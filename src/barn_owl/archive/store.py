"""The event store: finished recordings by day and recorder; survives crashes.

Two forms, one meaning: a folder of Parquet files (`parquet_store.py`), or a single SQLite file (`sqlite_store.py`).
"""

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Protocol

import numpy as np
import pandas as pd

from barn_owl.archive.entries import COLUMNS, StoreEntry, StoreQuery
from barn_owl.archive.hours import HOURS, recorded_by_hour
from barn_owl.archive.parquet_store import ABOUT, ParquetStore
from barn_owl.archive.sqlite_store import SqliteStore
from barn_owl.errors import TableError
from barn_owl.files import MISSING, is_file, not_a_file

SQLITE = (".sqlite", ".db", ".sqlite3")


class Store(Protocol):
    """Interface of all stores.

    Examples
    --------
    >>> store = barn_owl.archive.open_store("store.sqlite")
    >>> _ = barn_owl.tag_archive(barn_owl.load_model("first"), ["night.wav"], store="store.sqlite", workers=1)
    >>> [Path(one.file).name for one in store.recordings()]
    ['night.wav']
    """

    path: Path

    def recordings(self, model: str = "") -> list[StoreEntry]:
        """Return the last entry of each finished or failed recording, of all models or of one.

        Parameters
        ----------
        model : str
            Only of this model. Default: of all.
        """

    def models(self) -> list[str]:
        """Return the names of models with their settings, in order."""

    def holds(self, one: StoreEntry) -> bool:
        """Return whether the events of a recording are still there.

        Parameters
        ----------
        one : StoreEntry
            Entry of a recording.
        """

    def add(self, recorded: StoreEntry, events: pd.DataFrame) -> None:
        """Save the events of a recording, in place of earlier events or a failure.

        Parameters
        ----------
        recorded : StoreEntry
            Entry of a recording.
        events : pd.DataFrame
            Its events.
        """

    def batches(self, query: StoreQuery, columns: Sequence[str] = COLUMNS) -> Iterator[pd.DataFrame]:
        """Yield events part by part, so that not all are in memory.

        Parameters
        ----------
        query : StoreQuery
            Which events.
        columns : Sequence[str]
            Columns to read. Default: all.
        """

    def keep_piece(self, name: str, content: bytes) -> None:
        """Keep a part of a recording that is not finished.

        Parameters
        ----------
        name : str
            Name of the piece.
        content : bytes
            Scores of the piece, as bytes.
        """

    def piece(self, name: str) -> bytes | None:
        """Return the scores of a piece, or None.

        Parameters
        ----------
        name : str
            Name of the piece.
        """

    def drop_pieces(self, prefix: str) -> None:
        """Forget the parts whose names begin so.

        Parameters
        ----------
        prefix : str
            Beginning of the names of the pieces.
        """


def is_store(path: str | Path) -> bool:
    """Return whether a path is a store, or its ending is that of a store."""
    path = Path(path)
    return path.suffix.lower() in SQLITE or is_file(path / ABOUT)


def open_store(path: str | Path) -> Store:
    """Open or create a store: a SQLite file by its ending (``.sqlite``, ``.db``), else a folder of Parquet files.

    Parameters
    ----------
    path : str | Path
        Folder of Parquet files, or SQLite file.

    Raises
    ------
    OutputError
        If it cannot be begun or written, or is something else.
    TableError
        If it is damaged.

    Examples
    --------
    >>> barn_owl.archive.open_store("new.sqlite").recordings()
    []
    """
    path = Path(path)
    return SqliteStore(path) if path.suffix.lower() in SQLITE else ParquetStore(path)


def read_store(
    path: str | Path, *, model: str = "", day: str = "", recorder: str = "", files: Sequence[str] = ()
) -> pd.DataFrame:
    """Read the events of a store as one table: all, or of a day (``2026-05-01``), a recorder, or some recordings.

    Parameters
    ----------
    path : str | Path
        Folder of Parquet files, or SQLite file.
    model : str
        Name of the model, required if the store has events of several models.
    day : str
        Only this day, ``2026-05-01``.
    recorder : str
        Only this recorder.
    files : Sequence[str]
        Only these recordings.

    Raises
    ------
    TableError
        If it does and none is named.

    Examples
    --------
    >>> _ = barn_owl.tag_archive(barn_owl.load_model("first"), ["night.wav"], store="store.sqlite", workers=1)
    >>> list(barn_owl.archive.read_store("store.sqlite"))[:4]
    ['file', 'start_s', 'end_s', 'label']
    """
    store = open_for_reading(path)
    query = StoreQuery(model=the_model(store, model), day=day, recorder=recorder, files=tuple(files))
    parts = list(store.batches(query))
    table = pd.concat(parts, ignore_index=True) if parts else pd.DataFrame(columns=list(COLUMNS))
    ordered = table.sort_values(["file", "start_s", "label"], ignore_index=True, kind="stable").drop(columns="key")
    return ordered if (ordered["clock"] != "").any() else ordered.drop(columns="clock")


def open_for_reading(path: str | Path) -> Store:
    """Open a store that must be there."""
    if not_a_file(path) == MISSING:
        raise TableError(f"{path} does not exist; it should be a store of events")
    if not is_store(path):
        raise TableError(f"{path} is not a store of events")
    return open_store(path)


def the_model(store: Store, model: str = "") -> str:
    """Return the name of the only model of a store; raises TableError when there are several or a different model."""
    known = store.models()
    if model and not any(one.startswith(model) for one in known):  # a model without events is possible
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
    """Read the events of the recordings with these file names, in any folder.

    Raises TableError when the store has none of the recordings.
    """
    names = [Path(file).name for file in recordings]
    files = [one.file for one in open_for_reading(path).recordings() if Path(one.file).name in set(names)]
    if not files:
        raise TableError(f"{path} has none of the given recordings, such as {names[0]}")
    return read_store(path, files=files)


def store_hours(path: str | Path, *, model: str = "", day: str = "", recorder: str = "") -> pd.DataFrame:
    """Count the events of a store by label and hour of the day; see `barn_owl.archive.hours_table`.

    Recordings with an unknown start are skipped. The events themselves are not read.

    Parameters
    ----------
    path : str | Path
        Folder of Parquet files, or SQLite file.
    model : str
        Name of the model, required if the store has events of several models.
    day : str
        Only this day, ``2026-05-01``.
    recorder : str
        Only this recorder.

    Raises
    ------
    TableError
        If it is not a store, or has events of several models and none is named.

    Examples
    --------
    >>> _ = barn_owl.tag_archive(barn_owl.load_model("first"), ["night.wav"], store="store.sqlite", workers=1)
    >>> list(barn_owl.archive.store_hours("store.sqlite"))[-1]
    'recorded_s'
    """
    store = open_for_reading(path)
    own = the_model(store, model)
    query = StoreQuery(model=own, day=day, recorder=recorder)
    return hours_of([one for one in store.recordings(own) if query.takes(one)])


def hours_of(recordings: Iterable[StoreEntry]) -> pd.DataFrame:
    """Count the events of recordings of a store by label and hour of the day; see `store_hours`."""
    counts: dict[str, np.ndarray] = {}
    recorded = np.zeros(HOURS)
    for one in recordings:
        if one.reason or not one.begins:
            continue
        recorded += recorded_by_hour(datetime.fromisoformat(one.begins), one.duration_s)
        for label, by_hour in one.hours.items():
            for hour, count in by_hour.items():
                counts.setdefault(label, np.zeros(HOURS, dtype=int))[int(hour)] += count
    table = pd.DataFrame({label: counts[label] for label in sorted(counts)}, index=pd.RangeIndex(HOURS, name="hour"))
    return table.assign(recorded_s=np.round(recorded, 3))
