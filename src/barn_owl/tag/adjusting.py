"""Adjusting decoding settings to annotated recordings, cross-validated."""

import itertools
import math
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pandas as pd

from barn_owl.clips.completeness import begin_within, complete_stretches, marked_rows
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.clips.within import check_within
from barn_owl.errors import TableError
from barn_owl.evaluate import EventScores
from barn_owl.evaluate.events import ROUNDING_S, events_of, score_stretches
from barn_owl.model import DecodingSettings, Model
from barn_owl.model.loading import ModelLike, as_model
from barn_owl.parallel import each
from barn_owl.tag.event_classifier import Event
from barn_owl.tag.score_trace import ScoreTrace, compute_trace, decide, tag_trace

Goal = Literal["f1", "recall"]
GRID: dict[str, tuple[Any, ...]] = {
    "threshold": (0.05, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 0.95, 0.98),
    "release_threshold": (0.03, 0.05, 0.1, 0.2, 0.3, 0.5),
    "min_known_probability": (0.0, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9),
    "smoothing_s": (0.0, 0.1, 0.2, 0.4, 0.8, 1.2),
    "max_gap_s": (0.0, 0.1, 0.2, 0.4, 0.8, 1.2),
    "min_duration_s": (0.0, 0.05, 0.1, 0.2, 0.4, 0.8),
    "retrigger_threshold": (0.1, 0.2, 0.3, 0.5, 0.7, 1.0),
    "max_overlap": (0.5, 1.0, 0.2),
}
"""Values that are tried, key by key, until none improves the score."""
BEGINNINGS: tuple[dict[str, float], ...] = ({}, {"retrigger_threshold": 1.0, "max_gap_s": 0.4})
"""Settings that the search begins with, besides the model's: sounds with several onsets, such as knocks, as single
events."""
SHORT_SHARE = 0.5
"""Minimum duration as a share of the 10 % quantile of true durations."""
ONSETS = GRID["threshold"]
TURNS = 3
MIN_EVENTS = 8
"""Minimum number of true events for a label to get its onset threshold."""
NEGLIGIBLE_F1 = 0.003
"""F1 that counts for nothing: a setting is changed for more only."""
STANDARD_ERRORS = 1.0
"""Standard errors of F1 that the model's values may cost: among settings that are equal within chance, the least
changed is chosen (the one-standard-error rule: Breiman et al., Classification and Regression Trees, 1984). Recordings
with a truth table often have sounds like the training clips, so their best settings suit further recordings less."""
SHIFT_COLLAR_S = 0.3
"""Largest error of an event that counts for the onset and offset shift."""
RATES = ("f1", "precision", "recall", "false_alarms_per_hour")
PARTS = 4
"""Parts of a single recording; each is scored with settings chosen on the rest."""
HOUR_S = 3600.0


@dataclass(frozen=True, kw_only=True)
class Adjusted:
    """Result of adjusting decoding settings.

    Attributes
    ----------
    decoding : DecodingSettings
        The settings, from all recordings; the model's settings unless a change is significantly better.
    scores : EventScores
        With them, on the same recordings.
    cross_validated : pd.DataFrame
        F1, precision, recall and false alarms per hour on each recording (or part of a single recording) with
        settings chosen without it.
    before : pd.DataFrame
        The same with the settings of before.
    kept : bool
        Whether the model's settings stay.
    curve : pd.DataFrame
        Detections against false alarms per hour as the onset threshold moves.
    reached : bool
        Whether the goal of at most this many false alarms was kept.

    Examples
    --------
    >>> model = barn_owl.load_model("first")
    >>> adjusted = barn_owl.adjust(model, barn_owl.read_clip_table("truth.csv"))
    >>> adjusted.scores.f1
    1.0
    """

    decoding: DecodingSettings
    scores: EventScores
    cross_validated: pd.DataFrame
    before: pd.DataFrame
    kept: bool
    curve: pd.DataFrame
    reached: bool

    def _repr_html_(self) -> str:
        return str(self.cross_validated.round(3).to_html()) + str(self.curve.round(3).to_html())


