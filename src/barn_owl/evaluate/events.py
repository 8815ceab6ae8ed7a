"""Events against a truth table."""

import logging
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd
import scipy

from barn_owl.clips import check_clip_table
from barn_owl.clips.completeness import begin_within, complete_stretches, marked_rows
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.clips.within import check_within
from barn_owl.errors import TableError
from barn_owl.evaluate.intervals import draw, interval
from barn_owl.evaluate.scores import plain, plain_number

logger = logging.getLogger(__name__)

ROUNDS = 1000
HOUR_S = 3600.0
ROUNDING_S = 1e-9
"""Tolerance of the collar: times are written to the millisecond."""


@dataclass(frozen=True, kw_only=True, eq=False)
class EventScores:
    """Event-based scores of a table of events.

    Attributes
    ----------
    truth, events : pd.DataFrame
        The tables that were compared; `truth` without unknown sounds.
    matches : pd.DataFrame
        Pairs of row labels of both with the errors of onset, offset and length in seconds.
    unknown : pd.DataFrame
        The unknown sounds of the truth table, with ``raised``, the label of an event that each raised, or "".
    seconds : dict[str, float]
        Length of each recording, by file.

    Examples
    --------
    >>> scores = barn_owl.score_events("events.csv", "truth.csv")
    >>> len(scores.truth), len(scores.matches) <= len(scores.events)
    (4, True)
    """

    truth: pd.DataFrame
    events: pd.DataFrame
    matches: pd.DataFrame
    unknown: pd.DataFrame
    seconds: dict[str, float]

    @cached_property
    def by_label(self) -> pd.DataFrame:
        """Counts ``true``, ``detected``, ``hits``, precision, recall, F1 and ``false_alarms_per_hour`` by label."""
        labels = sorted(set(self.truth["label"]) | set(self.events["label"]))
        right = self.truth.loc[self.matches["truth"].astype(int), "label"].value_counts()
        counts = pd.DataFrame(
            {
                "true": self.truth["label"].value_counts().reindex(labels, fill_value=0),
                "detected": self.events["label"].value_counts().reindex(labels, fill_value=0),
                "hits": right.reindex(labels, fill_value=0),
            }
        ).rename_axis("label")
        pairs = list(zip(counts["hits"], counts["detected"], counts["true"], strict=True))
        counts["precision"] = [_share(right, found) for right, found, _ in pairs]
        counts["recall"] = [_share(right, true) for right, _, true in pairs]
        counts["f1"] = [_share(2 * right, found + true) for right, found, true in pairs]
        counts["false_alarms_per_hour"] = [(found - right) / self.hours for right, found, _ in pairs]
        return counts

    @property
    def hours(self) -> float:
        """Length of all recordings together."""
        return max(sum(self.seconds.values()), 1e-9) / HOUR_S

    @property
    def precision(self) -> float:
        """Share of hits among the events; 0 without events."""
        return _share(len(self.matches), len(self.events))

    @property
    def recall(self) -> float:
        """Share found of the true events."""
        return _share(len(self.matches), len(self.truth))

    @property
    def f1(self) -> float:
        """Harmonic mean of precision and recall over all events."""
        return _share(2 * len(self.matches), len(self.events) + len(self.truth))

    @property
    def false_alarms_per_hour(self) -> float:
        """False alarms per hour of recording."""
        return (len(self.events) - len(self.matches)) / self.hours

    @property
    def unknown_share(self) -> float:
        """Share of the unknown sounds that raised an event; NaN when the truth names none."""
        return float((self.unknown["raised"] != "").mean()) if len(self.unknown) else float("nan")

    @cached_property
    def misses(self) -> pd.DataFrame:
        """Rows of the truth that no event matches."""
        return self.truth.drop(index=self.matches["truth"])

    @cached_property
    def false_alarms(self) -> pd.DataFrame:
        """Events that match nothing, the highest score first."""
        wrong = self.events.drop(index=self.matches["event"])
        return wrong.sort_values("score", ascending=False, kind="stable") if "score" in wrong else wrong

    def confusion(self, collar_s: float = 0.2) -> pd.DataFrame:
        """Return the number of events by true label (rows) and reported label (columns), for events with a matching
        onset.

        Parameters
        ----------
        collar_s : float
            Largest distance of onsets, in seconds.
        """
        pairs = []
        for file in self.seconds:
            true, found = self.truth[self.truth["file"] == file], self.events[self.events["file"] == file]
            pairs += _pairs(true, found, collar_s, None)
        labels = list(self.by_label.index)
        table = pd.DataFrame(0, index=labels, columns=labels)
        for true_row, event_row, *_ in pairs:
            table.loc[self.truth.loc[true_row, "label"], self.events.loc[event_row, "label"]] += 1
        return table

    def intervals(self, *, rounds: int = ROUNDS, seed: int = 0) -> pd.DataFrame:
        """Value and 95 % interval of precision, recall, F1 and false alarms per hour.

        From a bootstrap over recordings; NaN with a single recording.

        Parameters
        ----------
        rounds : int
            Bootstrap rounds.
        seed : int
            Seed of all random choices.
        """
        files = list(self.seconds)
        counts = np.array(
            [
                [(self.truth["file"] == file).sum(), (self.events["file"] == file).sum(), matched, self.seconds[file]]
                for file, matched in ((file, self._matched_pairs(file)) for file in files)
            ],
            dtype=np.float64,
        )
        _, drawn = draw(np.arange(len(files)), rounds, np.random.default_rng(seed))
        values, spread = _ratios(counts.sum(axis=0)[None])[:, 0], _ratios(drawn.T @ counts)
        ends = np.full((2, 4), np.nan) if len(files) < 2 else np.array(interval(spread, len(files), inside=False))
        names = ["precision", "recall", "f1", "false_alarms_per_hour"]
        return pd.DataFrame({"value": values, "low": ends[0], "high": ends[1]}, index=pd.Index(names, name="score"))

    def _matched_pairs(self, file: str) -> int:
        return int((self.truth.loc[self.matches["truth"].astype(int), "file"] == file).sum())

    @property
    def errors(self) -> pd.DataFrame:
        """Quantiles of the absolute error of onset and offset, and of the error of the length, in seconds."""
        table = self.matches[["onset_error_s", "offset_error_s", "length_error_s"]].copy()
        table[["onset_error_s", "offset_error_s"]] = table[["onset_error_s", "offset_error_s"]].abs()
        return table.quantile([0.1, 0.5, 0.9]).rename_axis("quantile")

    def as_dict(self) -> dict[str, Any]:
        """All scores as plain numbers for JSON."""
        unknown = {"sounds": len(self.unknown), "raised": int((self.unknown["raised"] != "").sum())}
        return {
            "true": len(self.truth), "detected": len(self.events), "hits": len(self.matches), "hours": self.hours,
            "scores": plain(self.intervals()),
            "median_onset_error_s": plain_number(self.matches["onset_error_s"].abs().median()),
            "median_offset_error_s": plain_number(self.matches["offset_error_s"].abs().median()),
            "labels": {str(label): row for label, row in self.by_label.astype(object).to_dict("index").items()},
            "unknown": unknown,
        }  # fmt: skip

    def _repr_html_(self) -> str:
        return str(self.intervals().round(3).to_html()) + str(self.by_label.round(3).to_html())


