"""Candidates: stretches of a score above the thresholds, tracked in a stream."""

from dataclasses import dataclass, field

import numpy as np

from barn_owl.model import DecodingSettings, Model

NEARBY_S = 0.5
"""Time around the first step above the release threshold to search for the onset."""
PEAK_S = 0.12
"""Minimum distance of onsets."""
JOINED_S = 0.1
"""Gap up to which activity is a single segment before classification; longer gaps are closed between segments of the
same label."""
MAX_SEGMENT_S = 10.0
"""Longest part of a candidate, from its onset, that is classified."""
FAINT = 0.1
"""Onset score above which it locates the onset better than the score itself."""


@dataclass(frozen=True, kw_only=True)
class Timing:
    """Times of the steps of a trace: `first_s` is the center of the first step, in seconds."""

    step_s: float
    first_s: float
    window_s: float

    @classmethod
    def of(cls, model: Model) -> "Timing":
        """Return the timing of a model: its first step describes the center of the first frame."""
        return cls(step_s=model.step_s, first_s=model.front_end.frame_ms / 2000, window_s=model.window_s)

    @property
    def near(self) -> int:
        """Steps in `NEARBY_S`."""
        return max(1, round(NEARBY_S / self.step_s))

    @property
    def peak(self) -> int:
        """Steps in `PEAK_S`."""
        return max(1, round(PEAK_S / self.step_s))

    def at(self, step: float) -> float:
        """Return the time of a step, or of a position between steps."""
        return self.first_s + step * self.step_s


@dataclass(frozen=True)
class Candidate:
    """A candidate segment before classification: its times, number of its track's label (-1: any), highest score,
    label logits, ``(steps, labels + 2)``, and whether its onset is so clear that it does not continue the previous
    segment."""

    start_s: float
    end_s: float
    number: int
    score: float
    label_logits: np.ndarray
    is_new: bool


@dataclass
class _Open:
    """An open candidate: start, onset step, last step above the release threshold, highest score, naming rows from
    step `first`; see `Candidate` for `is_new`."""

    start: float
    onset: int
    last: int
    score: float
    first: int
    is_new: bool
    rows: list[np.ndarray] = field(default_factory=list)
    gathered: int = 0

    def gather(self, label_logits: np.ndarray, base: int, until: int, most: int) -> None:
        """Take the rows up to step `until`, at most `most`; `label_logits` begins at step `base`."""
        begin = self.first + self.gathered
        end = min(until, self.first + most)
        if end > begin:
            self.rows.append(label_logits[begin - base : end - base])
            self.gathered = end - self.first

    def segment_rows(self) -> np.ndarray:
        """Return the label logits of the segment, ``(steps, labels + 2)``."""
        return np.concatenate(self.rows)[: max(self.last + 1 - self.first, 1)]


