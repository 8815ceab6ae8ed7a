"""Marks of events in recordings: an append-only journal, and the truth table that follows from it.

Each change of a mark is a line of the journal, flushed to disk: a crash loses at most the last one. Several people
can add to one journal. The truth table is rewritten after changes and holds the last state of every mark.
"""

import hashlib
import json
import logging
from collections.abc import Sequence
from dataclasses import asdict, dataclass, field, fields, replace
from datetime import datetime
from pathlib import Path
from threading import RLock
from typing import Any

import numpy as np
import pandas as pd

from barn_owl.annotation.journal import MAX_TEXT, append_lines, shown
from barn_owl.archive.recordings import name_of
from barn_owl.audio.remote import is_remote
from barn_owl.clips.completeness import EVENT_STATUSES, STATUS, STATUSES
from barn_owl.clips.table import (
    MAX_TIME_S,
    TableOrPath,
    as_clip_table,
    read_clip_table,
    relative_files,
    write_clip_table,
)
from barn_owl.errors import TableError
from barn_owl.files import atomic_write, checked_target, is_file
from barn_owl.names import label_fault

logger = logging.getLogger(__name__)

DELETED = "deleted"
JOURNAL_ENDING = ".marks.jsonl"
MIN_DURATION_S = 0.001
"""Shortest mark: times are kept in milliseconds."""
ID_DIGITS = 18
"""Digits of the identifier of a mark that is read from a table."""


@dataclass(frozen=True, kw_only=True)
class Mark:
    """An event, or a completely annotated stretch, of a recording.

    Attributes
    ----------
    mark : str
        Identifier that keeps its changes together.
    file : str
        Recording.
    start_s, end_s : float
        Onset and offset in seconds.
    label : str
        Label; blank for a sound of none of the labels, for a rejected event and for a complete stretch.
    status : str
        ``marked`` by hand; ``proposed`` by a model, then ``confirmed``, ``corrected`` or ``rejected``; ``complete``
        for a stretch; ``deleted``.
    predicted : str
        Label that the model proposed.
    score : float | None
        Score of the proposal, 0 to 1.
    reviewer : str
        Who made the change.
    when : str
        Time of the change, ISO 8601.
    more : dict[str, str]
        Further columns of the table that the mark was read from.

    Examples
    --------
    >>> barn_owl.annotation.Mark(mark="a", file="night.wav", start_s=1.0, end_s=2.0, label="hum").status
    'marked'
    """

    mark: str
    file: str
    start_s: float
    end_s: float
    label: str = ""
    status: str = "marked"
    predicted: str = ""
    score: float | None = None
    reviewer: str = ""
    when: str = ""
    more: dict[str, str] = field(default_factory=dict)

    @classmethod
    def checked(cls, given: Any) -> "Mark":
        """Create a mark from JSON fields of a page or a journal; raises TableError when they are invalid.

        Parameters
        ----------
        given : Any
            JSON fields.
        """
        try:
            score = given.get("score")
            made = cls(
                mark=given["mark"], file=given["file"],
                start_s=round(float(given["start_s"]), 3), end_s=round(float(given["end_s"]), 3),
                label=given.get("label", "").strip(), status=given.get("status", "marked"),
                predicted=given.get("predicted", "").strip(), score=None if score is None else float(score),
                reviewer=given.get("reviewer", ""), when=given.get("when", ""), more=dict(given.get("more", {})),
            )  # fmt: skip
            texts = [made.mark, made.file, made.status, made.reviewer, made.when, *made.more, *made.more.values()]
            valid = all(isinstance(text, str) and len(text) <= MAX_TEXT for text in texts) and bool(made.mark)
        except (AttributeError, KeyError, TypeError, ValueError, OverflowError) as error:
            raise TableError(f"not a mark: {shown(given)}") from error
        if not valid or made.status not in (*STATUSES, DELETED) or not (made.score is None or 0 <= made.score <= 1):
            raise TableError(f"not a mark: {shown(given)}")
        if not 0 <= made.start_s <= made.end_s - MIN_DURATION_S / 2 or made.end_s > MAX_TIME_S:
            raise TableError(f"a mark begins at 0 s or later and ends after its start; got {shown(given)}")
        for label in filter(None, (made.label, made.predicted)):
            if fault := label_fault(label):
                raise TableError(f"not a mark: {fault}")
        return made


