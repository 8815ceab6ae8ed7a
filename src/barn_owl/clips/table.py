"""The clip table: excerpts of sound files with labels.

In memory, paths in the column ``file`` are relative to the working folder; on disk, to the folder of the table where
possible, so that a folder with its table can be moved.
"""

import logging
import os
import re
from collections.abc import Callable, Iterable, Mapping
from functools import cache
from pathlib import Path
from typing import IO, Any, TypeAlias

import numpy as np
import pandas as pd

from barn_owl.audio.remote import is_remote
from barn_owl.clips.any_table import COLUMNS, read_any_table
from barn_owl.clips.splits import SPLITS
from barn_owl.errors import TableError
from barn_owl.files import not_a_file
from barn_owl.names import as_text, closed_url, is_closed_url, label_fault, shortened, table_name
from barn_owl.tables import write_table

logger = logging.getLogger(__name__)


NUMBERS = ("start_s", "end_s", "score")
DECIMAL_COMMA = re.compile(r"^(\s*-?\d+),(\d+\s*)$")
CLOCK = re.compile(r"(?:(\d+):)?([0-5]?\d):([0-5]?\d(?:[.,]\d*)?)")
"""A time as minutes and seconds, or hours, minutes and seconds."""
TableOrPath: TypeAlias = pd.DataFrame | str | Path
"""Type of arguments that are clip tables: see `as_clip_table`."""
MAX_TIME_S = 1e9
"""Largest time in a table, in seconds: 31 years."""
SHOWN_FAULTS = 5
"""Largest number of faults in a message: enough to see their pattern."""


def check_clip_table(clips: pd.DataFrame, *, where: str = "clip table") -> pd.DataFrame:
    """Return `clips` in the standard form, validated; the argument is not changed.

    The result has ``file``, ``start_s``, ``end_s`` and ``label`` (blank when absent), then ``group``, ``split`` and
    ``score`` where present, then further columns unchanged. Times are float64 seconds with NaN for blank; texts are
    stripped strings, blank is ``""``. Repeated rows, by all standard columns, are dropped with a warning in the log.

    Parameters
    ----------
    clips : pd.DataFrame
        Clip table.
    where : str
        Name of the table in messages.

    Raises
    ------
    TableError
        That names the first faulty rows, counted from 1.

    Examples
    --------
    >>> table = barn_owl.clips.check_clip_table(pd.DataFrame({"file": ["a.wav"], "label": ["bell"]}))
    >>> sorted(table.columns)
    ['end_s', 'file', 'label', 'start_s']
    """
    table = _standard(clips, where)
    # Nothing can be there twice where each file is there once.
    return table if len(set(table["file"])) == len(table) else _without_repeats(table, where)


def as_clip_table(clips: TableOrPath, name: str = "clips") -> pd.DataFrame:
    """Return an argument of a public function as a clip table in the standard form.

    Rows keep their order and number, whatever the index of the argument; repeated rows stay.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        A table, or the path of a table to read.
    name : str
        Name of the argument in messages.

    Raises
    ------
    TableError
        If the table cannot be read, or a row is faulty.
    TypeError
        If the argument is neither a table nor a path.

    Examples
    --------
    >>> table = pd.DataFrame({"file": ["a.wav", "b.wav"], "label": [1, 2]}, index=["x", "x"])
    >>> barn_owl.clips.as_clip_table(table)["label"].tolist()
    ['1', '2']
    """
    if isinstance(clips, str | Path):
        return read_clip_table(clips, may_be_empty=True)
    if not isinstance(clips, pd.DataFrame):
        raise TypeError(f"{name} must be a pandas DataFrame or the path of a table, got {type(clips).__name__}")
    return _standard(clips, name)


def require_columns(table: pd.DataFrame, columns: Iterable[str], name: str) -> None:
    """Raise TableError when a table lacks a column; `name` is its name in the message."""
    missing = [column for column in columns if column not in table]
    if missing:
        known = ", ".join(map(str, table.columns))
        raise TableError(f"{name}: no column {missing[0]!r} among the columns {known}")


