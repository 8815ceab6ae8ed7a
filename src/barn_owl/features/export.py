"""Features as files: a time column and named columns, in CSV, Parquet or NPZ, and back without loss."""

import tempfile
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import IO, Any, Self

import numpy as np
import pandas as pd

from barn_owl.arguments import as_array
from barn_owl.arrays import read_npz
from barn_owl.errors import AudioError, TableError
from barn_owl.features.front_end import FrontEnd
from barn_owl.files import atomic_write, checked_target
from barn_owl.tables import csv_text, plain_cells, write_table

ENDINGS = (".csv", ".parquet", ".npz")


def frame_table(front_end: FrontEnd, frames: np.ndarray) -> pd.DataFrame:
    """Return frames as a table: ``time_s``, the center of each frame, then a column per feature.

    Parameters
    ----------
    front_end : FrontEnd
        Front end.
    frames : np.ndarray
        Frames of the front end, float32, ``(frames, width)``.

    Examples
    --------
    >>> front_end = barn_owl.FrontEnd()
    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> barn_owl.features.frame_table(front_end, front_end.frames(samples[:16000])).shape
    (61, 49)
    """
    table = pd.DataFrame(as_array("frames", frames, None, front_end.width), columns=front_end.columns)
    table.insert(0, "time_s", front_end.times(len(frames)))
    return table


def write_features(table: pd.DataFrame, path: str | Path, *, force: bool = False) -> None:
    """Write a table of features, by the ending of `path`, atomically.

    ``.csv`` opens in a spreadsheet; ``.parquet`` keeps types; ``.npz`` has ``columns``, their names in order, and an
    array for each: ``number:NAME`` or ``text:NAME``.

    Parameters
    ----------
    table : pd.DataFrame
        Table of features.
    path : str | Path
        File: .csv, .parquet or .npz.
    force : bool
        Whether existing files are overwritten.

    Raises
    ------
    OutputError
        For another ending, or when the file cannot be written.

    Examples
    --------
    >>> table = pd.DataFrame({"time_s": [0.0, 0.01], "level": [-40.0, -41.0]})
    >>> barn_owl.features.write_features(table, "features.parquet")
    """
    path = Path(path)
    if path.suffix.lower() != ".npz":
        write_table(table, path, force=force, endings=ENDINGS)
        return
    with atomic_write(path, force=force) as beside:
        _write_npz(table, beside)


def write_frames(
    front_end: FrontEnd,
    blocks: Iterable[np.ndarray],
    path: str | Path,
    *,
    force: bool = False,
    progress: Callable[[float], None] | None = None,
) -> int:
    """Write the frames of a recording of any length as `write_features` would, in bounded memory.

    Parameters
    ----------
    front_end : FrontEnd
        Front end.
    blocks : Iterable[np.ndarray]
        Blocks of frames, as from `FrontEnd.frame_blocks`; for the columns see `frame_table`.
    path : str | Path
        File: .csv, .parquet or .npz.
    force : bool
        Whether existing files are overwritten.
    progress : Callable[[float], None] | None
        Called with the seconds that are written.

    Returns
    -------
    int
        How many frames there were.

    Raises
    ------
    OutputError
        If the file cannot be written.
    AudioError
        If there is no frame.

    Examples
    --------
    >>> front_end = barn_owl.FrontEnd()
    >>> sound = barn_owl.audio.stream_audio("night.wav", rate_hz=front_end.rate_hz)
    >>> barn_owl.features.write_frames(front_end, front_end.frame_blocks(sound), "frames.csv")
    874
    """
    path = Path(path)
    checked_target(path, force=force, endings=ENDINGS)
    writer: Any = {".csv": _CsvWriter, ".parquet": _ParquetWriter, ".npz": _NpzWriter}[path.suffix.lower()]
    count = 0
    with atomic_write(path, force=force) as beside, writer(beside) as out:
        for frames in blocks:
            table = frame_table(front_end, frames)
            table["time_s"] = front_end.times(count + len(frames))[count:]
            if len(frames):
                out.add(table)
            count += len(frames)
            if progress:
                progress(count * front_end.hop_s)
        if not count:
            raise AudioError(
                f"the sound is too short for one frame of {front_end.frame_ms:g} ms; pad_short fills it up"
            )
    return count


