"""What every fitting has in common: examples, the line of progress, the result, and how it is judged."""

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from barn_owl.classify.dataset import ClipFrames
from barn_owl.classify.family import Family
from barn_owl.classify.network import cross_entropy
from barn_owl.classify.network.loss import smoothed
from barn_owl.classify.plan import Plan
from barn_owl.features.cache import Excerpt


@dataclass(frozen=True, kw_only=True)
class Progress:
    """One line of the learning curves."""

    epoch: int
    epochs: int
    train_loss: float
    validation_loss: float
    validation_recall: float
    """Mean recall over labels (balanced accuracy) on the validation clips."""
    best: bool
    seconds: float
    waiting: float = 0.0
    """Share of the epoch that was spent waiting for the windows to learn from."""


Watcher = Callable[[Progress], None]


@dataclass(frozen=True, kw_only=True)
class Examples:
    """Clips of one side of the split: their frames and their label numbers, shape ``(clips,)``."""

    clips: ClipFrames
    numbers: np.ndarray
    sources: list[Excerpt] = field(default_factory=list)
    """Where the sound of each clip is; empty when it is not at hand, which leaves changes to the sound out."""


@dataclass(kw_only=True)
class Fitted:
    """A fitted family, its standardisation and how it came about."""

    family: Family
    mean: np.ndarray
    deviation: np.ndarray
    curves: list[Progress] = field(default_factory=list)
    interrupted: bool = False

    @property
    def best(self) -> Progress:
        """The epoch whose weights were kept."""
        return [line for line in self.curves if line.best][-1]


def standardisation(clips: ClipFrames) -> tuple[np.ndarray, np.ndarray]:
    """Mean and deviation of each band over all frames; float32, shape ``(bands,)``; summed in float64."""
    # Clip by clip and in float64: the frames may be a map larger than memory, and sums of many are exact.
    count = sum(len(part) for part in clips.parts)
    mean = sum(part.sum(axis=0, dtype=np.float64) for part in clips.parts) / count
    square = sum(np.einsum("fb,fb->b", part, part, dtype=np.float64) for part in clips.parts) / count
    deviation = np.sqrt(np.maximum(square - mean**2, 0))
    # A band that never changes (nothing reaches it) must not be blown up.
    return mean.astype(np.float32), np.maximum(deviation, 1.0).astype(np.float32)


def window_frames(plan: Plan) -> int:
    """Count the frames of a window of the length that the plan asks for."""
    return plan.front_end.count(round(plan.clips.length_s * plan.front_end.rate_hz))


def balanced_order(numbers: np.ndarray, draws: int, rng: np.random.Generator) -> np.ndarray:
    """Draw clips for one epoch in random order, all labels equally often, so that rare ones are repeated.

    numbers : label of each clip. Returns `draws` clip numbers.
    """
    present = np.unique(numbers)
    share = -(-draws // len(present))
    drawn = []
    for number in present:
        own = np.flatnonzero(numbers == number)
        drawn.append(np.concatenate([rng.permutation(own) for _ in range(-(-share // len(own)))])[:share])
    return rng.permutation(np.concatenate(drawn))[:draws]


def background_clips(plan: Plan, labels: list[str], train: Examples) -> np.ndarray:
    """Numbers of the training clips whose label is background."""
    return np.flatnonzero(np.isin(train.numbers, [n for n, label in enumerate(labels) if label in plan.background]))


def label_weights(numbers: np.ndarray, labels: int) -> np.ndarray:
    """Weight of each label so that all count the same, 1 on average over the clips; float32, ``(labels,)``."""
    counts = np.bincount(numbers, minlength=labels)
    return (len(numbers) / np.maximum(counts, 1) / np.count_nonzero(counts)).astype(np.float32)


def judge_logits(logits: np.ndarray, numbers: np.ndarray) -> tuple[float, float]:
    """Cross-entropy and recall, each the mean over the labels that occur in `numbers`."""
    present = np.unique(numbers)
    best = logits.argmax(axis=1)
    losses, recalls = [], []
    for number in present:
        own = numbers == number
        losses.append(cross_entropy(logits[own], smoothed(numbers[own], logits.shape[1], 0.0))[0])
        recalls.append(float((best[own] == number).mean()))
    return float(np.mean(losses)), float(np.mean(recalls))
