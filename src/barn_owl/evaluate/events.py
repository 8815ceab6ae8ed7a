"""Events against a truth table."""

from dataclasses import dataclass

import numpy as np
import pandas as pd
from scipy.sparse import csr_array
from scipy.sparse.csgraph import maximum_bipartite_matching

from barn_owl.clips import check_clip_table
from barn_owl.errors import TableError


@dataclass(frozen=True, kw_only=True)
class EventScores:
    """How well events were found.

    by_label : ``true``, ``found``, ``right``, precision, recall and F1 for each label; matches : pairs of row
    numbers of truth and events, with the onset error in seconds.
    """

    by_label: pd.DataFrame
    matches: pd.DataFrame

    @property
    def precision(self) -> float:
        """Share of right ones among the events found; 0 when none was found."""
        return _share(self.by_label["right"].sum(), self.by_label["found"].sum())

    @property
    def recall(self) -> float:
        """Share found of the true events."""
        return _share(self.by_label["right"].sum(), self.by_label["true"].sum())

    @property
    def f1(self) -> float:
        """Harmonic mean of precision and recall over all events."""
        sums = self.by_label[["right", "found", "true"]].sum()
        return _share(2 * sums["right"], sums["found"] + sums["true"])


def _share(part: float, whole: float) -> float:
    return float(part / whole) if whole else 0.0


def score_events(truth: pd.DataFrame, events: pd.DataFrame, *, collar_s: float = 0.2) -> EventScores:
    """Judge events against the true ones of the same recordings by label and onset.

    An event is right when it has the label of a true one in the same file whose onset is at most `collar_s`
    seconds away, one to one; of all ways to pair them up one with the most pairs is taken. Rows of `truth`
    that have a column ``foreign`` that is not blank mark sounds of no label: they are not looked for.

    Raises TableError for faulty tables, or when the events are of files the truth says nothing about.
    """
    truth = _with_times(truth, "truth table")
    events = _with_times(events, "event table") if len(events) else truth.iloc[:0]
    if "foreign" in truth:
        truth = truth[truth["foreign"].fillna("").astype(str) == ""]
    unknown = sorted(set(events["file"]) - set(truth["file"]))
    if unknown:
        raise TableError(
            f"the truth table says nothing about {unknown[0]}; its files: {', '.join(sorted(set(truth['file'])))}"
        )
    pairs = []
    for _, of_truth in truth.groupby(["file", "label"]):
        file, label = of_truth["file"].iloc[0], of_truth["label"].iloc[0]
        found = events[(events["file"] == file) & (events["label"] == label)]
        pairs += _pairs(of_truth["start_s"], found["start_s"], collar_s)
    matches = pd.DataFrame(pairs, columns=["truth", "event", "onset_error_s"])
    labels = sorted(set(truth["label"]) | set(events["label"]))
    right = truth.loc[matches["truth"].astype(int), "label"].value_counts()
    counts = pd.DataFrame(
        {
            "true": truth["label"].value_counts().reindex(labels, fill_value=0),
            "found": events["label"].value_counts().reindex(labels, fill_value=0),
            "right": right.reindex(labels, fill_value=0),
        }
    ).rename_axis("label")
    counts["precision"] = [
        _share(right, found) for right, found in zip(counts["right"], counts["found"], strict=True)
    ]
    counts["recall"] = [_share(right, true) for right, true in zip(counts["right"], counts["true"], strict=True)]
    counts["f1"] = [_share(2 * row.right, row.found + row.true) for row in counts.itertuples()]
    return EventScores(by_label=counts, matches=matches)


def _with_times(table: pd.DataFrame, where: str) -> pd.DataFrame:
    table = check_clip_table(table, where=where)
    blank = np.flatnonzero(table["start_s"].isna() | table["end_s"].isna())
    if len(blank):
        raise TableError(f"{where}, row {blank[0] + 1}: start_s and end_s must be given for an event")
    return table


def _pairs(true: "pd.Series[float]", found: "pd.Series[float]", collar_s: float) -> list[tuple[int, int, float]]:
    """Pair up onsets within the collar, as many as possible; row labels of both and the error."""
    error = found.to_numpy()[None, :] - true.to_numpy()[:, None]
    # Times are written to the millisecond; an error of exactly the collar counts whatever its last bit.
    near = np.abs(error) <= collar_s + 1e-9
    if not near.any():
        return []
    partner = maximum_bipartite_matching(csr_array(near), perm_type="column")
    return [
        (int(true.index[row]), int(found.index[column]), float(error[row, column]))
        for row, column in enumerate(partner)
        if column >= 0
    ]