def _ratios(counts: np.ndarray) -> np.ndarray:
    true, found, right, seconds = counts.T
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.stack(
            [
                np.where(found > 0, right / found, 0),
                np.where(true > 0, right / true, 0),
                np.where(true + found > 0, 2 * right / (true + found), 0),
                (found - right) / seconds * HOUR_S,
            ]
        )


def _share(part: float, whole: float) -> float:
    return float(part / whole) if whole else 0.0


def score_events(
    events: TableOrPath,
    truth: TableOrPath,
    *,
    collar_s: float = 0.2,
    offset_share: float | None = None,
    seconds: Mapping[str, float] | None = None,
) -> EventScores:
    """Compare events with a truth table by label and onset.

    An event is a hit when a true event in the same file has its label and an onset at most `collar_s` seconds away;
    events are paired to maximize the number of hits. With `offset_share`, the offset must match, too, within that
    share of the true length or the collar, whichever is longer. Rows of `truth` with a non-blank column ``unknown``
    mark sounds of no label: they need not be found, but are reported if an event overlaps them and no true event of
    its label. Unlabeled rows are no events, as in reviewed tables; they state that a file has none. If `truth` states
    complete stretches (see `complete_stretches`), only events that begin in these are scored.

    Parameters
    ----------
    events : pd.DataFrame | str | Path
        Detected events: a clip table with times and labels.
    truth : pd.DataFrame | str | Path
        True events. If they have scores and `events` has none, a warning in the log says that the two may be swapped.
    collar_s : float
        Largest onset error of a hit, in seconds.
    offset_share : float | None
        Largest offset error of a hit, as a share of the true length; None to ignore offsets.
    seconds : Mapping[str, float] | None
        Length of each recording, by file; default: until the last time that a table names.

    Raises
    ------
    TableError
        For faulty tables, for times beyond the end of a recording, or for events of files that the truth does not
        mention.

    Examples
    --------
    >>> truth = barn_owl.read_clip_table("truth.csv")
    >>> barn_owl.score_events(truth, truth, seconds={"night.wav": 14.0}).f1
    1.0
    """
    events, truth = as_clip_table(events, "events"), as_clip_table(truth, "truth")
    if "score" in truth and "score" not in events:
        logger.warning("the truth table has scores and the event table has none: are the two swapped?")
    for table, where in ((truth, "truth table"), (events, "event table")):
        if len(table):
            check_within(events_of(table, where), seconds or {}, where=where)
    if (stretches := complete_stretches(truth)) is not None:
        truth, events = marked_rows(truth), events_of(events, "event table") if len(events) else events
        truth = truth[begin_within(truth, stretches)]
        events = events[_counts_within(events, truth, stretches, collar_s)]
        seconds = (stretches["end_s"] - stretches["start_s"]).groupby(stretches["file"]).sum().to_dict()
    return score_stretches(truth, events, collar_s=collar_s, offset_share=offset_share, seconds=seconds)


