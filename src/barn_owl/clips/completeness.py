"""Which stretches of recordings are annotated completely: rows of a truth table, and their use.

A table of `barn_owl.annotation.MarkFile` has a column ``status``. Its rows ``complete`` are stretches in which every
event is marked; nothing is known about sounds outside of them. A table without such a column is complete.
"""

import numpy as np
import pandas as pd

from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import TableError

STATUS, COMPLETE = "status", "complete"
EVENT_STATUSES = ("marked", "confirmed", "corrected")
"""Statuses of true events: marked by hand; proposed by a model and confirmed, or corrected."""
OPEN_STATUSES = ("proposed", "rejected")
"""Statuses of events that a model proposed and that are not true, or not known to be."""
STATUSES = (*EVENT_STATUSES, *OPEN_STATUSES, COMPLETE)


def complete_stretches(truth: TableOrPath) -> pd.DataFrame | None:
    """Return the completely annotated stretches of a truth table; None if the table does not limit them.

    Parameters
    ----------
    truth : pd.DataFrame | str | Path
        A clip table. Rows with the ``status`` ``complete`` are such stretches.

    Returns
    -------
    pd.DataFrame | None
        ``file``, ``start_s`` and ``end_s`` of the stretches in order, without overlaps.

    Raises
    ------
    TableError
        If the table has marks but no complete stretch, so that no part of a recording is known to be free of events.

    Examples
    --------
    >>> rows = [("a.wav", 0.0, 60.0, "", "complete"), ("a.wav", 3.0, 4.0, "bell", "marked")]
    >>> table = pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label", "status"])
    >>> barn_owl.clips.complete_stretches(table)["end_s"].tolist()
    [60.0]
    """
    table = as_clip_table(truth, "truth")
    if STATUS not in table or not table[STATUS].isin(STATUSES).any():
        return None
    rows = table.loc[table[STATUS] == COMPLETE, ["file", "start_s", "end_s"]]
    if not len(rows):
        raise TableError(
            "the truth table has marks but no complete stretch: mark as complete where every event is marked"
        )
    if rows[["start_s", "end_s"]].isna().any(axis=None):
        raise TableError("the truth table has a complete stretch without start_s or end_s")
    merged: list[list[object]] = []
    for file, start_s, end_s in rows.sort_values(["file", "start_s"], kind="stable").itertuples(index=False):
        if merged and merged[-1][0] == file and start_s <= merged[-1][2]:
            merged[-1][2] = max(merged[-1][2], end_s)
        else:
            merged.append([file, start_s, end_s])
    return pd.DataFrame(merged, columns=["file", "start_s", "end_s"])


def complete_minutes(truth: pd.DataFrame) -> float | None:
    """Return how many minutes a truth table states as complete; None if it does not limit them."""
    stretches = complete_stretches(truth)
    return None if stretches is None else float((stretches["end_s"] - stretches["start_s"]).sum()) / 60


def marked_rows(truth: pd.DataFrame) -> pd.DataFrame:
    """Return the rows of a truth table that are marks of sounds: all but complete stretches."""
    return truth if STATUS not in truth else truth[truth[STATUS] != COMPLETE]


def event_rows(truth: pd.DataFrame) -> pd.DataFrame:
    """Return the rows of a truth table that are true events; of a table without statuses, all."""
    if STATUS not in truth or not truth[STATUS].isin(STATUSES).any():
        return truth
    return truth[~truth[STATUS].isin([*OPEN_STATUSES, COMPLETE])]


def begin_within(events: pd.DataFrame, stretches: pd.DataFrame, margin_s: float = 0.0) -> np.ndarray:
    """Return for each event whether it begins in a stretch, or at most `margin_s` seconds from one."""
    inside = np.zeros(len(events), dtype=bool)
    starts, files = events["start_s"].to_numpy(), events["file"].to_numpy()
    for file, own in stretches.groupby("file"):
        first, last = (own[name].to_numpy() for name in ("start_s", "end_s"))
        rows = np.flatnonzero(files == file)
        nearest = np.searchsorted(first, starts[rows] + margin_s, side="right") - 1
        inside[rows] = (nearest >= 0) & (starts[rows] < last[np.maximum(nearest, 0)] + margin_s)
    return inside


def incomplete_stretches(stretches: pd.DataFrame, lengths: dict[str, float]) -> pd.DataFrame:
    """Return the rest of each recording, outside of its complete stretches; lengths : seconds of each file."""
    rows = []
    for file, length_s in lengths.items():
        own = stretches[stretches["file"] == file]
        edges = np.r_[0.0, own[["start_s", "end_s"]].to_numpy().ravel(), length_s].reshape(-1, 2)
        rows += [(file, first, last) for first, last in edges if last > first]
    return pd.DataFrame(rows, columns=["file", "start_s", "end_s"]).assign(label="")


def truth_within(truth: pd.DataFrame, lengths: dict[str, float]) -> pd.DataFrame:
    """Return the marks of a truth table and, as marks without a label, all that is not known to be complete."""
    stretches = complete_stretches(truth)
    if stretches is None:
        return truth
    return pd.concat([marked_rows(truth), incomplete_stretches(stretches, lengths)], ignore_index=True)