def adjust(
    model: ModelLike,
    truth: TableOrPath,
    recordings: Sequence[str | Path] | None = None,
    *,
    goal: Goal = "f1",
    false_alarms_per_hour: float = 10.0,
    collar_s: float = 0.2,
    workers: int = 2,
    progress: Callable[[float, float], None] | None = None,
) -> Adjusted:
    """Find the decoding settings that score best on annotated recordings, cross-validated.

    Parameters
    ----------
    model : Model | Run | str | Path
        Model, run, or the path of either.
    truth : pd.DataFrame | str | Path
        True events of the recordings. If the table states complete stretches, only these are used.
    recordings : Sequence[str | Path] | None
        By default, the files that the table names.
    goal : Goal
        The best event F1 (with the least change, within chance), or the best recall with at most
        `false_alarms_per_hour`. Settings are chosen again without each recording and scored on it; a single recording
        is cut into four parts for that.
    false_alarms_per_hour : float | None
        Largest number of false alarms per hour, for the goal ``recall``.
    collar_s : float
        Largest onset error of a hit, in seconds.
    workers : int
        Number of parallel workers.
    progress : Callable[[float, float], None] | None
        Called with the number of recordings that are scored, and of all.

    Raises
    ------
    TableError
        If the truth table has no events of the model's labels, is of different recordings, or has times beyond their
        end.

    Examples
    --------
    >>> model = barn_owl.load_model("first")
    >>> truth = barn_owl.read_clip_table("truth.csv")
    >>> adjusted = barn_owl.adjust(model, truth)
    >>> adjusted.decoding.threshold, adjusted.decoding.release_threshold
    (0.6, 0.5)
    """
    model = as_model(model)
    truth = as_clip_table(truth, "truth")
    files = list(dict.fromkeys(truth["file"])) if recordings is None else [str(path) for path in recordings]
    strange = sorted(set(files) - set(truth["file"]))
    if strange:
        raise TableError(f"the truth table says nothing about {strange[0]}")
    stretches = complete_stretches(truth)
    wanted = events_of(marked_rows(truth)[lambda rows: rows["file"].isin(files)], "truth table")
    if stretches is not None:
        wanted = wanted[begin_within(wanted, stretches)]
        files = [file for file in files if file in set(stretches["file"])]
    if not wanted["label"].isin(model.event_labels).any():
        raise TableError(f"the truth table has no event of {', '.join(model.event_labels)}")
    traces = []
    for number, trace in enumerate(each(partial(compute_trace, model), files, workers, processes=workers > 1)):
        traces.append(trace)
        if progress:
            progress(number + 1, len(files))
    check_within(wanted, {trace.file: trace.duration_s for trace in traces}, where="truth table")
    return adjust_traces(
        model, traces, wanted, goal=goal, false_alarms_per_hour=false_alarms_per_hour, collar_s=collar_s,
        stretches=stretches,
    )  # fmt: skip


def adjust_traces(
    model: Model,
    traces: list[ScoreTrace],
    truth: pd.DataFrame,
    *,
    goal: Goal = "f1",
    false_alarms_per_hour: float = 10.0,
    collar_s: float = 0.2,
    stretches: pd.DataFrame | None = None,
) -> Adjusted:
    """Find the decoding settings that are best on traces of recordings; see `adjust`."""
    task = _Task(model, traces, truth, goal, false_alarms_per_hour, collar_s, by_label=True, stretches=stretches)
    parts, whole = task.parts(), task.whole()
    chosen = [
        task.best([part for name, others in parts.items() if name != left_out for part in others])
        for left_out in parts
    ]
    kept = goal == "f1" and not task.is_significantly_better(chosen)
    decoding = model.decoding if kept else task.best(whole)
    scores = task.judge(decoding, whole)

    def rates(settings: Iterable[DecodingSettings]) -> pd.DataFrame:
        rows = [(name, *task.rates(own, unit)) for (name, unit), own in zip(parts.items(), settings, strict=True)]
        return pd.DataFrame(rows, columns=["left_out", *RATES]).set_index("left_out")

    return Adjusted(
        decoding=decoding,
        scores=scores,
        cross_validated=rates(chosen),
        before=rates([model.decoding] * len(parts)),
        kept=kept,
        curve=task.curve(decoding, whole),
        reached=goal == "f1" or scores.false_alarms_per_hour <= false_alarms_per_hour,
    )


def best_decoding(
    model: Model, traces: list[ScoreTrace], truth: pd.DataFrame, *, collar_s: float = 0.2
) -> DecodingSettings:
    """Find the decoding settings with the best F1 on traces of recordings, the same for all labels."""
    task = _Task(model, traces, truth, "f1", 0.0, collar_s, by_label=False)
    return task.best(task.whole())


