"""A store as a folder of Parquet files, ``model=…/day=…/recorder=…/KEY.parquet``, one file per recording.

Each writer appends to its manifest, a file of JSON lines; manifests are numbered in the order in which they were
begun. Event files are written whole or not at all and have unique names, so any number of writers need no lock on the
folder.
"""

import json
import os
import uuid
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import asdict
from functools import cached_property
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pandas as pd

from barn_owl.archive.entries import COLUMNS, UNKNOWN, StoreEntry, StoreQuery, entries_of
from barn_owl.errors import OutputError, TableError
from barn_owl.files import MISSING, atomic_write, is_file, is_folder, not_a_file
from barn_owl.tables import write_parquet
from barn_owl.wording import how_to_install

ABOUT = "_about.json"
"""Marks a folder as a store and states its format; readers of such folders skip names that begin with an underscore.
"""
FORM = {"holds": "events of recordings", "form": 1}
TOGETHER = 64
"""Files that are read at a time."""


class ParquetStore:
    """A folder; see `barn_owl.archive.store.Store`."""

    def __init__(self, path: Path) -> None:
        self.path, self._manifest, self._unfinished = path, path / "_manifest", path / "_unfinished"
        try:
            import pyarrow.parquet  # noqa: F401
        except ImportError:
            raise OutputError(
                f"{path}: a folder of Parquet files needs pyarrow; {how_to_install('parquet')}, or give a name that "
                "ends in .sqlite"
            ) from None
        self._known: dict[tuple[str, str], Path] | None = None
        if not_a_file(path) != MISSING and not is_folder(path):
            raise OutputError(f"{path} is a file; a store is a folder, or a name that ends in .sqlite")
        if not is_file(path / ABOUT):
            # Another command may begin it at this moment: with a file whose name begins with a dot, or just now.
            others = is_folder(path) and any(not one.name.startswith(".") for one in path.iterdir())
            if others and not is_file(path / ABOUT):
                raise OutputError(f"{path} is a folder with other things in it, and no store; give another name")
            with atomic_write(path / ABOUT) as beside:
                beside.write_text(json.dumps(FORM) + "\n", encoding="utf-8")
        elif _form(path / ABOUT) != FORM["form"]:
            raise TableError(f"{path} is a store of a newer form; update barn-owl-audio")

    def recordings(self, model: str = "") -> list[StoreEntry]:
        """See `Store`. Later writers take precedence; a failure never hides a finished recording."""
        known: dict[tuple[str, str], StoreEntry] = {}
        for file in sorted(self._manifest.glob("*.jsonl")):
            with file.open(encoding="utf-8", errors="replace") as lines:
                for one in entries_of(lines):
                    before = known.get((one.model, one.file))
                    if model in ("", one.model) and (before is None or before.reason or not one.reason):
                        known[one.model, one.file] = one
        return list(known.values())

    def models(self) -> list[str]:
        """See `Store`."""
        found = {folder.name.removeprefix("model=") for folder in self.path.glob("model=*")}
        # Without any event there is no folder.
        return sorted(found or {one.model for one in self.recordings()})

    def holds(self, one: StoreEntry) -> bool:
        """See `Store`."""
        return not one.events or is_file(self._place(one))

    def add(self, recorded: StoreEntry, events: pd.DataFrame) -> None:
        """See `Store`. Events of an earlier recording with the same name are removed before the manifest changes."""
        place, name = self._place(recorded), (recorded.model, recorded.file)
        if len(events):
            with atomic_write(place) as beside:
                write_parquet(events, beside)
        if not recorded.reason:
            before = self._places().get(name)
            if before is not None and (before != place or not len(events)):
                before.unlink(missing_ok=True)
            self._places()[name] = place
        try:
            self._manifest.mkdir(exist_ok=True)
            with self._own.open("ab") as file:
                file.write(json.dumps(asdict(recorded), ensure_ascii=True).encode() + b"\n")
                file.flush()
                os.fsync(file.fileno())
        except OSError as error:
            raise OutputError(f"{self._own} cannot be written: {error.strerror or error}") from error

    @cached_property
    def _own(self) -> Path:
        """Return the manifest of this writer, which sorts after existing manifests."""
        numbers = [file.name.partition("-")[0] for file in self._manifest.glob("*.jsonl")]
        number = max((int(one) for one in numbers if one.isdecimal()), default=0) + 1
        return self._manifest / f"{number:06d}-{uuid.uuid4().hex[:12]}.jsonl"

    def batches(self, query: StoreQuery, columns: Sequence[str] = COLUMNS) -> Iterator[pd.DataFrame]:
        """See `Store`."""
        import pyarrow as pa
        import pyarrow.parquet as pq

        for paths in _in_groups(self._files(query)):
            try:
                tables = [pq.ParquetFile(path).read(list(columns)) for path in paths]
                part = pa.concat_tables(tables).to_pandas(ignore_metadata=True)
                if list(part) != list(columns):
                    raise KeyError(f"it has the columns {', '.join(part)}")
                yield part
            except (OSError, pa.ArrowException, KeyError, ValueError, TypeError) as error:
                raise TableError(f"a file of the store {self.path} is damaged: {error}") from error

    def keep_piece(self, name: str, content: bytes) -> None:
        """See `Store`."""
        with atomic_write(self._unfinished / name) as beside:
            beside.write_bytes(content)

    def piece(self, name: str) -> bytes | None:
        """See `Store`."""
        try:
            return (self._unfinished / name).read_bytes()
        except OSError:
            return None

    def drop_pieces(self, prefix: str) -> None:
        """See `Store`."""
        for path in self._unfinished.glob(f"{prefix}*"):
            path.unlink(missing_ok=True)

    def _place(self, one: StoreEntry) -> Path:
        parts = (f"model={one.model}", f"day={_safe(one.day)}", f"recorder={_safe(one.recorder)}")
        return self.path.joinpath(*parts) / f"{one.key}.parquet"

    def _places(self) -> dict[tuple[str, str], Path]:
        """Where the events of each recording that is done are, by model and name; the manifest is read once."""
        if self._known is None:
            self._known = {(one.model, one.file): self._place(one) for one in self.recordings() if not one.reason}
        return self._known

    def _files(self, query: StoreQuery) -> Iterator[Path]:
        if query.files:
            wanted = set(query.files)
            chosen = (
                place for (model, file), place in self._places().items()
                if file in wanted and query.model in ("", model)
            )  # fmt: skip
            yield from (place for place in sorted(chosen) if is_file(place))  # no file without events
            return
        days = f"day={_safe(query.day)}" if query.day else "day=*"
        recorders = f"recorder={_safe(query.recorder)}" if query.recorder else "recorder=*"
        for folder in sorted(self.path.glob(f"model={query.model or '*'}/{days}/{recorders}")):
            names = sorted(entry.name for entry in os.scandir(folder))
            yield from (folder / name for name in names if name.endswith(".parquet") and not name.startswith("."))


def _form(about: Path) -> Any:
    try:
        about_store = json.loads(about.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError) as error:
        raise TableError(f"{about} is damaged: {error}") from error
    return about_store.get("form") if isinstance(about_store, dict) else None


def _safe(name: str) -> str:
    """Return a name quoted for a path, as readers of partitioned folders expect it."""
    return quote(name, safe=" ,+") or UNKNOWN


def _in_groups(paths: Iterable[Path]) -> Iterator[list[Path]]:
    group: list[Path] = []
    for path in paths:
        group.append(path)
        if len(group) == TOGETHER:
            yield group
            group = []
    if group:
        yield group
