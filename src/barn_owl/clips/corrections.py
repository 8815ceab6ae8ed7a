"""Applying corrected labels to a clip table."""

import itertools
from collections.abc import Sequence
from pathlib import Path, PurePosixPath

import numpy as np
import pandas as pd

from barn_owl.clips.any_table import read_any_table
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import TableError

NEEDED = ("file", "correct_label")
CLOSE_S = 5e-4
"""Half of the last digit that tables write of a second."""


def read_corrections(path: str | Path) -> pd.DataFrame:
    """Read a table of corrections: ``file``, ``correct_label`` and, for excerpts, ``start_s`` and ``end_s``.

    Rows whose ``correct_label`` is blank are skipped.

    Parameters
    ----------
    path : str | Path
        Table of corrections.

    Raises
    ------
    TableError
        If a column is missing.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv").head(1)
    >>> barn_owl.write_clip_table(clips.assign(correct_label="tick"), "corrections.csv")
    >>> len(barn_owl.clips.read_corrections("corrections.csv"))
    1
    """
    table = read_any_table(path)
    missing = [name for name in NEEDED if name not in table]
    if missing:
        raise TableError(f"{path} has no column {missing[0]!r}; corrections need file and correct_label")
    table = table[table["correct_label"].fillna("").astype(str).str.strip() != ""].reset_index(drop=True)
    for name in ("start_s", "end_s"):
        table[name] = pd.to_numeric(table[name], errors="coerce") if name in table else np.nan
    return table


def correct_labels(clips: TableOrPath, corrections: pd.DataFrame) -> tuple[pd.DataFrame, int]:
    """Apply corrected labels to a clip table; return it and the number of changed rows.

    A correction belongs to the clip with the same times and the longest common end of the path, so the table of
    corrections may be in any folder.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    corrections : pd.DataFrame
        Table with ``file``, ``correct_label`` and, for excerpts, times.

    Raises
    ------
    TableError
        If a correction fits no clip, or clips with different paths.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> wrong = clips.head(1).assign(correct_label="tick")
    >>> corrected, changed = barn_owl.clips.correct_labels(clips, wrong)
    >>> changed, corrected["label"].iloc[0]
    (1, 'tick')
    """
    clips = as_clip_table(clips, "clips")
    paths = [PurePosixPath(Path(file).as_posix()).parts for file in clips["file"]]
    by_name: dict[str, list[int]] = {}
    for row, parts in enumerate(paths):
        by_name.setdefault(parts[-1], []).append(row)
    labels = clips["label"].to_numpy(dtype=object).copy()
    for number, line in enumerate(corrections.itertuples(), start=1):
        own = [part for part in PurePosixPath(Path(str(line.file)).as_posix()).parts if part not in ("..", ".")]
        near = [
            row for row in by_name.get(own[-1] if own else "", [])
            if _same(clips["start_s"][row], line.start_s) and _same(clips["end_s"][row], line.end_s)
        ]  # fmt: skip
        alike = [_common_end(paths[row], own) for row in near]
        found = [row for row, length in zip(near, alike, strict=True) if length == max(alike)]
        if not found:
            raise TableError(f"correction {number}: no clip of the table is {line.file} at these times")
        if len({paths[row] for row in found}) > 1:
            raise TableError(f"correction {number}: {line.file} could be several files; give more of its path")
        labels[found] = str(line.correct_label).strip()
    changed = int((labels != clips["label"].to_numpy(dtype=object)).sum())
    return clips.assign(label=labels), changed


def _common_end(path: Sequence[str], other: Sequence[str]) -> int:
    """Count the parts that two paths have in common at their ends."""
    pairs = zip(reversed(path), reversed(other), strict=False)
    return sum(1 for _ in itertools.takewhile(lambda pair: pair[0] == pair[1], pairs))


def _same(one: float, other: float) -> bool:
    return bool((np.isnan(one) and np.isnan(other)) or abs(one - other) < CLOSE_S)
