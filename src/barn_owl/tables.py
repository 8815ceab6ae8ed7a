"""The writer of all tables: CSV (RFC 4180, UTF-8), TSV or Parquet by ending, safe to open in a spreadsheet."""

import csv
import io
import os
import re
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import IO

import pandas as pd

from barn_owl.errors import OutputError
from barn_owl.files import atomic_write, checked_target
from barn_owl.wording import how_to_install

TABLE_ENDINGS = (".csv", ".tsv", ".txt", ".parquet", "")
"""Endings of tables that `write_table` writes; ``.txt`` and none are CSV."""
FORMULA = re.compile(r"'*[=+\-@\t\r]")
ESCAPED_FORMULA = re.compile(r"''*[=+\-@\t\r]")
NUMBER = re.compile(r"[+-]?(\d+[.,]?\d*|[.,]\d+)([eE][+-]?\d+)?\s*")


def write_table(
    table: pd.DataFrame,
    target: str | Path | IO[str],
    *,
    force: bool = False,
    endings: Sequence[str] = TABLE_ENDINGS,
    index: str = "",
) -> None:
    """Write the columns of a table atomically; an open text stream gets CSV.

    index : name of the first column, with the index of the table; blank to omit it.

    Raises OutputError for an ending that is not in `endings`, when `target` cannot be written, or exists and `force`
    is false.
    """
    if index:
        table = table.rename_axis(index).reset_index()
    if not isinstance(target, str | Path):
        _write_csv(table, target)
        return
    path = Path(target)
    checked_target(path, force=force, endings=endings)
    with atomic_write(path, force=force) as beside:
        if path.suffix.lower() == ".parquet":
            write_parquet(table, beside)
        else:
            with beside.open("w", encoding="utf-8", errors="backslashreplace", newline="") as stream:
                _write_csv(table, stream, separator="\t" if path.suffix.lower() == ".tsv" else ",")


def write_parquet(table: pd.DataFrame, path: str | Path) -> None:
    """Write the columns of a table as Parquet; raises OutputError without pyarrow."""
    try:
        table.to_parquet(path, index=False)
    except ImportError as error:
        raise OutputError(f"{path}: Parquet needs pyarrow; {how_to_install('parquet')}") from error


def append_rows(table: pd.DataFrame, file: IO[str]) -> None:
    """Append rows to an open CSV file and flush them to disk, so that a crash loses none."""
    file.write(csv_text(table, header=False))
    file.flush()
    os.fsync(file.fileno())


def csv_text(table: pd.DataFrame, *, header: bool = True) -> str:
    """Return the columns of a small table as CSV."""
    stream = io.StringIO()
    _write_csv(table, stream, header=header)
    return stream.getvalue()


def _write_csv(table: pd.DataFrame, stream: IO[str], *, header: bool = True, separator: str = ",") -> None:
    end = "\n" if separator == "\t" else "\r\n"
    safe_cells(table).to_csv(
        stream, index=False, header=header, sep=separator, lineterminator=end, quoting=csv.QUOTE_MINIMAL
    )


def safe_cells(table: pd.DataFrame) -> pd.DataFrame:
    """Put an apostrophe before cells and headings that a spreadsheet would treat as a formula.

    `plain_cells` removes it.
    """
    return _in_texts(table, FORMULA, lambda cell: cell if NUMBER.fullmatch(cell) else f"'{cell}")


def plain_cells(table: pd.DataFrame) -> pd.DataFrame:
    """Return cells and headings as they were before `safe_cells`."""
    return _in_texts(table, ESCAPED_FORMULA, lambda cell: cell[1:])


def _in_texts(table: pd.DataFrame, pattern: re.Pattern[str], change: Callable[[str], str]) -> pd.DataFrame:
    def matches(cell: object) -> bool:
        return isinstance(cell, str) and pattern.match(cell) is not None

    changed = {}
    for number, name in enumerate(table.columns):
        column = table.iloc[:, number]
        if column.dtype == object or isinstance(column.dtype, pd.StringDtype | pd.CategoricalDtype):
            found = [matches(cell) for cell in column]
            if any(found):
                changed[name] = [change(cell) if match else cell for cell, match in zip(column, found, strict=True)]
    if changed:
        table = table.assign(**changed)
    if any(map(matches, table.columns)):
        table = table.set_axis([change(name) if matches(name) else name for name in table.columns], axis=1)
    return table