def _counts_within(events: pd.DataFrame, truth: pd.DataFrame, stretches: pd.DataFrame, collar_s: float) -> np.ndarray:
    """Whether each event begins in a complete stretch, or just outside at a true event in it."""
    counts = begin_within(events, stretches)
    for row in np.flatnonzero(begin_within(events, stretches, collar_s) & ~counts):
        event = events.iloc[row]
        near = (truth["start_s"] - event["start_s"]).abs() <= collar_s + ROUNDING_S
        counts[row] = (near & (truth["file"] == event["file"]) & (truth["label"] == event["label"])).any()
    return counts


def score_stretches(
    truth: pd.DataFrame,
    events: pd.DataFrame,
    *,
    collar_s: float = 0.2,
    offset_share: float | None = None,
    seconds: Mapping[str, float] | None = None,
) -> EventScores:
    """Score events of stretches of recordings, with times in the whole recordings; see `score_events`."""
    files = truth["file"].astype(str)
    truth = events_of(truth, "truth table")
    events = events_of(events, "event table") if len(events) else truth.iloc[:0]
    unknown = truth.iloc[:0]
    if "unknown" in truth:
        is_unknown = truth["unknown"].astype(object).fillna("").astype(str) != ""
        unknown, truth = truth[is_unknown], truth[~is_unknown]
    named = {**dict.fromkeys(files), **dict.fromkeys(seconds or {})}
    strangers = sorted(set(events["file"]) - set(named))
    if strangers:
        raise TableError(f"the truth table says nothing about {strangers[0]}; its files: {', '.join(sorted(named))}")
    twice = _overlap_of_one_label(truth)
    if twice:
        logger.warning("truth table: %s; each counts as an event of its own", twice)
    pairs = []
    for (file, label), of_truth in truth.groupby(["file", "label"], sort=False):
        found = events[(events["file"] == file) & (events["label"] == label)]
        pairs += _pairs(of_truth, found, collar_s, offset_share)
    columns = ["truth", "event", "onset_error_s", "offset_error_s", "length_error_s"]
    ends = pd.concat([table.groupby("file")["end_s"].max() for table in (truth, events, unknown)])
    lengths = {str(file): float(end) for file, end in ends.groupby(level=0).max().items()}
    return EventScores(
        truth=truth,
        events=events,
        matches=pd.DataFrame(pairs, columns=columns),
        unknown=unknown.assign(raised=[_raised(row, events, truth) for row in unknown.itertuples()]),
        seconds={file: float((seconds or {}).get(file, lengths.get(file, 0.0))) for file in named},
    )


def _overlap_of_one_label(truth: pd.DataFrame) -> str:
    """Return which two rows of a label overlap by more than rounding, in words; "" when none do."""
    for (file, label), own in truth.sort_values("start_s").groupby(["file", "label"], sort=False):
        before, after = own["end_s"].to_numpy()[:-1], own["start_s"].to_numpy()[1:]
        wrong = np.flatnonzero(after < before - 1e-3)
        if len(wrong):
            at = wrong[0]
            return f"{label} in {file} at {after[at]:g} s begins before the one before it ends ({before[at]:g} s)"
    return ""


