"""Consistency on recordings without labels: a mean teacher (A. Tarvainen and H. Valpola, NeurIPS 2017).

The teacher is the network with averaged weights. It scores a stretch of a recording; these scores are the targets of
the network for the same stretch with a different response and gain.
"""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from barn_owl.audio.silence import two_threshold_runs
from barn_owl.classifiers.cnn import split_outputs
from barn_owl.clips import ClipFrames
from barn_owl.learn.augment import Augment
from barn_owl.network import attention_pool, sigmoid, softmax

Teacher = Callable[[np.ndarray], np.ndarray]
"""Returns the outputs of the network with averaged weights."""

ACTIVE, MIN_DURATION_S, SURE = 0.6, 0.2, 0.8
"""Minimum activity of a sound for the teacher, its minimum duration, and the minimum probability of a label, or of
none of them, to become a target."""
WARM, FULL = 0.08, 0.4
"""Shares of the training before which the teacher is not used, and after which its targets weigh as much as true
labels; the weight rises in between."""
GAIN_DB = 6.0


class Consistent(NamedTuple):
    """An augmented stretch of a recording, and its targets from the teacher.

    frames : ``(1, frames, bands)``. wanted, counts : targets of activity and onset of each step, and their loss
    weights, ``(1, steps, 2)``. inside : steps of each segment that the teacher is certain of, ``(1, steps,
    segments)``. names : probabilities of its labels and of none, ``(1, segments, labels + 1)``.
    """

    frames: np.ndarray
    wanted: np.ndarray
    counts: np.ndarray
    inside: np.ndarray
    names: np.ndarray


class Unlabeled:
    """Draws stretches of recordings, and lets a teacher create their targets."""

    def __init__(self, frames: ClipFrames, length: int, step_s: float, labels: int, augment: Augment) -> None:
        self._parts = [part for part in frames.parts if len(part) >= length]
        self._length, self._step_s, self._labels, self._augment = length, step_s, labels, augment

    def drawn(self, teacher: Teacher, progress: float, most: int, rng: np.random.Generator) -> Consistent | None:
        """Draw a stretch; None without recordings, or early in the training.

        teacher : called with frames, ``(1, frames, bands)``. progress : share of the training that is over. most :
        largest number of segments.
        """
        if progress < WARM or not self._parts:
            return None
        part = self._parts[int(rng.integers(len(self._parts)))]
        first = int(rng.integers(len(part) - self._length + 1))
        frames = np.asarray(part[None, first : first + self._length], dtype=np.float32)
        activity, onsets, label_logits = split_outputs(teacher(frames), self._labels)
        wanted = sigmoid(np.concatenate([activity, onsets], axis=-1))
        inside = np.zeros((*wanted.shape[:2], most), dtype=np.float32)
        for number, run in enumerate(active_runs(wanted[0, :, 0], self._step_s)[:most]):
            inside[0, run, number] = 1
        names = softmax(attention_pool(label_logits[..., :-1], label_logits[..., -1], inside)[0])
        inside *= names.max(axis=-1)[:, None] > SURE
        changed = frames + self._augment.response_db(rng) + np.float32(rng.uniform(-GAIN_DB, GAIN_DB))
        return Consistent(changed, wanted, np.full_like(wanted, min(1.0, progress / FULL)), inside, names)


def active_runs(scores: np.ndarray, step_s: float) -> list[slice]:
    """Return runs of active steps of the minimum duration, as slices; scores : ``(steps,)``."""
    least = max(1, round(MIN_DURATION_S / step_s))
    runs = two_threshold_runs(scores, ACTIVE, ACTIVE)
    return [slice(int(first), int(last)) for first, last in runs if last - first >= least]
