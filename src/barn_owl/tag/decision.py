"""From scores over time to events.

A label sounds where its window score reaches ``on``, and around that for as long as it stays above ``off``.
A window is much longer than an onset is exact, so the edges are then looked for inside those windows: where
the local score of the label begins and ends, and there where the level rises most.
"""

from dataclasses import dataclass, replace

import numpy as np

from barn_owl.classify import DecisionSettings, Model
from barn_owl.tag.trace import TraceBlock

LONGEST_S = 120.0
"""A stretch above ``off`` is cut after this time, so that memory stays bounded; the pieces are joined again."""
EDGE_SHARE = 0.5
"""Share of its highest value that the local score must have for a step to belong to the event."""


@dataclass(frozen=True)
class Event:
    """A label that sounded from `start_s` to `end_s`; `score` is the highest window score, 0 to 1."""

    start_s: float
    end_s: float
    label: str
    score: float


class Decider:
    """Takes the blocks of a trace in order and gives events as they are decided.

    Events of one label come in order of time and never touch each other; labels may overlap.
    """

    def __init__(self, model: Model, settings: DecisionSettings | None = None) -> None:
        self.model = model
        self.settings = settings or model.decision
        self._numbers = [number for number, label in enumerate(model.labels) if label not in model.background]
        self._base = 0  # step of the first row that is kept
        self._windows = np.empty((0, len(model.labels)), dtype=np.float32)
        self._local = np.empty((0, len(model.labels)), dtype=np.float32)
        self._rise = np.empty(0, dtype=np.float32)
        self._resume = dict.fromkeys(self._numbers, 0)  # step up to which each label is decided
        self._pending: dict[int, Event] = {}
        self._goes_on = dict.fromkeys(self._numbers, False)  # the last settled piece was cut from a longer stretch
        self._steps = max(1, (model.family.window - model.family.reach) // model.family.step + 1)
        self._longest = max(2 * self._steps, round(LONGEST_S / model.step_s))

    def push(self, block: TraceBlock) -> list[Event]:
        """Take the next block and return the events that are certain now."""
        self._windows = np.concatenate([self._windows, block.windows])
        self._local = np.concatenate([self._local, block.local])
        self._rise = np.concatenate([self._rise, block.rise])
        # The edges of an event may lie as far behind its last window as the window is long.
        return self._decide(self._base + len(self._windows) - self._steps, last=False)

    def finish(self) -> list[Event]:
        """Return the events that were still open at the end of the recording."""
        events = self._decide(self._base + len(self._windows), last=True)
        events += [event for event in self._pending.values() if self._long_enough(event)]
        self._pending.clear()
        return sorted(events, key=lambda event: event.start_s)

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
        self._forget(min(self._resume.values(), default=until))
        return sorted(events, key=lambda event: event.start_s)

    def _stretches(self, number: int, until: int) -> list[tuple[int, int]]:
        """Stretches of steps that are above ``off``: first and last-plus-one, counted from the beginning."""
        begin = self._resume[number]
        score = self._windows[begin - self._base : max(until - self._base, 0), number]
        above = np.concatenate([[False], score >= self.settings.off, [False]])
        edges = np.flatnonzero(above[1:] != above[:-1]).reshape(-1, 2) + begin
        return [(int(first), int(end)) for first, end in edges]

    def _event(self, number: int, first: int, end: int) -> Event | None:
        """Find the edges of the sound behind windows `first` to `end`; None when they do not reach ``on``."""
        highest = float(self._windows[first - self._base : end - self._base, number].max())
        if highest < self.settings.on and not self._goes_on[number]:
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
        return frame + int(np.argmax(rise * likely)) + 2 if len(rise) else frame

    def _settle(self, number: int, first: int, end: int, *, goes_on: bool) -> list[Event]:
        """Join the event of a stretch to the pending one if the gap is small, else give that one out.

        goes_on : the stretch is a piece of a longer one that goes on after it.
        """
        event, before = self._event(number, first, end), self._pending.get(number)
        joined = before is not None and (
            self._goes_on[number] or (event is not None and event.start_s - before.end_s <= self.settings.gap_s)
        )
        self._goes_on[number] = goes_on and event is not None
        if event is None:
            return []
        if before is not None and joined:
            end_s, score = max(before.end_s, event.end_s), max(before.score, event.score)
            self._pending[number] = replace(before, end_s=end_s, score=score)
            return []
        self._pending[number] = event
        return [before] if before is not None and self._long_enough(before) else []

    def _long_enough(self, event: Event) -> bool:
        return event.end_s - event.start_s >= self.settings.shortest_s - 1e-6

    def _forget(self, step: int) -> None:
        """Drop what lies before `step`; one window more is kept for the edges."""
        drop = max(0, min(step - self._base, len(self._windows)))
        self._windows, self._local = self._windows[drop:], self._local[drop:]
        self._rise = self._rise[drop * self.model.family.step :]
        self._base += drop