_Times = dict[str, np.ndarray]
"""Onsets and offsets of events by label, ``(events, 2)``, in order of time."""
_Part = tuple[int, float, float]
"""A stretch of a recording: its number, from when to when in seconds."""


class _Task:
    """The search: traces are computed once, and decided on again and again."""

    def __init__(
        self,
        model: Model,
        traces: list[ScoreTrace],
        truth: pd.DataFrame,
        goal: Goal,
        most: float,
        collar_s: float,
        *,
        by_label: bool,
        stretches: pd.DataFrame | None = None,
    ) -> None:
        self.by_label, self._stretches = by_label, stretches
        self.model, self.traces = model, traces
        self.goal, self.most, self.collar_s = goal, most, collar_s
        self._found: dict[tuple[int, str], _Times] = {}
        self._counts: dict[str, dict[_Part, tuple[int, int, int]]] = {}
        is_unknown = truth["label"].isin(model.ignored)
        if "unknown" in truth:
            is_unknown |= truth["unknown"].astype(object).fillna("").astype(str) != ""
        is_named = truth["label"] != ""
        self.truth = truth.assign(unknown=np.where(is_unknown, "yes", ""))[is_named | is_unknown]
        known = truth[is_named & ~is_unknown]
        self._true = [
            _by_label(known.loc[known["file"] == trace.file, ["label", "start_s", "end_s"]].itertuples(index=False))
            for trace in traces
        ]
        lengths = [end - start for one in self._true for own in one.values() for start, end in own]
        self._shortest_s = SHORT_SHARE * float(np.quantile(lengths or [0.0], 0.1))

    def parts(self) -> dict[str, list[_Part]]:
        """Units of the cross-validation: recordings, or parts of a single recording, by name."""
        if self._stretches is None:
            known = [(number, 0.0, trace.duration_s) for number, trace in enumerate(self.traces)]
        else:
            numbers = {trace.file: number for number, trace in enumerate(self.traces)}
            rows = self._stretches.itertuples(index=False, name=None)
            known = [(numbers[file], first, last) for file, first, last in rows if file in numbers]
        units: dict[str, list[_Part]] = {}
        if len({number for number, _, _ in known}) > 1:
            for part in known:
                units.setdefault(Path(self.traces[part[0]].file).name, []).append(part)
        elif len(known) > 1:
            for chosen in np.array_split(np.arange(len(known)), min(PARTS, len(known))):
                parts = [known[number] for number in chosen]
                units[f"{parts[0][1]:.0f} to {parts[-1][2]:.0f} s"] = parts
        else:
            edges = np.linspace(known[0][1], known[0][2], PARTS + 1)
            for first, last in itertools.pairwise(edges):
                units[f"{first:.0f} to {last:.0f} s"] = [(known[0][0], float(first), float(last))]
        return units

    def whole(self) -> list[_Part]:
        """All parts of all recordings."""
        return [part for parts in self.parts().values() for part in parts]

    def judge(self, settings: DecodingSettings, parts: Sequence[_Part]) -> EventScores:
        """Score the events of some parts."""
        truth, events, seconds = [], [], {}
        for number, first, last in parts:
            file = self.traces[number].file
            key = f"{file} {first:g}"  # parts of a recording count as recordings
            own = self.truth[(self.truth["file"] == file) & self.truth["start_s"].between(first, last, "left")]
            found = tag_trace(self.model, self.traces[number], decoding=settings)
            truth.append(own.assign(file=key))
            events.append(found[found["start_s"].between(first, last, "left")].assign(file=key))
            seconds[key] = last - first
        together = pd.concat(events, ignore_index=True)
        return score_stretches(pd.concat(truth, ignore_index=True), together, collar_s=self.collar_s, seconds=seconds)

    def _events(self, number: int, settings: DecodingSettings) -> _Times:
        """Events of a recording, by label."""
        key = number, settings.model_dump_json()
        if key not in self._found:
            self._found[key] = _by_label((e.label, e.start_s, e.end_s) for e in self._decided(number, settings))
        return self._found[key]

    def _decided(self, number: int, settings: DecodingSettings) -> list[Event]:
        return decide(self.model, self.traces[number], settings)

    def rates(self, settings: DecodingSettings, parts: Sequence[_Part]) -> tuple[float, float, float, float]:
        """Return F1, precision, recall and false alarms per hour of settings on some parts."""
        key = settings.model_dump_json()
        if key not in self._counts:
            self._counts[key] = {part: self._count(settings, part) for part in self.whole()}
        true, found, right = map(int, np.sum([self._counts[key][part] for part in parts], axis=0))
        hours = max(sum(last - first for _, first, last in parts), 1e-9) / HOUR_S
        return 2 * right / max(true + found, 1), right / max(found, 1), right / max(true, 1), (found - right) / hours

    def is_significantly_better(self, chosen: Sequence[DecodingSettings]) -> bool:
        """Return whether settings, cross-validated over the parts, have an F1 above the model's by more than a
        standard error; smaller gains do not carry over to further recordings."""
        own = [self.model.decoding] * len(chosen)
        true = sum(self._true_events(self.whole()).values())
        before, now = (self._without_test(settings) for settings in (own, chosen))
        return now > before + STANDARD_ERRORS * standard_error(before, true)

    def _without_test(self, chosen: Sequence[DecodingSettings]) -> float:
        """Return F1 over all parts, each with its settings."""
        counts = []
        for settings, parts in zip(chosen, self.parts().values(), strict=True):
            self.rates(settings, parts)
            counts += [self._counts[settings.model_dump_json()][part] for part in parts]
        true, found, right = map(int, np.sum(counts, axis=0))
        return 2 * right / max(true + found, 1)

    def worth(self, settings: DecodingSettings, parts: Sequence[_Part]) -> float:
        """How good settings are on some parts, by the goal."""
        f1, _, recall, alarms = self.rates(settings, parts)
        if self.goal == "f1":
            return f1
        return recall if alarms <= self.most else self.most - alarms

    def _count(self, settings: DecodingSettings, part: _Part) -> tuple[int, int, int]:
        """Return true events, reported events and hits of a part."""
        number, first, last = part
        found, true = (_between(times, first, last) for times in (self._events(number, settings), self._true[number]))
        nothing = np.empty((0, 2))
        right = sum(
            count_pairs(true.get(label, nothing)[:, 0], times[:, 0], self.collar_s) for label, times in found.items()
        )
        return sum(map(len, true.values())), sum(map(len, found.values())), right

    def best(self, parts: Sequence[_Part]) -> DecodingSettings:
        """Search from several beginnings, and take the best; then look for a threshold for each label."""
        own = self.model.decoding.model_copy(update={"labels": {}}) if self.by_label else self.model.decoding
        found = [self._climbed(tried, parts) for more in BEGINNINGS if (tried := self._with(own, **more)) is not None]
        settings, highest = max(found, key=lambda one: one[1])
        if not self.by_label:
            return settings
        settings = self._labels(settings, highest, parts)
        return self._least_changed(settings, parts) if self.goal == "f1" else settings

    def _least_changed(self, settings: DecodingSettings, parts: Sequence[_Part]) -> DecodingSettings:
        """Return to the model's values, the cheapest first, as long as the loss is within chance."""
        own, reached = self.model.decoding.model_dump(), self.worth(settings, parts)
        least = reached - STANDARD_ERRORS * standard_error(reached, sum(self._true_events(parts).values()))
        while True:
            now = settings.model_dump()
            back = [self._with(settings, **{key: own[key]}) for key in now if now[key] != own[key]]
            worth = [(self.worth(tried, parts), tried) for tried in back if tried is not None]
            reached, tried = max(worth, key=lambda one: one[0], default=(-math.inf, settings))
            if reached < least:
                return settings
            settings = tried

    def _climbed(self, settings: DecodingSettings, parts: Sequence[_Part]) -> tuple[DecodingSettings, float]:
        """Search values key by key, in rounds, then the shifts; return the settings and their score."""
        settings = self._shifted(settings, parts)
        highest = self.worth(settings, parts)
        for turn in range(TURNS):
            before = settings
            for key, values in GRID.items():
                for value in values:
                    if key == "min_duration_s" and value > self._shortest_s:
                        continue  # it would drop true events
                    if (
                        key == "min_known_probability"
                        and self.goal == "f1"
                        and value > self.model.decoding.min_known_probability
                    ):
                        continue  # sounds unlike the truth table are classified with less confidence
                    tried = self._with(settings, **{key: value})
                    if tried is not None and (reached := self.worth(tried, parts)) > highest + NEGLIGIBLE_F1:
                        settings, highest = tried, reached
            if turn == 0 or settings != before:
                settings = self._shifted(settings, parts)
                highest = self.worth(settings, parts)
            if settings == before:
                break
        return settings, highest

    def _shifted(self, settings: DecodingSettings, parts: Sequence[_Part]) -> DecodingSettings:
        """Move where events begin and end by how early or late they were found, in the median."""
        errors = []
        for number, first, last in parts:
            true = _between(self._true[number], first, last)
            for label, found in _between(self._events(number, settings), first, last).items():
                if len(true.get(label, ())) and len(found):
                    off = true[label][:, None, 0] - found[None, :, 0]
                    nearest = np.abs(off).argmin(axis=0)
                    error = true[label][nearest] - found
                    errors.append(error[np.abs(error[:, 0]) <= SHIFT_COLLAR_S])
        known = np.concatenate(errors) if errors else np.empty((0, 2))
        if len(known) < MIN_EVENTS:
            return settings
        onset_shift_s, offset_shift_s = np.median(known, axis=0)
        return settings.model_copy(
            update={
                "onset_shift_s": round(settings.onset_shift_s + float(onset_shift_s), 3),
                "offset_shift_s": round(settings.offset_shift_s + float(offset_shift_s), 3),
            }
        )

    def _true_events(self, parts: Sequence[_Part]) -> dict[str, int]:
        """Count the true events of each label in some parts."""
        counts: Counter[str] = Counter()
        for number, first, last in parts:
            counts.update({label: len(own) for label, own in _between(self._true[number], first, last).items()})
        return dict(sorted(counts.items()))

    def _labels(self, settings: DecodingSettings, highest: float, parts: Sequence[_Part]) -> DecodingSettings:
        counts = self._true_events(parts)
        for label, count in counts.items():
            if count < MIN_EVENTS:
                continue
            best, share = settings, count / sum(counts.values())
            # A label must gain more than chance to get its threshold, and twice that to have none.
            chance = standard_error(highest, count) * share
            for on in ONSETS:
                tried = self._with(settings, labels={**settings.model_dump()["labels"], label: {"threshold": on}})
                least = highest
                if best is settings:
                    least += chance * (1 if on > settings.threshold else 2)
                if tried is not None and (reached := self.worth(tried, parts)) > least + 1e-9:
                    best, highest = tried, reached
            settings = best
        return settings

    @staticmethod
    def _with(settings: DecodingSettings, **changes: Any) -> DecodingSettings | None:
        values = {**settings.model_dump(), **changes}
        if values["release_threshold"] > values["threshold"]:
            return None
        for own in values["labels"].values():
            if own.get("threshold") is not None and own["threshold"] < values["release_threshold"]:
                return None
        return DecodingSettings(**values)

    def curve(self, settings: DecodingSettings, parts: Sequence[_Part]) -> pd.DataFrame:
        """Recall and false alarms per hour for each onset threshold, all else as found."""
        rows = []
        for on in ONSETS:
            tried = self._with(settings, threshold=on, labels={})
            if tried is not None:
                rows.append((on, *self.rates(tried, parts)))
        return pd.DataFrame(rows, columns=["threshold", *RATES])