class Track:
    """State of a track, a label or any label: its open segment, if there is one.

    column : of its scores; number : of the label, -1 for any.
    """

    def __init__(self, column: int, number: int, timing: Timing, settings: DecodingSettings) -> None:
        self.number, self.settings, self._timing, self._column = number, settings, timing, column
        self.gap = round(settings.max_gap_s / timing.step_s)
        self._most = max(1, round(MAX_SEGMENT_S / timing.step_s))
        self._open: _Open | None = None
        self._last_onset, self._ended_s = -self._timing.peak, -np.inf
        self._label_logits, self._base = np.empty((0, 0), dtype=np.float32), 0

    @property
    def earliest_s(self) -> float:
        """Start of the open segment, in seconds; infinite without one."""
        return np.inf if self._open is None else self._timing.at(self._open.start) + self.settings.onset_shift_s

    def decode(
        self, activity: np.ndarray, onsets: np.ndarray, label_logits: np.ndarray, base: int, first: int, until: int
    ) -> list[Candidate]:
        """Decode the steps from `first` to `until`; the arrays begin at step `base`. Returns the ended segments."""
        found: list[Candidate] = []
        self._label_logits, self._base = label_logits, base
        activity, onsets = activity[:, self._column], onsets[:, self._column]
        for start, end, highest in self._active_runs(activity[first - base : until - base], first):
            if self._open is not None and start - self._open.last - 1 > self.gap:
                found += self.close()
            if self._open is None:
                self._begin(onsets, base, start)
            at = start
            for retrigger in self._retriggers(onsets, base, start, end):
                self._extend(activity[at - base : retrigger - base].max(initial=0), retrigger)
                found += self.close()
                self._open, at = (
                    _Open(_peak(onsets, retrigger - base) + base, retrigger, retrigger, 0.0, retrigger, True),
                    retrigger,
                )
            self._extend(highest if at == start else activity[at - base : end - base].max(initial=0), end)
        if self._open is not None and until - self._open.last - 1 > self.gap:
            found += self.close()
        if self._open is not None:
            self._open.gather(label_logits, base, until, self._most)
        return found

    def _active_runs(self, score: np.ndarray, first: int) -> list[tuple[int, int, float]]:
        """Return runs above the release threshold with their highest score: first and last-plus-one step.

        Ended runs that stay below the threshold, alone and merged, are skipped.
        """
        above = np.concatenate([[False], score >= self.settings.release_threshold, [False]])
        edges = np.flatnonzero(above[1:] != above[:-1])
        if not len(edges):
            return []
        starts, ends = edges[::2], edges[1::2]
        highest = np.maximum.reduceat(np.append(score, 0), edges)[::2]
        group = np.cumsum(np.concatenate([[0], starts[1:] - ends[:-1] > self.gap]))
        reached = np.maximum.reduceat(highest, np.flatnonzero(np.diff(group, prepend=-1)))
        kept = (reached >= self.settings.threshold)[group] | (group == group[-1])
        if self._open is not None:
            kept |= group == 0
        rows = zip(starts[kept] + first, ends[kept] + first, highest[kept], strict=True)
        return [(int(start), int(end), float(high)) for start, end, high in rows]

    def _extend(self, highest: float, end: int) -> None:
        if self._open is not None:
            self._open.last, self._open.score = end - 1, max(self._open.score, float(highest))

    def _begin(self, onsets: np.ndarray, base: int, step: int) -> None:
        """Open a segment at the peak of the onset score near its first step, if there is a peak."""
        low = max(step - self._timing.near, base, self._last_onset + self._timing.peak)
        near = onsets[low - base : step + self._timing.near + 1 - base]
        start, onset, highest = float(step), step, near.max(initial=0)
        if highest >= FAINT:
            onset = low + int(near.argmax())
            start = _peak(onsets, onset - base) + base
        is_new = bool(highest >= self.settings.retrigger_threshold)
        self._open = _Open(start, onset, step, 0.0, min(onset, step), is_new)

    def _retriggers(self, onsets: np.ndarray, base: int, start: int, end: int) -> list[int]:
        """Return the steps from `start` to `end` with a new onset of an active label."""
        if self.settings.retrigger_threshold >= 1 or self._open is None:
            return []
        found, before = [], self._open.onset
        for step in np.flatnonzero(onsets[start - base : end - base] >= self.settings.retrigger_threshold) + start:
            near = onsets[max(step - self._timing.peak - base, 0) : step + self._timing.peak + 1 - base]
            if step > before + self._timing.peak and onsets[step - base] == near.max():
                found.append(int(step))
                before = int(step)
        return found

    def close(self) -> list[Candidate]:
        """End the open segment; return it if its score reaches the threshold."""
        found, self._open = self._open, None
        if found is None or found.score < self.settings.threshold:
            return []
        self._last_onset = found.onset
        found.gather(self._label_logits, self._base, found.last + 1, self._most)
        start_s = max(0.0, self._ended_s, self._timing.at(found.start) + self.settings.onset_shift_s)
        end_s = max(self._timing.at(found.last + 0.5) + self.settings.offset_shift_s, start_s + self._timing.step_s)
        self._ended_s = end_s
        return [Candidate(start_s, end_s, self.number, found.score, found.segment_rows(), found.is_new)]


def _peak(onsets: np.ndarray, at: int) -> float:
    """Return the position of a maximum between steps, by a parabola through the logarithms of three values."""
    if not 0 < at < len(onsets) - 1:
        return float(at)
    before, here, after = np.log(onsets[at - 1 : at + 2] + 1e-4)
    bend = before - 2 * here + after
    return at + float(0.5 * (before - after) / bend) if bend < 0 else float(at)