def _standard(clips: pd.DataFrame, where: str) -> pd.DataFrame:
    if "file" not in clips.columns:
        known = ", ".join(map(str, clips.columns)) or "none"
        raise TableError(f"{where}: no column 'file' among the columns {known}; it names the sound files")
    if clips.columns.has_duplicates:
        twice = clips.columns[clips.columns.duplicated()][0]
        raise TableError(f"{where}: the column {twice!r} is there more than once")
    columns: dict[str, Any] = {}
    for name in COLUMNS:
        if name in NUMBERS and (name in clips.columns or name != "score"):
            columns[name] = _numbers(clips, name, where)
        elif name in clips.columns:
            columns[name] = _texts(clips[name])
        elif name == "label":
            columns[name] = ""
    columns |= {name: clips[name].to_numpy() for name in clips.columns if name not in COLUMNS}
    _check_rows(columns, where)
    table = pd.DataFrame(columns, index=pd.RangeIndex(len(clips)))
    if not len(table):  # without rows, pandas takes columns of text for numbers
        table = table.astype({name: str for name in columns if name in COLUMNS and name not in NUMBERS})
    return table


def _texts(column: "pd.Series[str]") -> list[str]:
    try:
        codes, values = pd.factorize(column)  # most columns repeat few values
    except TypeError:  # lists, for example
        return [_text(value) for value in column]
    texts = np.array([*map(_text, values), ""], dtype=object)  # the last place is for blanks, whose code is -1
    return list(texts[codes])


def _text(value: Any) -> str:
    if isinstance(value, str):
        return as_text(value.strip())
    blank = pd.isna(value)
    return "" if isinstance(blank, bool | np.bool_) and blank else str(value).strip()


def _numbers(clips: pd.DataFrame, name: str, where: str) -> np.ndarray:
    """Return the column as float64, a blank as NaN."""
    if name not in clips.columns:
        return np.full(len(clips), np.nan)
    column = clips[name]
    if column.dtype == object or isinstance(column.dtype, pd.StringDtype):
        # Some spreadsheets write a comma for the decimal point.
        column = column.map(lambda value: _number_text(value, name) if isinstance(value, str) else value)
    numbers = pd.to_numeric(column, errors="coerce").to_numpy(dtype=np.float64, na_value=np.nan)
    given = np.array([text != "" for text in _texts(column)], dtype=bool)
    _refuse(
        where, given & ~np.isfinite(numbers), lambda row: f"{name} must be a number, got {_repr(column.iloc[row])}"
    )
    return numbers


def _number_text(text: str, name: str) -> str:
    """Return a number as Python writes it: with a decimal point, and a time on the clock in seconds."""
    clock = CLOCK.fullmatch(text.strip()) if name != "score" else None
    if clock:
        hours, minutes, seconds = clock.groups()
        return str(3600 * int(hours or 0) + 60 * int(minutes) + float(seconds.replace(",", ".")))
    return DECIMAL_COMMA.sub(r"\1.\2", text)


def _repr(value: Any) -> str:
    return shortened(repr(value))


def _check_rows(columns: Mapping[str, Any], where: str) -> None:
    start, end = columns["start_s"], columns["end_s"]
    _refuse(where, [file == "" for file in columns["file"]], lambda _: "file is blank")
    faults = [label_fault(label) for label in columns["label"]]
    _refuse(where, [fault != "" for fault in faults], lambda row: faults[row])
    latest = np.fmax(np.nan_to_num(start), np.nan_to_num(end))
    _refuse(where, latest > MAX_TIME_S, lambda row: f"times must be at most {MAX_TIME_S:g} s, got {latest[row]:g}")
    _refuse(where, start < 0, lambda row: f"start_s must not be negative, got {start[row]:g}")
    _refuse(
        where,
        end <= np.nan_to_num(start),
        lambda row: (
            f"end_s must be after start_s={np.nan_to_num(start[row]):g}, got {end[row]:g}; "
            "leave both blank for the whole file"
        ),
    )
    if "split" in columns:
        _refuse(
            where,
            [split not in (*SPLITS, "") for split in columns["split"]],
            lambda row: f"split must be {', '.join(SPLITS)} or blank, got {shortened(columns['split'][row])!r}",
        )
    if "score" in columns:
        score = columns["score"]
        _refuse(where, (score < 0) | (score > 1), lambda row: f"score must be 0 to 1, got {score[row]:g}")


