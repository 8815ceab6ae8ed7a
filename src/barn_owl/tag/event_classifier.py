"""Classification of candidate segments as wholes; merging of neighbors, rejection."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from barn_owl.classifiers.base import segment_logits
from barn_owl.model import DecodingSettings
from barn_owl.network import softmax
from barn_owl.tag.tracks import Candidate

ROUNDING_S = 1e-6
"""Times are in whole milliseconds."""


@dataclass(frozen=True)
class Event:
    """An event.

    Attributes
    ----------
    start_s, end_s : float
        Onset and offset in seconds.
    label : str
        Label of the model.
    score : float
        0 to 1: highest activity during the event, times the probability of the label for the event as a whole. In a
        multilabel task, the highest score of the label.
    """

    start_s: float
    end_s: float
    label: str
    score: float


@dataclass(frozen=True)
class Dropped:
    """A candidate from `start_s` to `end_s` that was rejected, and why."""

    start_s: float
    end_s: float
    label: str
    score: float
    reason: str


class EventClassifier:
    """Turns candidate segments into labeled events; merges gaps, removes overlaps."""

    def __init__(
        self,
        labels: Sequence[str],
        silent: Sequence[str],
        settings: DecodingSettings,
        dropped: list[Dropped] | None,
        *,
        names: bool,
    ) -> None:
        self._labels, self._settings, self._dropped, self._names = labels, settings, dropped, names
        self._is_silent = np.array([label in silent for label in labels] + [True])
        self._label_settings = [settings.of(label) for label in labels]
        self._held: list[Candidate] = []  # candidates that a later candidate may overlap
        self._labeled: list[Event] = []  # events that a later candidate may continue
        self._ended_s = np.full(len(labels), -np.inf)

    @property
    def waits_s(self) -> float:
        """Longest time that an event is held back, since it may continue."""
        return max((own.max_gap_s for own in self._label_settings), default=0.0) if self._names else 0.0

    def push(self, found: list[Candidate], until_s: float) -> list[Event]:
        """Take candidates and return the events that are certain; later candidates begin at `until_s` or after."""
        return self._merged(found, until_s) if self._names else self._without_overlaps(found, until_s)

    def _merged(self, found: list[Candidate], until_s: float) -> list[Event]:
        """Classify candidates without overlaps, and merge candidates of a label within the gap."""
        for candidate in sorted(found, key=lambda one: one.start_s):
            event, before = self._event_of(candidate), self._labeled[-1] if self._labeled else None
            if event is None:
                continue
            if (
                before is not None
                and before.label == event.label
                and not candidate.is_new
                and event.start_s - before.end_s <= self._settings.of(event.label).max_gap_s + ROUNDING_S
            ):
                self._labeled[-1] = replace(before, end_s=event.end_s, score=max(before.score, event.score))
            else:
                self._labeled.append(event)
        certain = []
        while self._labeled:
            first = self._labeled[0]
            if (
                len(self._labeled) == 1
                and first.end_s + self._settings.of(first.label).max_gap_s + ROUNDING_S >= until_s
            ):
                break
            certain.append(self._labeled.pop(0))
        return [event for event in certain if self._has_allowed_timing(event)]

    def _without_overlaps(self, found: list[Candidate], until_s: float) -> list[Event]:
        """Events of labels decoded independently; where they overlap, not all may stay."""
        if self._settings.max_overlap >= 1:  # none waits for another
            return self._events(sorted(found, key=lambda one: (one.start_s, one.number)))
        self._held = sorted([*self._held, *found], key=lambda one: (one.start_s, one.number))
        certain: list[Event] = []
        while self._held:
            together, end_s = 1, self._held[0].end_s
            while together < len(self._held) and self._held[together].start_s < end_s:
                end_s = max(end_s, self._held[together].end_s)
                together += 1
            if end_s > until_s:
                break
            certain += self._events(self._held[:together])
            del self._held[:together]
        return certain

    def _events(self, candidates: list[Candidate]) -> list[Event]:
        """Events of candidates that may overlap, in order of time."""
        events = [
            Event(round(one.start_s, 3), round(one.end_s, 3), self._labels[one.number], min(1.0, one.score))
            for one in candidates
        ]
        kept = events if self._settings.max_overlap >= 1 else _without_overlaps(events, self._settings.max_overlap)
        for event in events:
            if event not in kept:
                self._leave_out(event, "overlaps a higher score")
        return [event for event in sorted(kept, key=by_start) if self._has_allowed_timing(event)]

    def _event_of(self, candidate: Candidate) -> Event | None:
        """Name a candidate by its whole extent; None for labels that are never events."""
        start_s, end_s = round(candidate.start_s, 3), round(candidate.end_s, 3)
        scores = softmax(segment_logits(candidate.label_logits))
        number = int(scores.argmax())
        label = self._labels[number] if number < len(self._labels) else "none"
        event = Event(start_s, end_s, label, min(1.0, candidate.score * float(scores[number])))
        reason = ""
        if self._is_silent[number]:
            reason = "background or ignored"
        elif scores[~self._is_silent].sum() < self._settings.min_known_probability:
            reason = "below min_known_probability"
        elif candidate.score < self._label_settings[number].threshold:
            reason = "below the threshold of its label"
        if reason:
            self._leave_out(event, reason)
        return None if reason else event

    def _has_allowed_timing(self, event: Event) -> bool:
        """Return whether an event has an allowed duration, and follows the last event of its label late enough."""
        own, number = self._settings.of(event.label), self._labels.index(event.label)
        length_s, ended_s = event.end_s - event.start_s, self._ended_s[number]
        reason = ""
        if length_s < own.min_duration_s - ROUNDING_S:
            reason = "too short"
        elif length_s > own.max_duration_s + ROUNDING_S:
            reason = "too long"
        elif event.start_s < ended_s + own.refractory_s - ROUNDING_S:
            reason = "within the refractory time"
        if reason:
            self._leave_out(event, reason)
            return False
        self._ended_s[number] = event.end_s
        return True

    def _leave_out(self, event: Event, reason: str) -> None:
        if self._dropped is not None:
            self._dropped.append(_without_test(event, reason))


def _without_test(event: Event, reason: str) -> Dropped:
    return Dropped(event.start_s, event.end_s, event.label, event.score, reason)


def by_start(event: Event) -> tuple[float, str]:
    """Return the sort key of events: time, then label."""
    return event.start_s, event.label


def _without_overlaps(events: list[Event], share: float) -> list[Event]:
    """Keep the highest-scoring events; two may overlap by at most that share of the shorter."""
    kept: list[Event] = []
    for event in sorted(events, key=lambda one: (-one.score, one.start_s, one.label)):
        if all(_shared(event, other) <= share for other in kept):
            kept.append(event)
    return sorted(kept, key=by_start)


def _shared(one: Event, other: Event) -> float:
    """Time that both sound, as a share of the shorter."""
    both = min(one.end_s, other.end_s) - max(one.start_s, other.start_s)
    return max(both, 0.0) / max(min(one.end_s - one.start_s, other.end_s - other.start_s), 1e-9)
