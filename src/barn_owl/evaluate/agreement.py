"""Agreement of two people who annotated the same recordings."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import pandas as pd

from barn_owl.clips.completeness import complete_stretches, marked_rows
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import TableError
from barn_owl.evaluate.events import EventScores, events_of, score_events


@dataclass(frozen=True, kw_only=True, eq=False)
class Agreement:
    """Agreement of two truth tables.

    Attributes
    ----------
    by_label : pd.DataFrame
        For each label: events of the ``first`` and the ``second`` table, ``agreed`` pairs, ``f1`` of one against the
        other, and ``kappa`` of the seconds in which the label sounds (J. Cohen, 1960); NaN if it never or always
        sounds in both.
    disagreements : pd.DataFrame
        Events of one table without a match in the other; ``marked_by`` is ``first`` or ``second``.
    seconds : float
        Length that was compared.

    Examples
    --------
    >>> agreement = barn_owl.evaluate.compare_annotations("truth.csv", "truth.csv", seconds={"night.wav": 14.0})
    >>> float(agreement.f1), len(agreement.disagreements)
    (1.0, 0)
    """

    by_label: pd.DataFrame
    disagreements: pd.DataFrame
    seconds: float

    @property
    def f1(self) -> float:
        """F1 of all events of one table against the other."""
        total = self.by_label["first"].sum() + self.by_label["second"].sum()
        return float(2 * self.by_label["agreed"].sum() / total) if total else float("nan")

    def _repr_html_(self) -> str:
        return str(self.by_label.round(3).to_html())


def compare_annotations(
    first: TableOrPath, second: TableOrPath, *, collar_s: float = 0.2, seconds: Mapping[str, float] | None = None
) -> Agreement:
    """Compare two truth tables of the same recordings: events by label and onset, and labels second by second.

    If both state complete stretches, the time that both annotated completely is compared; if one does, its stretches.

    Parameters
    ----------
    first, second : pd.DataFrame | str | Path
        Truth tables.
    collar_s : float
        Largest distance of the onsets of a pair, in seconds.
    seconds : Mapping[str, float] | None
        Length of each recording, by file; default: until the last time that a table names.

    Raises
    ------
    TableError
        If a table is invalid, or the two share no annotated time.

    Examples
    --------
    >>> compare_annotations = barn_owl.evaluate.compare_annotations
    >>> compare_annotations("truth.csv", "truth.csv").by_label["kappa"].round(3).unique().tolist()
    [1.0]
    """
    tables = [as_clip_table(first, "first"), as_clip_table(second, "second")]
    files = set(tables[0]["file"]) & set(tables[1]["file"])
    if not files:
        raise TableError("the two tables have no recording in common")
    tables = [table[table["file"].isin(files)] for table in tables]
    known = [stretches for table in tables if (stretches := complete_stretches(table)) is not None]
    marks = [marked_rows(table) for table in tables]
    ends = pd.concat(marks).groupby("file")["end_s"].max()
    lengths = {file: float((seconds or {}).get(file, ends.get(file, 0.0))) for file in sorted(files)}
    common = _common(known, lengths)
    if not len(common):
        raise TableError("the two tables have no complete stretch in common")
    complete = common.assign(label="", status="complete")
    events = [events_of(rows, "truth table") if len(rows) else rows for rows in marks]
    events = [rows[rows["label"] != ""].drop(columns="status", errors="ignore") for rows in events]
    truth = pd.concat([events[1].assign(status="marked"), complete], ignore_index=True)
    scores = score_events(events[0].drop(columns="score", errors="ignore"), truth, collar_s=collar_s, seconds=lengths)
    own = scores.by_label
    kappas = [_kappa([_sounding(rows, label, common) for rows in events]) for label in own.index]
    return Agreement(
        by_label=pd.DataFrame(
            {"first": own["detected"], "second": own["true"], "agreed": own["hits"], "f1": own["f1"], "kappa": kappas}
        ),
        disagreements=_disagreements(scores),
        seconds=float((common["end_s"] - common["start_s"]).sum()),
    )


def _common(known: list[pd.DataFrame], lengths: Mapping[str, float]) -> pd.DataFrame:
    """Return the stretches that all of the tables cover; whole recordings if none limits them."""
    common = pd.DataFrame([(file, 0.0, end) for file, end in lengths.items()], columns=["file", "start_s", "end_s"])
    for stretches in known:
        pairs = common.merge(stretches, on="file", suffixes=("", "_other"))
        pairs["start_s"] = pairs[["start_s", "start_s_other"]].max(axis=1)
        pairs["end_s"] = pairs[["end_s", "end_s_other"]].min(axis=1)
        common = pairs.loc[pairs["end_s"] > pairs["start_s"], ["file", "start_s", "end_s"]]
    return common


def _sounding(events: pd.DataFrame, label: str, stretches: pd.DataFrame) -> np.ndarray:
    """Return for each second of the stretches whether a label sounds in it."""
    seconds = []
    for file, first, last in stretches[["file", "start_s", "end_s"]].itertuples(index=False):
        count = max(1, int(np.ceil(last - first - 1e-9)))
        sounds = np.zeros(count, dtype=bool)
        own = events[(events["file"] == file) & (events["label"] == label)]
        for start, end in own[["start_s", "end_s"]].clip(first, last).itertuples(index=False):
            sounds[int(start - first) : int(np.ceil(end - first - 1e-9))] = True
        seconds.append(sounds)
    return np.concatenate(seconds)


def _kappa(sounding: list[np.ndarray]) -> float:
    """Return Cohen's kappa of two annotations of the same seconds: agreement beyond chance."""
    one, other = sounding
    chance = one.mean() * other.mean() + (1 - one.mean()) * (1 - other.mean())
    return float(((one == other).mean() - chance) / (1 - chance)) if chance < 1 else float("nan")


def _disagreements(scores: EventScores) -> pd.DataFrame:
    columns = ["file", "start_s", "end_s", "label"]
    parts = [
        scores.false_alarms[columns].assign(marked_by="first"),
        scores.misses[columns].assign(marked_by="second"),
    ]
    return pd.concat(parts).sort_values(["file", "start_s"], kind="stable", ignore_index=True)