def _refuse(where: str, faulty: np.ndarray | list[bool], say: Callable[[int], str]) -> None:
    """Raise TableError when any row is faulty, showing the first few."""
    rows = np.flatnonzero(faulty)
    if len(rows):
        lines = [f"{where}, row {row + 1}: {say(int(row))}" for row in rows[:SHOWN_FAULTS]]
        if len(rows) > SHOWN_FAULTS:
            lines.append(f"... and {len(rows) - SHOWN_FAULTS} more rows like this")
        raise TableError("\n".join(lines))


def _without_repeats(table: pd.DataFrame, where: str) -> pd.DataFrame:
    repeated = table.duplicated([name for name in COLUMNS if name in table])
    if not repeated.any():
        return table
    first = int(np.flatnonzero(repeated)[0])
    logger.warning(
        "%s: %d rows repeat an earlier one (first: row %d) and are dropped", where, repeated.sum(), first + 1
    )
    return table[~repeated].reset_index(drop=True)


def read_clip_table(source: str | Path | IO[str], *, may_be_empty: bool = False, urls: bool = False) -> pd.DataFrame:
    """Read and validate a clip table from CSV (RFC 4180, UTF-8), or Parquet by ending.

    Paths in ``file`` are resolved against the folder of the table (for an open stream: the current folder).

    Parameters
    ----------
    source : str | Path | IO[str]
        Path, or open text stream of CSV.
    may_be_empty : bool
        Whether a header without rows will do, as for a table of events where there were none.
    urls : bool
        Whether files that are URLs may be opened. Otherwise a stranger's table could make requests from this machine:
        readers refuse these files, and `write_clip_table` writes the URLs unchanged.

    Raises
    ------
    TableError
        If the table cannot be read or a row is faulty.

    Examples
    --------
    >>> len(barn_owl.read_clip_table("clips.csv"))
    48
    """
    table = read_any_table(source, may_be_empty=may_be_empty)
    where = "standard input" if not isinstance(source, str | Path) else str(source)
    clips = check_clip_table(table, where=where)
    folder = Path(source).parent if isinstance(source, str | Path) else Path()
    named = [file if is_remote(file) else _below(folder, file) for file in clips["file"]]
    clips["file"] = named if urls else closed_urls(named, where)
    return clips


def _below(folder: Path, file: str) -> str:
    """Return the path of a file of a table; backslashes separate folders where the table comes from Windows."""
    path = os.path.normpath(folder / file)
    if "\\" in file and not_a_file(path):
        slashed = os.path.normpath(folder / file.replace("\\", "/"))
        return path if not_a_file(slashed) else slashed
    return path


def closed_urls(files: Iterable[str], where: str) -> list[str]:
    """Close the URLs among the files of a table; see `barn_owl.names.closed_url`. A warning counts them."""
    closed = [closed_url(file) if is_remote(file) else file for file in files]
    count = sum(map(is_closed_url, closed))
    if count:
        logger.warning("%s: %d rows name URLs, such URLs are opened only on request", where, count)
    return closed


def write_clip_table(clips: pd.DataFrame, target: str | Path | IO[str], *, force: bool = False) -> None:
    """Write a clip table as CSV, or Parquet by ending, atomically.

    Files on the same tree as the table are named relative to its folder. `target` may be an open text stream; paths
    are then written as they are.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    target : str | Path | IO[str]
        Path, or open text stream for CSV.
    force : bool
        Whether existing files are overwritten.

    Raises
    ------
    TableError
        For a faulty table.
    OutputError
        If `target` cannot be written, or exists and `force` is false.

    Examples
    --------
    >>> barn_owl.write_clip_table(barn_owl.read_clip_table("clips.csv"), "copy.csv")
    """
    clips = check_clip_table(clips)
    if isinstance(target, str | Path):
        clips["file"] = relative_files(clips["file"], Path(target).parent)
    write_table(clips, target, force=force)


def relative_files(files: Iterable[str], folder: Path) -> list[str]:
    """Name files relative to `folder`, with forward slashes; absolute where they share only the root."""
    here = folder.absolute()

    @cache  # many files share a folder
    def named(parent: str) -> Path:
        there = Path(os.path.normpath(Path(parent).absolute()))
        return there if here.parts[:2] != there.parts[:2] else Path(os.path.relpath(there, here))

    def one(file: str) -> str:
        if is_closed_url(file):
            return table_name(file)
        parent, name = os.path.split(file)
        return (named(parent) / name).as_posix()

    return [file if is_remote(file) else one(file) for file in files]