class MarkFile:
    """The marks of recordings, in a truth table and its journal.

    Parameters
    ----------
    table : str | Path
        Truth table, CSV; continued if it exists. Its journal is next to it.
    recordings : Sequence[str | Path]
        Recordings that are annotated. Marks of further recordings in the table are kept.

    Raises
    ------
    TableError
        If the table or the journal cannot be read, or the table names none of the recordings.
    OutputError
        If the table cannot be written.

    Examples
    --------
    >>> marks = barn_owl.annotation.MarkFile("by-hand.csv", ["night.wav"])
    >>> mark = barn_owl.annotation.Mark(mark="a", file="night.wav", start_s=1.0, end_s=2.0, label="hum")
    >>> marks.add(mark)
    >>> marks.write_table()
    >>> barn_owl.read_clip_table("by-hand.csv")["status"].tolist()
    ['marked']
    """

    def __init__(self, table: str | Path, recordings: Sequence[str | Path] = ()) -> None:
        self._table = checked_target(table, force=True, endings=(".csv",))
        self.journal = self._table.with_suffix(JOURNAL_ENDING)
        self.recordings = [str(recording) for recording in recordings]
        self._names = {name_of(recording): recording for recording in self.recordings}
        self._lock = RLock()
        self._marks: dict[str, Mark] = {}
        self._changed: dict[str, int] = {}
        self._written: set[str] = set()  # digests of the tables that follow from the journal
        self._read_bytes = self._count = 0
        self._continue()
        files = {mark.file for mark in self._marks.values()}
        if files and self.recordings and not files & set(self.recordings):
            raise TableError(f"{table} has marks of other recordings, such as {min(files)}; choose another table")
        append_lines(self.journal, [])  # refused before an hour of work, not after

    def _continue(self) -> None:
        """Read the journal; without one, or when another program changed the table since, the table itself."""
        there = is_file(self._table)
        if is_file(self.journal):
            digest = (
                _digest(self._table) if there else ""
            )  # before the journal, which knows of a table before it appears
            self.refresh()
            if not there or digest in self._written:
                return
            aside = self.journal.with_suffix(f".{datetime.now():%Y%m%d-%H%M%S}.jsonl")
            self.journal.rename(aside)
            self._marks, self._changed, self._read_bytes, self._count = {}, {}, 0, 0
            logger.warning(
                "%s was changed by another program: continuing with its rows; the marks before are in %s",
                self._table, aside.name,
            )  # fmt: skip
        if there and self._table.stat().st_size:
            self._add_rows(read_clip_table(self._table, may_be_empty=True), "marked")

    def __len__(self) -> int:
        return len(self._marks)

    def changes(self, since: int = 0) -> tuple[int, list[Mark]]:
        """Return the number of changes so far, and the marks that changed after the first `since` of them.

        Parameters
        ----------
        since : int
            Number of changes that are known.
        """
        with self._lock:
            changed = [self._marks[mark] for mark, number in self._changed.items() if number > since]
            return self._count, changed

    def add(self, mark: Mark) -> None:
        """Append a new mark, or the new state of a mark, to the journal, and flush it to disk.

        Parameters
        ----------
        mark : Mark
            Mark.

        Raises
        ------
        OutputError
            If the journal cannot be written.
        """
        with self._lock:
            self._append([mark])

    def propose(self, events: TableOrPath) -> int:
        """Add the events of a model as proposals, unless they were proposed before; return the number of new marks.

        Parameters
        ----------
        events : pd.DataFrame | str | Path
            Event table.

        Raises
        ------
        TableError
            If the table is invalid, or has no events of the recordings.
        """
        events = as_clip_table(events, "events")
        events = events[(events["label"] != "") & events["start_s"].notna() & events["end_s"].notna()]
        events = events.assign(file=self._known_files(events["file"]))
        if len(events) and not events["file"].isin(self.recordings).any():
            raise TableError(f"the event table has no events of {', '.join(self.recordings[:3])}")
        return self._add_rows(events[events["file"].isin(self.recordings)], "proposed")

    def _known_files(self, files: Sequence[str]) -> list[str]:
        """Return files under the names of the recordings: the same file, else the only recording of that name."""
        names = [Path(recording).name for recording in self.recordings]
        alone = {name: file for name, file in zip(names, self.recordings, strict=True) if names.count(name) == 1}
        known = {
            file: self._names.get(name_of(file), alone.get(Path(file).name, file)) for file in dict.fromkeys(files)
        }
        return [known[file] for file in files]

    def _add_rows(self, rows: pd.DataFrame, status: str) -> int:
        """Add rows of a table as marks, unless they are known; return the number of new marks."""
        timed = (rows["end_s"] > rows["start_s"]).to_numpy()
        if not timed.all():
            row = int(np.flatnonzero(~timed)[0]) + 1
            raise TableError(f"row {row} has no start_s and end_s, so it is no mark; choose another table")
        others = rows.drop(columns=[*(column.name for column in fields(Mark)), "unknown"], errors="ignore")
        others = others.astype(object).where(others.notna(), "").astype(str)
        cells = rows.reindex(columns=[STATUS, "predicted", "reviewer", "when"]).astype(object).fillna("").astype(str)
        marks: dict[str, Mark] = {}
        records, files = rows.to_dict("records"), self._known_files(rows["file"])
        further = zip(cells.to_dict("records"), others.to_dict("records"), strict=True)
        for row, (texts, other), file in zip(records, further, files, strict=True):
            own = texts[STATUS] if texts[STATUS] in STATUSES else status
            predicted = texts["predicted"] or (row["label"] if own == "proposed" else "")
            key = f"{file} {row['start_s']:.3f} {row['end_s']:.3f} {row['label'] or predicted} {own}"
            mark = hashlib.sha256(key.encode("utf-8", "backslashreplace")).hexdigest()[:ID_DIGITS]
            score = row.get("score")
            given = {
                **texts, "mark": mark, "file": file, "start_s": row["start_s"], "end_s": row["end_s"], "status": own,
                "label": "" if own == "proposed" else row["label"], "predicted": predicted,
                "score": None if score is None or pd.isna(score) else float(score),
                "more": {str(column): text for column, text in other.items() if text},
            }  # fmt: skip
            marks[mark] = Mark.checked(given)
        with self._lock:
            new = [mark for name, mark in marks.items() if name not in self._marks]
            self._append(new)
        return len(new)

    def _with_columns(self, mark: Mark) -> Mark:
        """Return a mark with the further columns of its earlier state."""
        before = self._marks.get(mark.mark)
        return mark if mark.more or before is None else replace(mark, more=before.more)

    def _append(self, marks: Sequence[Mark]) -> None:
        now = datetime.now().astimezone().isoformat(timespec="seconds")
        records = [asdict(mark) | {"when": mark.when or now} for mark in map(self._with_columns, marks)]
        for record, file in zip(
            records, relative_files((mark.file for mark in marks), self.journal.parent), strict=True
        ):
            record["file"] = file
        if records:
            append_lines(self.journal, records)
            self.refresh()

    def refresh(self) -> None:
        """Read what others appended to the journal."""
        with self._lock:
            if not is_file(self.journal):
                return
            with self.journal.open("rb") as file:
                file.seek(self._read_bytes)
                content = file.read()
            end = content.rfind(b"\n") + 1  # another process may be in the middle of a line
            self._read_bytes += end
            invalid, is_journal = 0, bool(self._marks or self._written)
            for line in filter(None, (line.strip(b" \r\t\0") for line in content[:end].split(b"\n"))):
                self._count += 1
                try:
                    record = json.loads(line)
                    is_journal |= isinstance(record, dict)
                    if isinstance(record, dict) and "table" in record:
                        self._written.add(str(record["table"]))
                        continue
                    mark = Mark.checked(record)
                except (ValueError, RecursionError, TableError):
                    invalid += 1
                    is_journal |= line.startswith(b"{")  # cut off by a crash
                    continue
                mark = replace(mark, file=self._loaded(mark.file))
                self._marks[mark.mark] = mark
                self._changed[mark.mark] = self._count
            if invalid and not is_journal:
                raise TableError(f"{self.journal} is not a journal of marks; choose another table, or move it away")
            if invalid:
                logger.warning("%s: skipped %d lines that are not marks", self.journal, invalid)

    def table(self) -> pd.DataFrame:
        """Return the marks as a truth table.

        True events have their label; sounds of none of the labels have a blank one and ``unknown`` ``yes``; proposals
        that are open or rejected and complete stretches have a blank label. Further columns: ``status``,
        ``predicted``, ``score``, ``reviewer``, ``when``.
        """
        with self._lock:
            marks = [mark for mark in self._marks.values() if mark.status != DELETED]
        names = [column.name for column in fields(Mark) if column.name not in ("mark", "more")]
        others = list(dict.fromkeys(column for mark in marks for column in mark.more))
        rows = pd.DataFrame(
            [{name: getattr(mark, name) for name in names} | mark.more for mark in marks], columns=[*names, *others]
        ).astype({"start_s": float, "end_s": float, "score": float})
        rows[others] = rows[others].fillna("")
        is_event = rows[STATUS].isin(EVENT_STATUSES)
        rows["unknown"] = np.where(is_event & (rows["label"] == ""), "yes", "")
        rows["label"] = rows["label"].where(is_event, "")
        return rows.sort_values(["file", "start_s", "end_s"], kind="stable", ignore_index=True)

    def write_table(self) -> None:
        """Write the truth table, whole or not at all.

        Raises
        ------
        OutputError
            If it cannot be written.
        """
        with self._lock:
            self.refresh()
            with atomic_write(self._table) as beside:
                write_clip_table(self.table(), beside, force=True)
                # Noted before the table appears: whichever table a crash leaves there, the journal knows it.
                append_lines(self.journal, [{"table": _digest(beside)}])

    def _loaded(self, file: str) -> str:
        path = file if is_remote(file) or Path(file).is_absolute() else str(self.journal.parent / file)
        return self._names.get(name_of(path), path)


def _digest(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()
