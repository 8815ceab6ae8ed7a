"""Features as files: a time column and named columns, in CSV, Parquet or NPZ, and back without loss."""

from pathlib import Path

import numpy as np
import pandas as pd

from barn_owl.errors import OutputError, TableError
from barn_owl.features.front_end import FrontEnd
from barn_owl.files import whole_file
from barn_owl.wording import how_to_install

ENDINGS = (".csv", ".parquet", ".npz")


def frame_table(front_end: FrontEnd, frames: np.ndarray) -> pd.DataFrame:
    """Frames as a table: ``time_s``, the middle of each frame, then a column a feature.

    >>> front_end = barn_owl.FrontEnd()
    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> barn_owl.frame_table(front_end, front_end.frames(samples[:16000])).shape
    (97, 49)
    """
    table = pd.DataFrame(frames, columns=front_end.columns)
    table.insert(0, "time_s", front_end.times(len(frames)))
    return table


def write_features(table: pd.DataFrame, path: str | Path, *, force: bool = True) -> None:
    """Write a table of features by the ending of `path`, whole or not at all.

    ``.csv`` opens in a spreadsheet; ``.parquet`` keeps types; ``.npz`` holds ``columns``, their
    names in order, and an array for each: ``number:NAME`` or ``text:NAME``.
    Raises OutputError for another ending, or when the file cannot be written.

    >>> table = pd.DataFrame({"time_s": [0.0, 0.01], "level": [-40.0, -41.0]})
    >>> barn_owl.write_features(table, "features.parquet")
    """
    path = Path(path)
    if path.suffix not in ENDINGS:
        raise OutputError(
            f"{path}: features are written as {', '.join(ENDINGS)}, not {path.suffix or 'without ending'}"
        )
    with whole_file(path, force=force) as beside:
        if path.suffix == ".csv":
            table.to_csv(beside, index=False, lineterminator="\r\n", errors="backslashreplace")
        elif path.suffix == ".npz":
            _write_npz(table, beside)
        else:
            try:
                table.to_parquet(beside, index=False)
            except ImportError as error:
                raise OutputError(f"{path}: Parquet needs pyarrow; {how_to_install('parquet')}") from error


def _write_npz(table: pd.DataFrame, path: Path) -> None:
    numeric = [name for name in table if table[name].dtype.kind in "fiu"]
    texts = [name for name in table if name not in numeric]
    arrays = {f"number:{name}": table[name].to_numpy() for name in numeric}
    arrays |= {f"text:{name}": table[name].astype(str).to_numpy(dtype=str) for name in texts}
    np.savez_compressed(path, columns=np.array(list(table.columns), dtype=str), **arrays)


def read_features(path: str | Path) -> pd.DataFrame:
    """Read a table that `write_features` wrote; numbers of a CSV come back as float64, equal when cast.

    Raises TableError when the file is missing or is something else.

    >>> table = pd.DataFrame({"time_s": [0.0, 0.01], "level": [-40.0, -41.0]})
    >>> barn_owl.write_features(table, "features.csv")
    >>> barn_owl.read_features("features.csv").shape
    (2, 2)
    """
    path = Path(path)
    try:
        if path.suffix == ".csv":
            return _numbers_where_possible(pd.read_csv(path, dtype=str, keep_default_na=False))
        if path.suffix == ".parquet":
            return pd.read_parquet(path)
        with np.load(path, allow_pickle=False) as arrays:
            kinds = {name.partition(":")[2]: arrays[name] for name in arrays.files if name != "columns"}
            return pd.DataFrame({name: kinds[name] for name in arrays["columns"].tolist()})
    except (OSError, ValueError, KeyError, pd.errors.ParserError) as error:
        raise TableError(f"{path} cannot be read as a table of features: {error}") from error


def _numbers_where_possible(table: pd.DataFrame) -> pd.DataFrame:
    """Columns of text as float64 where every cell is a number or blank; NumPy reads each to the last bit."""
    columns = {}
    for name in table:
        cells = table[name].to_numpy(dtype=object)
        try:
            columns[name] = np.array([float(cell) if cell else np.nan for cell in cells])
        except ValueError:
            columns[name] = cells
    return pd.DataFrame(columns)
