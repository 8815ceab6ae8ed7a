"""From scores over time to events.

A label sounds where its window score reaches ``on``, and around that for as long as it stays above ``off``.
A window is much longer than an onset is exact, so the edges are then looked for inside those windows: where
the local score of the label begins and ends, and there where the level rises most.
"""

from dataclasses import dataclass, replace

import numpy as np

from barn_owl.classify import DecisionSettings, Model
from barn_owl.errors import PlanError
from barn_owl.tag.trace import CHUNK, RISE_FRAMES, TraceBlock

LONGEST_S = 120.0
"""A stretch above ``off`` is cut after this time, so that memory stays bounded; the pieces are joined again."""
EDGE_SHARE = 0.5
"""Share of its highest value that the local score must have for a step to belong to the event."""
SMOOTH_SHARE = 0.3
"""Share of a window over which scores are averaged: a sound is in windows for about as long as one of them is;
what looks like it in only a few of them is something else."""


@dataclass(frozen=True)
class Event:
    """A label that sounded from `start_s` to `end_s`; `score` is the highest window score, 0 to 1."""

    start_s: float
    end_s: float
    label: str
    score: float


class Decider:
    """Takes the blocks of a trace in order and gives events as they are decided.

    Events of one label come in order of time and never touch each other; labels may overlap, unless ``alone`` is set.
    """

    def __init__(self, model: Model, settings: DecisionSettings | None = None) -> None:
        self.model = model
        self.settings = settings or model.decision
        unknown = sorted(set(self.settings.labels) - set(model.labels))
        if unknown:
            raise PlanError(f"decision.labels.{unknown[0]}: the model knows {', '.join(model.labels)}")
        self._numbers = [number for number, label in enumerate(model.labels) if label not in model.background]
        self._of = {number: self.settings.of(model.labels[number]) for number in self._numbers}
        share = self.settings.unlike
        self._limits = model.known.limits(share) if share and model.known is not None else None
        self._base = 0  # step of the first row that is kept
        labels = len(model.labels)
        self._windows = np.empty((0, labels), dtype=np.float32)
        self._alike = np.empty((0, labels), dtype=np.float32)
        self._local = np.empty((0, labels), dtype=np.float32)
        self._rise = np.empty(0, dtype=np.float32)
        # A rise lies between two frames `RISE_FRAMES` apart, and a frame tells of its middle.
        front_end = model.front_end
        self._late = round(RISE_FRAMES / 2 + front_end.frame_ms / front_end.hop_ms / 2)
        self._smoother = Smoother.of(model, self.settings)
        self._resume = dict.fromkeys(self._numbers, 0)  # step up to which each label is decided
        self._pending: dict[int, Event] = {}
        self._ended = dict.fromkeys(self._numbers, -np.inf)  # end of the last event given out
        self._goes_on = dict.fromkeys(self._numbers, False)  # the last settled piece was cut from a longer stretch
        self._held: list[Event] = []  # events that another one, not yet decided, may overlap
        self._steps = max(1, (model.family.window - model.family.reach) // model.family.step + 1)
        self._longest = max(2 * self._steps, round(LONGEST_S / model.step_s))

    @property
    def latency_s(self) -> float:
        """Time after which an event that is over is given out, at most, if no other sounds in the gap behind it."""
        gap = max((own.gap_s for own in self._of.values()), default=0.0)
        return 2 * self.model.window_s + gap + (2 * self._smoother.half + CHUNK) * self.model.step_s

    def push(self, block: TraceBlock) -> list[Event]:
        """Take the next block and return the events that are certain now."""
        self._windows = np.concatenate([self._windows, self._smoother.push(block.windows)])
        self._alike = np.concatenate([self._alike, block.alike])
        self._local = np.concatenate([self._local, block.local])
        self._rise = np.concatenate([self._rise, block.rise])
        # The edges of an event may lie as far behind its last window as the window is long.
        return self._decide(self._base + len(self._windows) - self._steps, last=False)

    def finish(self) -> list[Event]:
        """Return the events that were still open at the end of the recording."""
        self._windows = np.concatenate([self._windows, self._smoother.finish(self._windows.shape[1])])
        events = self._decide(self._base + len(self._windows), last=True)
        rest = [event for number in list(self._pending) for event in self._given(number, self._pending.pop(number))]
        return sorted([*events, *self._sorted_out(rest, np.inf)], key=_by_start)

    def _decide(self, until: int, *, last: bool) -> list[Event]:
        """Settle all stretches that end before step `until`; those that reach it stay open unless `last`."""
        events: list[Event] = []
        for number in self._numbers:
            resume = max(self._resume[number], until)
            for first, end in self._stretches(number, until):
                cuts = list(range(first, end - self._longest + 1, self._longest))
                for cut in cuts:
                    events += self._settle(number, cut, cut + self._longest, goes_on=True)
                first = cuts[-1] + self._longest if cuts else first
                if end == until and not last:
                    resume = first
                elif first < end:
                    events += self._settle(number, first, end, goes_on=False)
            self._resume[number] = resume
        step = min(self._resume.values(), default=until)
        self._forget(step)
        undecided = min([event.start_s for event in self._pending.values()], default=np.inf)
        # What is still to come begins no earlier than the first step that is not decided for all labels.
        return sorted(self._sorted_out(events, min(undecided, step * self.model.step_s)), key=_by_start)

    def _sorted_out(self, events: list[Event], until_s: float) -> list[Event]:
        """Of events that overlap keep the one with the highest score, if that is wished; hold back what is not sure.

        until_s : no event that is still to come begins before.
        """
        if not self.settings.alone:
            return events
        self._held = sorted([*self._held, *events], key=_by_start)
        given: list[Event] = []
        while self._held:
            together, end_s = 1, self._held[0].end_s
            while together < len(self._held) and self._held[together].start_s < end_s:
                end_s = max(end_s, self._held[together].end_s)
                together += 1
            if end_s > until_s:
                break
            given += _not_overlapping(self._held[:together])
            del self._held[:together]
        return given

    def _stretches(self, number: int, until: int) -> list[tuple[int, int]]:
        """Stretches of steps that are above ``off``: first and last-plus-one, counted from the beginning."""
        begin = self._resume[number]
        score = self._windows[begin - self._base : max(until - self._base, 0), number]
        above = np.concatenate([[False], score >= self._of[number].off, [False]])
        edges = np.flatnonzero(above[1:] != above[:-1]).reshape(-1, 2) + begin
        return [(int(first), int(end)) for first, end in edges]

    def _event(self, number: int, first: int, end: int) -> Event | None:
        """Find the edges of the sound behind windows `first` to `end`; None when they do not reach ``on``."""
        score = self._windows[first - self._base : end - self._base, number]
        highest, loud = float(score.max()), self._of[number].begins_at
        if highest < loud and not self._goes_on[number]:
            return None
        if self._limits is not None and not self._goes_on[number]:
            sure = self._alike[first - self._base : end - self._base, number][score >= min(loud, highest)]
            if sure.max() < self._limits[number]:
                return None
        family, hop_s = self.model.family, self.model.front_end.hop_s
        local = self._local[first - self._base : end - self._base + self._steps - 1, number]
        inside = np.flatnonzero(local >= EDGE_SHARE * local.max()) + first
        start = self._onset(int(inside[0]) * family.step)
        stop = int(inside[-1]) * family.step + family.reach / 2
        stop = max(stop, start + family.step)
        return Event(round(start * hop_s, 3), round(stop * hop_s, 3), self.model.labels[number], min(1.0, highest))

    def _onset(self, frame: int) -> int:
        """Frame at which the level rises most within the reach of the step that begins at `frame`."""
        begin = frame - self._base * self.model.family.step
        rise = self._rise[begin : begin + self.model.family.reach]
        # The middle is likeliest: a step says yes when the sound fills about half of what it sees.
        likely = 1 - 0.8 * np.abs(np.linspace(-1, 1, self.model.family.reach))[: len(rise)]
        return frame + int(np.argmax(rise * likely)) + self._late if len(rise) else frame

    def _settle(self, number: int, first: int, end: int, *, goes_on: bool) -> list[Event]:
        """Join the event of a stretch to the pending one if the gap is small, else give that one out.

        goes_on : the stretch is a piece of a longer one that goes on after it.
        """
        event, before = self._event(number, first, end), self._pending.get(number)
        joined = before is not None and (
            self._goes_on[number] or (event is not None and event.start_s - before.end_s <= self._of[number].gap_s)
        )
        self._goes_on[number] = goes_on and event is not None
        if event is None:
            return []
        if before is not None and joined:
            end_s, score = max(before.end_s, event.end_s), max(before.score, event.score)
            self._pending[number] = replace(before, end_s=end_s, score=score)
            return []
        self._pending[number] = event
        return [] if before is None else self._given(number, before)

    def _given(self, number: int, event: Event) -> list[Event]:
        """Return an event if its length may be, and the last one of its label is long enough ago."""
        own, length = self._of[number], event.end_s - event.start_s
        if not own.shortest_s - 1e-6 <= length <= own.longest_s + 1e-6:
            return []
        if event.start_s < self._ended[number] + own.pause_s - 1e-6:
            return []
        self._ended[number] = event.end_s
        return [event]

    def _forget(self, step: int) -> None:
        """Drop what lies before `step`; one window more is kept for the edges."""
        drop = max(0, min(step - self._base, len(self._windows)))
        self._windows, self._local = self._windows[drop:], self._local[drop:]
        self._alike = self._alike[drop:]
        self._rise = self._rise[drop * self.model.family.step :]
        self._base += drop


class Smoother:
    """Averages each score over `steps` steps around it, as far as there are any; rows come out half of that later."""

    def __init__(self, steps: int) -> None:
        self.half = steps // 2
        self._rows: np.ndarray | None = None
        self._before = 0  # rows at the front that have come out already and are only looked at

    @classmethod
    def of(cls, model: Model, settings: DecisionSettings) -> "Smoother":
        """Make the one that the events of a model are decided with."""
        smooth_s = SMOOTH_SHARE * model.window_s if settings.smooth_s is None else settings.smooth_s
        return cls(round(smooth_s / model.step_s))

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


def _not_overlapping(events: list[Event]) -> list[Event]:
    """Keep the highest scores among events, none of which may overlap another that is kept."""
    kept: list[Event] = []
    for event in sorted(events, key=lambda one: (-one.score, one.start_s, one.label)):
        if all(event.end_s <= other.start_s or event.start_s >= other.end_s for other in kept):
            kept.append(event)
    return sorted(kept, key=_by_start)
