"""Frames under construction and their targets: active labels, onsets, and masked frames."""

import numpy as np

from barn_owl.learn.sources import TINY

AUDIBLE = 1.0
"""Minimum signal-to-noise ratio of an active frame in the clearest bands of the sound."""
MAX_ONSET_DELAY_S = 0.13
"""Time after its onset by which a sound must be active for the onset to count."""
QUIET_TRIES, QUIET_S = 3, (0.1, 1.3)
"""Stretches where nothing sounds that a mixture may have named, and how long they are."""


class LabeledFrames:
    """A mixture in the making.

    bed : frames behind all sounds; bed_labels : which labels those have, NaN where no one knows.
    """

    def __init__(self, bed: np.ndarray, bed_labels: np.ndarray, hop_s: float) -> None:
        self.frames, self._bed_labels, self._hop_s = bed, bed_labels, hop_s
        labels = len(bed_labels)
        length = len(bed)
        self.activity, self.onsets = (np.zeros((length, labels), dtype=np.float32) for _ in range(2))
        self.counts = np.ones((length, labels), dtype=np.float32)
        self.events: list[tuple[int, int, int]] = []
        self.clip = -1
        self._parts: list[tuple[int, np.ndarray, np.ndarray, int, np.ndarray | None]] = []

    def add(
        self, part: np.ndarray, start: int, active: np.ndarray, onset: int, labels: np.ndarray | None, adds: bool
    ) -> None:
        """Add a sound at frame `start`, or replace the frames there."""
        if adds:
            self.frames[start : start + len(part)] += part
            self._parts.append((start, part, active, onset, labels))
        else:
            self.frames[start : start + len(part)] = part
            self._mark(start, active, onset, labels, active)

    def put_whole(
        self, frames: np.ndarray, start: int, active: np.ndarray, onset: int, labels: np.ndarray | None
    ) -> None:
        """Replace frames by all frames of a clip."""
        self.frames[start : start + len(frames)] = frames
        if labels is None:
            self.events.append((start, start + len(frames), self.activity.shape[1]))
            return
        for number in np.flatnonzero(labels):
            self.activity[start : start + len(frames), number] = active
            if 0 <= onset < len(frames):
                self.onsets[start + onset, number] = 1
            self.events.append((start, start + len(frames), int(number)))

    def add_up(self, response: np.ndarray) -> None:
        """Find the frames where sounds are active above all else, and apply the frequency response."""
        for start, part, active, onset, labels in self._parts:
            over = self.frames[start : start + len(part)] - part
            np.maximum(over, np.float32(TINY), out=over)
            np.divide(part, over, out=over)
            # Three neighboring bands, and three frames, must agree.
            clear = (over[:, :-2] + over[:, 1:-1] + over[:, 2:]).max(axis=1)
            around = np.concatenate([clear[:1], clear, clear[-1:]])
            audible = active & (around[:-2] + clear + around[2:] > 9 * AUDIBLE)
            self._mark(start, active, onset, labels, audible)
        self.frames *= response

    def _mark(
        self, start: int, active: np.ndarray, onset: int, labels: np.ndarray | None, audible: np.ndarray
    ) -> None:
        """Find the active frames of a sound; frames covered by louder sound are masked."""
        if not active.any():
            return
        wanted, found = np.flatnonzero(active) + start, np.flatnonzero(audible) + start
        if labels is None:
            if len(found):
                self.events.append((int(found[0]), int(found[-1]) + 1, self.activity.shape[1]))
            return
        own = np.flatnonzero(labels)
        doubtful = slice(wanted[0], wanted[-1] + 1)
        for number in own:
            self.counts[doubtful, number] = np.where(
                self.activity[doubtful, number] > 0, self.counts[doubtful, number], 0
            )
            if not len(found):
                continue
            first, last = found[0], found[-1] + 1
            self.counts[first:last, number] = self.activity[first:last, number] = 1
            if (
                0 <= onset < len(self.onsets)
                and onset >= start
                and (found < onset + MAX_ONSET_DELAY_S / self._hop_s).any()
            ):
                self.onsets[onset, number] = 1
            self.events.append((int(first), int(last), int(number)))

    def mark(self, background: list[int]) -> None:
        """Background is where no label sounds."""
        named = [number for number in range(self.activity.shape[1]) if number not in background]
        nothing = ~self.activity[:, named].any(axis=1)
        sure = self.counts[:, named].all(axis=1)
        for number in background:
            is_known = not np.isnan(self._bed_labels[number])
            self.activity[:, number] = nothing * (self._bed_labels[number] if is_known else 0)
            self.counts[:, number] = sure & (is_known | ~nothing)

    def name_quiet(self, background: list[int], rng: np.random.Generator) -> None:
        """Label inactive segments with the label of the background, or with none of the labels if unknown, so that a
        false candidate there is rejected."""
        none = self.activity.shape[1]
        known = [number for number in background if self._bed_labels[number] == 1]
        label = known[0] if len(known) == 1 else none
        named = [number for number in range(none) if number not in background]
        taken = self.activity[:, named].any(axis=1) | (self.counts[:, named] == 0).any(axis=1)
        for first, last, _ in self.events:
            taken[first:last] = True
        for _ in range(QUIET_TRIES):
            length = round(rng.uniform(*QUIET_S) / self._hop_s)
            first = int(rng.integers(max(1, len(taken) - length)))
            if not taken[first : first + length].any():
                self.events.append((first, first + length, label))
                taken[first : first + length] = True
