"""From scores over time to events.

Something sounds for as long as the score that any label does, averaged over a moment, stays above ``off``, if it
reaches ``on`` meanwhile. It begins where the onset score is highest near there, and begins again, as another event,
where that rises to ``again``. What it is called is said by the whole of it, and what goes on under the same name
within the gap is one event. Where several labels may sound at once, each is followed by itself instead, and keeps its
name.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from barn_owl.classifiers.base import named
from barn_owl.errors import PlanError
from barn_owl.model import DecisionSettings, Model
from barn_owl.network import softmax
from barn_owl.tag.trace import TraceBlock

NEAR_S = 0.5
"""Time before and after the first step above ``off`` in which the onset is looked for."""
PEAK_S = 0.12
"""Time before and after an onset in which there is no other."""
JOINED_S = 0.1
"""Gap up to which what sounds is one stretch before it is named; longer ones are closed between like names."""
NAMED_S = 10.0
"""How much of a stretch of sound, from its onset on, it is named by at most."""
ROUNDING_S = 1e-6
"""Times are in whole milliseconds."""
FAINT = 0.1
"""Onset score from which on it says better where an event begins than the score itself."""


@dataclass(frozen=True)
class Event:
    """A label that sounded from `start_s` to `end_s`; `score` is the highest it had, 0 to 1."""

    start_s: float
    end_s: float
    label: str
    score: float


@dataclass(frozen=True)
class Dropped:
    """A label whose score reached ``on`` from `start_s` to `end_s` and that is no event all the same: why."""

    start_s: float
    end_s: float
    label: str
    score: float
    reason: str


@dataclass(frozen=True, kw_only=True)
class Timing:
    """Where the steps of a trace lie: `first_s` is the middle of the first one, in seconds."""

    step_s: float
    first_s: float
    window_s: float

    @classmethod
    def of(cls, model: Model) -> "Timing":
        """Return that of a model: its first step tells of the middle of the first frame."""
        return cls(step_s=model.step_s, first_s=model.front_end.frame_ms / 2000, window_s=model.window_s)

    @property
    def near(self) -> int:
        """Steps in `NEAR_S`."""
        return max(1, round(NEAR_S / self.step_s))

    @property
    def peak(self) -> int:
        """Steps in `PEAK_S`."""
        return max(1, round(PEAK_S / self.step_s))

    def at(self, step: float) -> float:
        """Time of a step, or of a place between two."""
        return self.first_s + step * self.step_s


@dataclass(frozen=True)
class _Candidate:
    """A stretch in which something sounds, before it is named: its times, the number of the label that it was found
    by (-1: any), its highest score, what names it, ``(steps, labels + 2)``, and whether its onset is so clear that it
    is no part of what is before it."""

    start_s: float
    end_s: float
    number: int
    score: float
    naming: np.ndarray
    is_new: bool


@dataclass
class _Open:
    """An event that has begun: where, the step of its onset, the last one of it above ``off``, its highest score;
    what it is named by from step `first` on; see `_Candidate` for `is_new`."""

    start: float
    onset: int
    last: int
    score: float
    first: int
    is_new: bool
    rows: list[np.ndarray] = field(default_factory=list)
    gathered: int = 0

    def gather(self, naming: np.ndarray, base: int, until: int, most: int) -> None:
        """Take the rows up to step `until`, of which `naming` has those from step `base` on, and `most` at most."""
        begin = self.first + self.gathered
        end = min(until, self.first + most)
        if end > begin:
            self.rows.append(naming[begin - base : end - base])
            self.gathered = end - self.first

    def named_by(self) -> np.ndarray:
        """Rows from the first to the last."""
        return np.concatenate(self.rows)[: max(self.last + 1 - self.first, 1)]


class Decider:
    """Takes the blocks of a trace in order and gives events as they are decided.

    Where a label sounds is told step by step, what it is called by the whole of it (`classifiers.base.named`).
    Events of one label come in order of time and never overlap; those of different labels may, unless ``alone``
    forbids. silent : labels that are no events; dropped : a list to add what was left out to, with the reason.
    names : False where several labels may sound at once, or onsets are not told: each label is followed by itself,
    and keeps its name.
    """

    def __init__(
        self,
        labels: Sequence[str],
        silent: Sequence[str],
        timing: Timing,
        settings: DecisionSettings,
        dropped: list[Dropped] | None = None,
        *,
        names: bool = True,
    ) -> None:
        unknown = sorted(set(settings.labels) - set(labels))
        if unknown:
            raise PlanError(f"decision.labels.{unknown[0]}: the model knows {', '.join(labels)}")
        self._timing = timing
        self._reported = np.array([number for number, label in enumerate(labels) if label not in silent], dtype=int)
        # What any of them may be is followed once, and named later; each label by itself where they sound together.
        self._any = names
        self._tracks = [_Track(0, -1, timing, for_any(settings, [labels[number] for number in self._reported]))]
        if not names:
            self._tracks = [
                _Track(place, int(number), timing, settings.of(labels[number]))
                for place, number in enumerate(self._reported)
            ]
        self._sorter = _Sorter(labels, silent, settings, dropped, names=names)
        self._smoother = Smoother(round(settings.smooth_s / timing.step_s))
        self._sounds, self._begins = (np.empty((0, len(self._tracks)), dtype=np.float32) for _ in range(2))
        self._naming = np.empty((0, len(labels) + 2), dtype=np.float32)
        self._base = self._done = 0  # step of the first row that is kept, and the first that is not decided

    @classmethod
    def of(
        cls, model: Model, settings: DecisionSettings | None = None, dropped: list[Dropped] | None = None
    ) -> "Decider":
        """Make the one of a model, with its own settings or others."""
        return cls(
            model.labels,
            [*model.background, *model.unreported],
            Timing.of(model),
            settings or model.decision,
            dropped,
            names=model.names_events,
        )

    @property
    def latency_s(self) -> float:
        """Time after which an event that is over is given out, at most.

        It waits for longer if it goes on within the gap, or if another overlaps it and only the surer one stays.
        """
        near, gap = self._timing.near, max((track.gap for track in self._tracks), default=0)
        # One that is still to come may go on with it or, where labels are followed each by itself, overlap it.
        steps = self._smoother.half + near + max(gap + 3, near + 2)
        return self._timing.window_s / 2 + steps * self._timing.step_s + self._sorter.waits_s

    def push(self, block: TraceBlock) -> list[Event]:
        """Take the next block and return the events that are certain now."""
        self._sounds = np.concatenate([self._sounds, self._smoother.push(self._followed(block.sounds))])
        self._begins = np.concatenate([self._begins, self._followed(block.begins)])
        self._naming = np.concatenate([self._naming, block.naming])
        # Where an event begins is looked for a little further on.
        return self._decide(self._base + len(self._sounds) - self._timing.near - 1)

    def _followed(self, scores: np.ndarray) -> np.ndarray:
        """Scores of what is followed, ``(steps, tracks)``: of any label together, or of each that is an event."""
        return scores if self._any else scores[:, self._reported]

    def finish(self) -> list[Event]:
        """Return the events that were still open at the end of the recording."""
        self._sounds = np.concatenate([self._sounds, self._smoother.finish(self._sounds.shape[1])])
        events = self._decide(self._base + len(self._sounds))
        rest = [found for track in self._tracks for found in track.close()]
        return sorted([*events, *self._sorter.push(rest, np.inf)], key=_by_start)

    def _decide(self, until: int) -> list[Event]:
        """Go on to step `until`."""
        if until <= self._done:
            return []
        found: list[_Candidate] = []
        for track in self._tracks:
            found += track.go_on(self._sounds, self._begins, self._naming, self._base, self._done, until)
        self._done = until
        drop = max(0, until - self._timing.near - self._timing.peak - self._base)
        self._sounds, self._begins, self._naming = self._sounds[drop:], self._begins[drop:], self._naming[drop:]
        self._base += drop
        open_s = min((track.earliest_s for track in self._tracks), default=np.inf)
        to_come = self._timing.at(until - self._timing.near) + min(
            (track.settings.early_s for track in self._tracks), default=0.0
        )
        return self._sorter.push(found, min(open_s, to_come))


def for_any(settings: DecisionSettings, labels: Sequence[str]) -> DecisionSettings:
    """What is decided of any of some labels together: what reaches the lowest threshold may be one of them."""
    lowest = min((settings.of(label).on for label in labels), default=settings.on)
    return settings.model_copy(update={"on": lowest, "gap_s": min(settings.gap_s, JOINED_S)})


def decided(blocks: Iterable[TraceBlock], decider: Decider) -> Iterator[Event]:
    """Events of the blocks of a whole recording, as they are decided."""
    for block in blocks:
        yield from decider.push(block)
    yield from decider.finish()


class _Track:
    """What is followed, a label or any of them: the stretch of it that is open, if there is one.

    column : of its scores; number : of the label, -1 for any.
    """

    def __init__(self, column: int, number: int, timing: Timing, settings: DecisionSettings) -> None:
        self.number, self.settings, self._timing, self._column = number, settings, timing, column
        self.gap = round(settings.gap_s / timing.step_s)
        self._most = round(NAMED_S / timing.step_s)
        self._open: _Open | None = None
        self._last_onset, self._ended_s = -self._timing.peak, -np.inf
        self._naming, self._base = np.empty((0, 0), dtype=np.float32), 0

    @property
    def earliest_s(self) -> float:
        """When the open stretch begins."""
        return np.inf if self._open is None else self._timing.at(self._open.start) + self.settings.early_s

    def go_on(
        self, sounds: np.ndarray, begins: np.ndarray, naming: np.ndarray, base: int, first: int, until: int
    ) -> list[_Candidate]:
        """Decide on the steps from `first` to `until`; the arrays begin at step `base`. Return what has ended."""
        found: list[_Candidate] = []
        self._naming, self._base = naming, base
        sounds, begins = sounds[:, self._column], begins[:, self._column]
        for start, end, highest in self._stretches(sounds[first - base : until - base], first):
            if self._open is not None and start - self._open.last - 1 > self.gap:
                found += self.close()
            if self._open is None:
                self._begin(begins, base, start)
            at = start
            for again in self._agains(begins, base, start, end):
                self._extend(sounds[at - base : again - base].max(initial=0), again)
                found += self.close()
                self._open, at = _Open(_peak(begins, again - base) + base, again, again, 0.0, again, True), again
            self._extend(highest if at == start else sounds[at - base : end - base].max(initial=0), end)
        if self._open is not None and until - self._open.last - 1 > self.gap:
            found += self.close()
        if self._open is not None:
            self._open.gather(naming, base, until, self._most)
        return found

    def _stretches(self, score: np.ndarray, first: int) -> list[tuple[int, int, float]]:
        """Stretches above ``off`` with their highest score: first and last-plus-one step.

        Those that cannot become an event are left out: neither they nor what is joined to them reaches ``on``, and
        they have ended.
        """
        above = np.concatenate([[False], score >= self.settings.off, [False]])
        edges = np.flatnonzero(above[1:] != above[:-1])
        if not len(edges):
            return []
        starts, ends = edges[::2], edges[1::2]
        highest = np.maximum.reduceat(np.append(score, 0), edges)[::2]
        group = np.cumsum(np.concatenate([[0], starts[1:] - ends[:-1] > self.gap]))
        reached = np.maximum.reduceat(highest, np.flatnonzero(np.diff(group, prepend=-1)))
        kept = (reached >= self.settings.on)[group] | (group == group[-1])
        if self._open is not None:
            kept |= group == 0
        rows = zip(starts[kept] + first, ends[kept] + first, highest[kept], strict=True)
        return [(int(start), int(end), float(high)) for start, end, high in rows]

    def _extend(self, highest: float, end: int) -> None:
        if self._open is not None:
            self._open.last, self._open.score = end - 1, max(self._open.score, float(highest))

    def _begin(self, begins: np.ndarray, base: int, step: int) -> None:
        """Open a stretch: it begins where its onset score is highest near its first step, if that says anything."""
        low = max(step - self._timing.near, base, self._last_onset + self._timing.peak)
        near = begins[low - base : step + self._timing.near + 1 - base]
        start, onset, highest = float(step), step, near.max(initial=0)
        if highest >= FAINT:
            onset = low + int(near.argmax())
            start = _peak(begins, onset - base) + base
        is_new = bool(highest >= self.settings.again)
        self._open = _Open(start, onset, step, 0.0, min(onset, step), is_new)

    def _agains(self, begins: np.ndarray, base: int, start: int, end: int) -> list[int]:
        """Steps from `start` to `end` in which a label that sounds begins again."""
        if self.settings.again >= 1 or self._open is None:
            return []
        found, before = [], self._open.onset
        for step in np.flatnonzero(begins[start - base : end - base] >= self.settings.again) + start:
            near = begins[max(step - self._timing.peak - base, 0) : step + self._timing.peak + 1 - base]
            if step > before + self._timing.peak and begins[step - base] == near.max():
                found.append(int(step))
                before = int(step)
        return found

    def close(self) -> list[_Candidate]:
        """End the open stretch; return it if it is high enough."""
        found, self._open = self._open, None
        if found is None or found.score < self.settings.on:
            return []
        self._last_onset = found.onset
        found.gather(self._naming, self._base, found.last + 1, self._most)
        start_s = max(0.0, self._ended_s, self._timing.at(found.start) + self.settings.early_s)
        end_s = max(self._timing.at(found.last + 0.5) - self.settings.late_s, start_s + self._timing.step_s)
        self._ended_s = end_s
        return [_Candidate(start_s, end_s, self.number, found.score, found.named_by(), found.is_new)]


class _Sorter:
    """Makes events of candidates: names them, and leaves out what cannot be beside others."""

    def __init__(
        self,
        labels: Sequence[str],
        silent: Sequence[str],
        settings: DecisionSettings,
        dropped: list[Dropped] | None,
        *,
        names: bool,
    ) -> None:
        self._labels, self._settings, self._dropped, self._names = labels, settings, dropped, names
        self._is_silent = np.array([label in silent for label in labels] + [True])
        self._own = [settings.of(label) for label in labels]
        self._held: list[_Candidate] = []  # what another one, not yet decided, may overlap
        self._named: list[Event] = []  # what another one, not yet decided, may go on with
        self._ended_s = np.full(len(labels), -np.inf)

    @property
    def waits_s(self) -> float:
        """How long an event that is over is held back, as it may go on."""
        return max((own.gap_s for own in self._own), default=0.0) if self._names else 0.0

    def push(self, found: list[_Candidate], until_s: float) -> list[Event]:
        """Take candidates and give the events that are certain; no candidate to come begins before `until_s`."""
        return self._joined(found, until_s) if self._names else self._apart(found, until_s)

    def _joined(self, found: list[_Candidate], until_s: float) -> list[Event]:
        """Name candidates, none of which overlaps another, and join what follows its like within the gap."""
        for candidate in sorted(found, key=lambda one: one.start_s):
            event, before = self._event_of(candidate), self._named[-1] if self._named else None
            if event is None:
                continue
            if (
                before is not None
                and before.label == event.label
                and not candidate.is_new
                and event.start_s - before.end_s <= self._settings.of(event.label).gap_s + ROUNDING_S
            ):
                self._named[-1] = replace(before, end_s=event.end_s, score=max(before.score, event.score))
            else:
                self._named.append(event)
        given = []
        while self._named:
            first = self._named[0]
            if len(self._named) == 1 and first.end_s + self._settings.of(first.label).gap_s + ROUNDING_S >= until_s:
                break
            given.append(self._named.pop(0))
        return [event for event in given if self._is_fit(event)]

    def _apart(self, found: list[_Candidate], until_s: float) -> list[Event]:
        """Events of labels that are followed each by itself, of which not all may stay where they overlap."""
        self._held = sorted([*self._held, *found], key=lambda one: (one.start_s, one.number))
        given: list[Event] = []
        while self._held:
            together, end_s = 1, self._held[0].end_s
            while together < len(self._held) and self._held[together].start_s < end_s:
                end_s = max(end_s, self._held[together].end_s)
                together += 1
            if end_s > until_s:
                break
            given += self._events(self._held[:together])
            del self._held[:together]
        return given

    def _events(self, candidates: list[_Candidate]) -> list[Event]:
        """Events of candidates that may overlap, in order of time."""
        events = [
            Event(round(one.start_s, 3), round(one.end_s, 3), self._labels[one.number], min(1.0, one.score))
            for one in candidates
        ]
        kept = events if self._settings.alone >= 1 else _not_overlapping(events, self._settings.alone)
        for event in events:
            if event not in kept:
                self._leave_out(event, "overlaps a surer label")
        return [event for event in sorted(kept, key=_by_start) if self._is_fit(event)]

    def _event_of(self, candidate: _Candidate) -> Event | None:
        """Name a candidate by its whole extent; None for what is no event by its name."""
        start_s, end_s = round(candidate.start_s, 3), round(candidate.end_s, 3)
        scores = softmax(named(candidate.naming))
        number = int(scores.argmax())
        label = self._labels[number] if number < len(self._labels) else "none"
        event = Event(start_s, end_s, label, min(1.0, candidate.score * float(scores[number])))
        reason = ""
        if self._is_silent[number]:
            reason = "named as no event"
        elif scores[~self._is_silent].sum() < self._settings.named:
            reason = "not surely an event"
        elif candidate.score < self._own[number].on:
            reason = "below the threshold of its label"
        if reason:
            self._leave_out(event, reason)
        return None if reason else event

    def _is_fit(self, event: Event) -> bool:
        """Whether an event is long and short enough, and the last one of its label long enough ago."""
        own, number = self._settings.of(event.label), self._labels.index(event.label)
        length_s, ended_s = event.end_s - event.start_s, self._ended_s[number]
        reason = ""
        if length_s < own.shortest_s - ROUNDING_S:
            reason = "too short"
        elif length_s > own.longest_s + ROUNDING_S:
            reason = "too long"
        elif event.start_s < ended_s + own.pause_s - ROUNDING_S:
            reason = "in the pause after one"
        if reason:
            self._leave_out(event, reason)
            return False
        self._ended_s[number] = event.end_s
        return True

    def _leave_out(self, event: Event, reason: str) -> None:
        if self._dropped is not None:
            self._dropped.append(_left_out(event, reason))


def _left_out(event: Event, reason: str) -> Dropped:
    return Dropped(event.start_s, event.end_s, event.label, event.score, reason)


def _peak(begins: np.ndarray, at: int) -> float:
    """Place of a maximum between steps: that of a parabola through the logarithms of it and its neighbours."""
    if not 0 < at < len(begins) - 1:
        return float(at)
    before, here, after = np.log(begins[at - 1 : at + 2] + 1e-4)
    bend = before - 2 * here + after
    return at + float(0.5 * (before - after) / bend) if bend < 0 else float(at)


class Smoother:
    """Averages each score over `steps` steps around it, as far as there are any; rows come out half of that later."""

    def __init__(self, steps: int) -> None:
        self.half = steps // 2
        self._rows: np.ndarray | None = None
        self._before = 0  # rows at the front that have come out already and are only looked at

    def push(self, rows: np.ndarray) -> np.ndarray:
        """Take rows of scores, ``(steps, labels)``; return those that are averaged now."""
        if not self.half:
            return rows
        self._rows = rows if self._rows is None else np.concatenate([self._rows, rows])
        return self._take(max(len(self._rows) - self.half - self._before, 0))

    def finish(self, labels: int) -> np.ndarray:
        """Return the last rows."""
        if self._rows is None:
            return np.empty((0, labels), dtype=np.float32)
        return self._take(len(self._rows) - self._before)

    def _take(self, count: int) -> np.ndarray:
        rows = self._rows
        if rows is None:
            raise AssertionError
        at = np.arange(self._before, self._before + count)
        low, high = np.maximum(at - self.half, 0), np.minimum(at + self.half + 1, len(rows))
        # Each from its own rows, not from running sums, whose rounding depends on where they began.
        padded = np.pad(rows, ((self.half, self.half), (0, 0)))
        averaged = np.zeros((count, rows.shape[1]), dtype=np.float32)
        for first in range(self._before, self._before + 2 * self.half + 1):
            averaged += padded[first : first + count]
        averaged /= (high - low).astype(np.float32)[:, None]
        drop = max(self._before + count - self.half, 0)
        self._rows, self._before = rows[drop:], self._before + count - drop
        return averaged


def _by_start(event: Event) -> tuple[float, str]:
    return event.start_s, event.label


def _not_overlapping(events: list[Event], share: float) -> list[Event]:
    """Keep the highest scores among events, none of which may share more than that of the shorter with another."""
    kept: list[Event] = []
    for event in sorted(events, key=lambda one: (-one.score, one.start_s, one.label)):
        if all(_shared(event, other) <= share for other in kept):
            kept.append(event)
    return sorted(kept, key=_by_start)


def _shared(one: Event, other: Event) -> float:
    """Time that both sound, as a share of the shorter."""
    both = min(one.end_s, other.end_s) - max(one.start_s, other.start_s)
    return max(both, 0.0) / max(min(one.end_s - one.start_s, other.end_s - other.start_s), 1e-9)