def _raised(row: Any, events: pd.DataFrame, truth: pd.DataFrame) -> str:
    """Label of the first false alarm that overlaps an unknown sound, or ""."""
    for event in events[_multilabel(row, events)].itertuples():
        if not _multilabel(event, truth[truth["label"] == event.label]).any():
            return str(event.label)
    return ""


def _multilabel(row: Any, others: pd.DataFrame) -> pd.Series:
    return (others["file"] == row.file) & (others["start_s"] < row.end_s) & (others["end_s"] > row.start_s)


def events_of(table: pd.DataFrame, where: str) -> pd.DataFrame:
    """Return labeled rows, and rows of unknown sounds. Raises TableError for rows without times."""
    table = check_clip_table(table, where=where)
    is_event = table["label"] != ""
    if "unknown" in table:
        is_event |= table["unknown"].astype(object).fillna("").astype(str) != ""
    table = table[is_event]
    blank = np.flatnonzero(table["start_s"].isna() | table["end_s"].isna())
    if len(blank):
        raise TableError(f"{where}, row {table.index[blank[0]] + 1}: start_s and end_s must be given for an event")
    return table


def _pairs(
    true: pd.DataFrame, found: pd.DataFrame, collar_s: float, offset_share: float | None
) -> list[tuple[int, int, float, float, float]]:
    """Pair up events, as many as possible; row labels of both, and the errors of onset, offset and length."""
    onset = found["start_s"].to_numpy()[None, :] - true["start_s"].to_numpy()[:, None]
    offset = found["end_s"].to_numpy()[None, :] - true["end_s"].to_numpy()[:, None]
    near = np.abs(onset) <= collar_s + ROUNDING_S
    if offset_share is not None:
        length = (true["end_s"] - true["start_s"]).to_numpy()[:, None]
        near &= np.abs(offset) <= np.maximum(offset_share * length, collar_s) + ROUNDING_S
    if not near.any():
        return []
    partner = scipy.sparse.csgraph.maximum_bipartite_matching(scipy.sparse.csr_array(near), perm_type="column")
    return [
        (
            int(true.index[row]),
            int(found.index[column]),
            float(onset[row, column]),
            float(offset[row, column]),
            float(offset[row, column] - onset[row, column]),
        )
        for row, column in enumerate(partner)
        if column >= 0
    ]


def score_segments(
    events: TableOrPath, truth: TableOrPath, *, segment_s: float = 1.0, seconds: Mapping[str, float] | None = None
) -> pd.DataFrame:
    """Compute segment-based scores: compare active labels in segments of `segment_s`.

    Parameters
    ----------
    events, truth : pd.DataFrame | str | Path
        See `score_events`.
    segment_s : float
        Length of a segment in seconds.
    seconds : Mapping[str, float] | None
        See `score_events`.

    Returns
    -------
    pd.DataFrame
        Precision, recall, F1 and the counts of segments by label, with a last row ``all`` of the sums. A label is
        active in a segment when it is active in any part of it.

    Examples
    --------
    >>> truth = barn_owl.read_clip_table("truth.csv")
    >>> float(barn_owl.evaluate.score_segments(truth, truth, seconds={"night.wav": 14.0})["f1"].min())
    1.0
    """
    whole = score_events(events, truth, seconds=seconds)
    labels = list(whole.by_label.index)
    counts = np.zeros((len(labels), 3))
    for file, length in whole.seconds.items():
        steps = max(1, int(np.ceil(length / segment_s)))
        marked = [
            _marked(table[table["file"] == file], labels, steps, segment_s) for table in (whole.truth, whole.events)
        ]
        counts += np.stack([marked[0].sum(1), marked[1].sum(1), (marked[0] & marked[1]).sum(1)], axis=1)
    table = pd.DataFrame(counts, index=pd.Index(labels, name="label"), columns=["true", "detected", "hits"])
    table.loc["all"] = table.sum()
    table["precision"] = [_share(row.hits, row.detected) for row in table.itertuples()]
    table["recall"] = [_share(row.hits, row.true) for row in table.itertuples()]
    table["f1"] = [_share(2 * row.hits, row.detected + row.true) for row in table.itertuples()]
    return table.astype({"true": int, "detected": int, "hits": int})


def _marked(table: pd.DataFrame, labels: list[str], steps: int, segment_s: float) -> np.ndarray:
    marks = np.zeros((len(labels), steps), dtype=bool)
    for row in table.itertuples():
        first, last = int(row.start_s / segment_s + 1e-9), int(np.ceil(row.end_s / segment_s - 1e-9))
        marks[labels.index(str(row.label)), first : max(last, first + 1)] = True
    return marks