def _by_label(events: Iterable[tuple[str, float, float]]) -> _Times:
    times: dict[str, list[tuple[float, float]]] = {}
    for label, start_s, end_s in events:
        times.setdefault(str(label), []).append((start_s, end_s))
    return {label: np.array(sorted(own)) for label, own in times.items()}


def _between(times: _Times, first: float, last: float) -> _Times:
    """Events that begin from `first` on and before `last`."""
    return {label: own[slice(*np.searchsorted(own[:, 0], [first, last]))] for label, own in times.items()}


def standard_error(rate: float, count: int) -> float:
    """How far a rate over this many events is off by chance, as for a share of independent trials."""
    return math.sqrt(max(rate * (1 - rate), 0.0) / max(count, 1))


def count_pairs(true: np.ndarray, found: np.ndarray, collar_s: float) -> int:
    """Count the pairs in a maximum matching of onsets at most `collar_s` apart; both in order of time.

    Taking the earliest pair first is best on a line where all may be as far apart.
    """
    pairs = at = 0
    for onset in true:
        while at < len(found) and found[at] < onset - collar_s - ROUNDING_S:
            at += 1
        if at < len(found) and found[at] <= onset + collar_s + ROUNDING_S:
            pairs, at = pairs + 1, at + 1
    return pairs
