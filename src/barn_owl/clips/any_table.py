"""Reading tables of any columns: encodings, separators, CSV and Parquet."""

import codecs
import csv
import io
import logging
import re
from pathlib import Path
from typing import IO

import pandas as pd

from barn_owl.audio.remote import AUDIO_ENDINGS
from barn_owl.errors import TableError
from barn_owl.files import not_a_file
from barn_owl.tables import plain_cells
from barn_owl.wording import how_to_install, nearest_path

logger = logging.getLogger(__name__)

COLUMNS = ("file", "start_s", "end_s", "label", "group", "split", "score")
UTF16_MARKS = (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)
SPREADSHEET_MARKS = (b"PK\x03\x04", b"\xd0\xcf\x11\xe0")
"""First bytes of the files of spreadsheets: a ZIP archive, and a compound document."""
MOST_COLUMNS = 2000
TOO_MANY_CELLS = re.compile(r"Expected (\d+) fields in line (\d+), saw (\d+)")


def read_any_table(
    source: str | Path | IO[str], *, may_be_empty: bool = False, encoding: str | None = None
) -> pd.DataFrame:
    """Read a table with any columns; CSV cells stay text, so nothing is lost or guessed.

    The separator (comma, semicolon, tab, bar) is taken from the header line, or from a first line ``sep=;``.
    encoding : how its letters are written; None for UTF-16 by the byte-order mark, else UTF-8, else Windows-1252
    where nothing in the table is UTF-8, which is reported. Raises TableError when it cannot be read, or has no rows
    unless it `may_be_empty`.
    """
    if not isinstance(source, str | Path):
        return _parse_csv(source.read(), "standard input", may_be_empty=may_be_empty)
    path = Path(source)
    if why := not_a_file(path):
        raise TableError(f"{path} {why.replace('not a file', 'not a table of clips')}{nearest_path(path)}")
    if path.suffix.lower() == ".parquet":
        return _read_parquet(path)
    if path.suffix.lower() in AUDIO_ENDINGS:
        raise TableError(f"{path} is a sound file, not a table of clips")
    try:
        raw = path.read_bytes()
    except OSError as error:
        raise TableError(f"{path} cannot be read: {error.strerror or error}") from error
    return _parse_csv(_decoded(raw, path, encoding), str(path), may_be_empty=may_be_empty)


def _read_parquet(path: Path) -> pd.DataFrame:
    try:
        table = pd.read_parquet(path)
        for name in table:  # invalid UTF-8 is found only while parsing
            if isinstance(table[name].dtype, pd.StringDtype):
                table[name].to_numpy(dtype=object)
    except ImportError as error:
        raise TableError(f"{path}: reading Parquet needs pyarrow; {how_to_install('parquet')}") from error
    except Exception as error:  # parsers raise many types for damaged files
        raise TableError(f"{path} cannot be read as Parquet: {error}") from error
    return table


def _decoded(raw: bytes, path: Path, encoding: str | None) -> str:
    """Return the text of a table: UTF-8 or UTF-16 by its mark, by `encoding`, or by an encoding that fits the whole
    file."""
    if raw.startswith(SPREADSHEET_MARKS):
        raise TableError(f"{path} is a spreadsheet or an archive, not a text table; save it as CSV")
    try:
        text = raw.decode(encoding or ("utf-16" if raw[:2] in UTF16_MARKS else "utf-8-sig"))
    except LookupError:
        raise TableError(f"there is no encoding {encoding!r}; one such as utf-8, cp1252 or utf-16") from None
    except UnicodeDecodeError as error:
        text = _otherwise_decoded(raw, path, encoding, error)
    if "\0" in text:
        raise TableError(f"{path} is not a text table: it holds zero bytes; give a CSV or Parquet file")
    return text


def _otherwise_decoded(raw: bytes, path: Path, encoding: str | None, error: UnicodeDecodeError) -> str:
    """Return the text of a table as Windows-1252, unless its bytes contradict that."""
    line = raw[: error.start].count(b"\n")
    where = "its header" if line == 0 else f"row {line}"
    mend = "fix it, or name the encoding if the table has another encoding"
    if encoding is not None or raw[:2] in UTF16_MARKS:
        raise TableError(f"{path}, {where}: {error.reason}: the table is not in {error.encoding}")
    if re.search(rb"[\xc3-\xf4][\x80-\xbf]", raw):
        raise TableError(f"{path}, {where}: byte 0x{raw[error.start]:02x} is not UTF-8, which the rest is; {mend}")
    try:
        text = raw.decode("cp1252")
    except UnicodeDecodeError:
        raise TableError(f"{path}, {where}: byte 0x{raw[error.start]:02x} is not UTF-8; {mend}") from None
    logger.warning("%s is not UTF-8; read as Windows-1252 (%s is the first row where it matters)", path, where)
    return text


def _parse_csv(text: str, where: str, *, may_be_empty: bool) -> pd.DataFrame:
    if not text.strip():
        raise TableError(f"{where} is empty")
    header, _, rest = text.partition("\n")
    if re.fullmatch(r"sep=[,;\t|]\r?", header):  # a convention of spreadsheets
        text, separator = rest, header[4]
        header = text.partition("\n")[0]
    else:
        separator = max(",;\t|", key=header.count)
    _check_header(header, separator, where)
    try:
        table = pd.read_csv(
            io.StringIO(text, newline=""), sep=separator, dtype=str, keep_default_na=False, skipinitialspace=True
        )
    except (pd.errors.ParserError, pd.errors.EmptyDataError) as error:
        if found := TOO_MANY_CELLS.search(str(error)):
            expected, line, cells = map(int, found.groups())
            raise _too_many_cells(where, line - 1, cells, expected) from error
        raise TableError(f"{where} cannot be read as a table: {str(error).strip()}") from error
    if not isinstance(table.index, pd.RangeIndex):  # the first row has more cells than the header
        if table.iloc[:, -table.index.nlevels :].ne("").any(axis=None):
            raise _too_many_cells(where, 1, table.shape[1] + table.index.nlevels, table.shape[1])
        names, table = table.columns, table.reset_index().iloc[:, : table.shape[1]]
        table.columns = names
    if not len(table) and not may_be_empty:
        raise TableError(f"{where} has a header but no rows")
    return plain_cells(table.rename(columns=str.strip))


def _too_many_cells(where: str, row: int, cells: int, expected: int) -> TableError:
    return TableError(
        f"{where}, row {row}: {cells} cells, but the header has {expected}; put a text that holds the separator in "
        'double quotes: "bell, small"'
    )


def _check_header(header: str, separator: str, where: str) -> None:
    """Raise TableError for too many columns, and for a repeated standard column."""
    if header.count(separator) >= MOST_COLUMNS:
        raise TableError(f"{where} has {header.count(separator) + 1} columns; at most {MOST_COLUMNS} are read")
    try:
        names = [name.strip() for name in next(csv.reader([header], delimiter=separator), [])]
    except csv.Error as error:
        raise TableError(f"{where} cannot be read as a table: its header: {error}") from error
    for name in COLUMNS:
        places = [number for number, other in enumerate(names, start=1) if other == name]
        if len(places) > 1:
            raise TableError(f"{where} has two columns {name!r}, the {places[0]}. and the {places[1]}.; rename one")