class _CsvWriter:
    """A CSV that is written part by part."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def __enter__(self) -> Self:
        self._file = self._path.open("w", encoding="utf-8", newline="")
        self._begun = False
        return self

    def add(self, table: pd.DataFrame) -> None:
        self._file.write(csv_text(table, header=not self._begun))
        self._begun = True

    def __exit__(self, *_: object) -> None:
        self._file.close()


class _ParquetWriter:
    """A Parquet file, a row group a part."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._file: Any = None

    def __enter__(self) -> Self:
        return self

    def add(self, table: pd.DataFrame) -> None:
        import pyarrow as pa
        import pyarrow.parquet as pq

        part = pa.Table.from_pandas(table, preserve_index=False)
        if self._file is None:
            self._file = pq.ParquetWriter(self._path, part.schema)
        self._file.write_table(part)

    def __exit__(self, *_: object) -> None:
        if self._file is not None:
            self._file.close()


class _NpzWriter:
    """Writer of NPZ files whose arrays grow in temporary files until their lengths are known."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def __enter__(self) -> Self:
        self._columns: dict[str, tuple[np.dtype[Any], IO[bytes]]] = {}
        return self

    def add(self, table: pd.DataFrame) -> None:
        for name in table:
            values = table[name].to_numpy()
            if name not in self._columns:
                self._columns[name] = values.dtype, tempfile.TemporaryFile()  # noqa: SIM115 - closed at the end
            self._columns[name][1].write(np.ascontiguousarray(values).tobytes())

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        try:
            if kind is None:
                arrays: dict[str, Any] = {"columns": np.array(list(self._columns), dtype=str)}
                for name, (dtype, file) in self._columns.items():
                    file.flush()
                    arrays[f"number:{name}"] = np.memmap(file, dtype, mode="r")
                np.savez_compressed(self._path, **arrays)
        finally:
            for _dtype, file in self._columns.values():
                file.close()


def _write_npz(table: pd.DataFrame, path: Path) -> None:
    numeric = [name for name in table if table[name].dtype.kind in "fiu"]
    texts = [name for name in table if name not in numeric]
    arrays = {f"number:{name}": table[name].to_numpy() for name in numeric}
    arrays |= {f"text:{name}": table[name].astype(str).to_numpy(dtype=str) for name in texts}
    np.savez_compressed(path, columns=np.array(list(table.columns), dtype=str), **arrays)


def read_features(path: str | Path) -> pd.DataFrame:
    """Read a table that `write_features` wrote; numbers of a CSV come back as float64, equal when cast.

    Parameters
    ----------
    path : str | Path
        File: .csv, .parquet or .npz.

    Raises
    ------
    TableError
        If the file is missing or is something else.

    Examples
    --------
    >>> table = pd.DataFrame({"time_s": [0.0, 0.01], "level": [-40.0, -41.0]})
    >>> barn_owl.features.write_features(table, "features.csv")
    >>> barn_owl.features.read_features("features.csv").shape
    (2, 2)
    """
    path = Path(path)
    try:
        if path.suffix == ".csv":
            return _numbers_where_possible(plain_cells(pd.read_csv(path, dtype=str, keep_default_na=False)))
        if path.suffix == ".parquet":
            return pd.read_parquet(path)
        arrays = read_npz(path)
        columns = arrays.pop("columns").tolist()
        kinds = {name.partition(":")[2]: array for name, array in arrays.items()}
        return pd.DataFrame({name: kinds[name] for name in columns})
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
