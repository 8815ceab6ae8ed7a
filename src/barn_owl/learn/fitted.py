"""Shared by all fitting: examples, progress, result, and evaluation."""

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from barn_owl.audio import Excerpt
from barn_owl.classifiers.base import Classifier
from barn_owl.clips import ClipFrames
from barn_owl.learn.plan import Plan
from barn_owl.learn.sharing import Memo
from barn_owl.network import binary_cross_entropy, cross_entropy


@dataclass(frozen=True, kw_only=True)
class Progress:
    """Scores of an epoch.

    Attributes
    ----------
    epoch : int
        Number of the epoch, from 1, and of all.
    epochs : int
        Number of the epoch, from 1, and of all.
    train_loss : float
        Cross-entropy of training and validation.
    validation_loss : float
        Cross-entropy of training and validation.
    validation_recall : float
        Macro recall and macro F1 of the validation split.
    validation_f1 : float
        Macro recall and macro F1 of the validation split.
    best : bool
        Whether this is the best epoch so far.
    seconds : float
        Time of the epoch.
    waiting : float
        Part of it spent waiting for data, in seconds.
    refit : bool
        Whether validation clips are trained on.
    """

    epoch: int
    epochs: int
    train_loss: float
    validation_loss: float
    validation_recall: float
    """Mean recall over labels (balanced accuracy) on the validation clips."""
    validation_f1: float
    """Mean F1 over labels on the validation clips."""
    best: bool
    seconds: float
    waiting: float = 0.0
    """Share of the epoch that was spent waiting for the mixtures to train on."""
    refit: bool = False
    """Whether the training is the second, on the training and validation clips together."""


Watcher = Callable[[Progress], None]


@dataclass(frozen=True, kw_only=True)
class Examples:
    """Clips of a split: frames and targets.

    Attributes
    ----------
    clips : ClipFrames
        Frames of the clips.
    targets : np.ndarray
        1 for the labels of a clip, else 0; float32, ``(clips, labels)``.
    extras : np.ndarray
        Values of extra columns, ``(clips, extras)``.
    sources : list[Excerpt]
        Where the sound of each clip is; empty when it is not available, which leaves changes to the sound
        out.
    multilabel : bool
        Whether a clip may have several labels.
    behind : ClipFrames
        Background of recordings.
    unlabeled : ClipFrames
        Stretches of recordings whose sounds have no labels.
    groups : list[str]
        Group of each clip, which must be in a single split; empty if each clip is its own group.
    memo : Memo | None
        Cache shared by classifiers that train on the same clips; see `shared`.
    """

    clips: ClipFrames
    targets: np.ndarray
    extras: np.ndarray
    sources: list[Excerpt] = field(default_factory=list)
    multilabel: bool = False
    behind: ClipFrames = field(default_factory=lambda: ClipFrames([]))
    unlabeled: ClipFrames = field(default_factory=lambda: ClipFrames([]))
    groups: list[str] = field(default_factory=list)
    memo: Memo | None = None

    def __getstate__(self) -> dict[str, Any]:
        """Pickle without the cache."""
        return self.__dict__ | {"memo": None}

    def take(self, rows: np.ndarray) -> "Examples":
        """Return some of the clips, in the order requested.

        Parameters
        ----------
        rows : np.ndarray
            Numbers of clips.
        """
        return replace(
            self,
            clips=self.clips.take(rows),
            targets=self.targets[rows],
            extras=self.extras[rows],
            sources=[self.sources[row] for row in rows if row < len(self.sources)],
            groups=[self.groups[row] for row in rows if row < len(self.groups)],
        )

    def with_more(self, more: "Examples") -> "Examples":
        """Return the clips followed by `more`.

        Parameters
        ----------
        more : Examples
            Clips of the same labels.
        """
        # Clips without sound files stay at the end.
        has_source = np.concatenate([np.arange(len(one.clips)) < len(one.sources) for one in (self, more)])
        order = np.argsort(~has_source, kind="stable")
        return replace(
            self,
            clips=ClipFrames([*self.clips.parts, *more.clips.parts]).take(order),
            targets=np.concatenate([self.targets, more.targets])[order],
            extras=np.concatenate([self.extras, more.extras])[order],
            sources=[*self.sources, *more.sources],
            groups=[],
        )

    @property
    def numbers(self) -> np.ndarray:
        """Label number of each clip, ``(clips,)``; of several labels the rarest, so that it is not forgotten."""
        return rarest_label(self.targets)

    def name(self, clip: int) -> str:
        """Return the name of a clip for messages.

        Parameters
        ----------
        clip : int
            Number of a clip.
        """
        return self.sources[clip].file if clip < len(self.sources) else f"clip {clip}"


@dataclass(kw_only=True)
class Fitted:
    """A fitted classifier, its standardization and its history.

    Attributes
    ----------
    classifier : Classifier
        Trained classifier.
    mean : np.ndarray
        Standardization of the frames, ``(features,)``.
    deviation : np.ndarray
        Standardization of the frames, ``(features,)``.
    curves : list[Progress]
        Scores of each epoch or candidate.
    interrupted : bool
        Whether training was stopped by Ctrl-C.
    trouble : str
        Why training ended early; blank if it did not.
    held_out : np.ndarray
        Network that did not train on each validation clip, ``(clips,)``; empty if there is none.
    """

    classifier: Classifier
    mean: np.ndarray
    deviation: np.ndarray
    curves: list[Progress] = field(default_factory=list)
    interrupted: bool = False
    trouble: str = ""
    """Reason why fitting ended early; the best weights until then are kept."""
    held_out: np.ndarray = field(default_factory=lambda: np.zeros(0, dtype=int))
    """Which network has not trained on each validation clip; empty where all have not."""

    @property
    def best(self) -> Progress:
        """The epoch whose weights were kept."""
        return [line for line in self.curves if line.best][-1]


def standardization(plan: Plan, clips: ClipFrames) -> tuple[np.ndarray, np.ndarray]:
    """Mean and deviation of each feature over all frames; float32, shape ``(features,)``; summed in float64.

    Levels that are normalized to their surroundings are not standardized.
    """
    if plan.levels.frames:
        width = plan.front_end.width
        return np.zeros(width, dtype=np.float32), np.ones(width, dtype=np.float32)
    # Clip by clip and in float64: the frames may be a map larger than memory, and sums of many are exact.
    count = sum(len(part) for part in clips.parts)
    mean = sum(part.sum(axis=0, dtype=np.float64) for part in clips.parts) / count
    square = sum(np.einsum("fb,fb->b", part, part, dtype=np.float64) for part in clips.parts) / count
    deviation = np.sqrt(np.maximum(square - mean**2, 0))
    # A band that never changes (nothing reaches it) must not be blown up.
    return mean.astype(np.float32), np.maximum(deviation, 1.0).astype(np.float32)


def background_numbers(plan: Plan, labels: list[str]) -> list[int]:
    """Numbers of the labels that mean nothing of interest."""
    return [number for number, label in enumerate(labels) if label in plan.background]


def held_out_parts(examples: Examples, count: int) -> np.ndarray:
    """Deal the groups of examples out to this many parts, each label as evenly as that goes; the part of each clip.

    A part is held out from one of several networks. With a single group, all clips are in the first part.
    """
    groups = np.array(examples.groups or [str(number) for number in range(len(examples.clips))])
    names, of_clip = np.unique(groups, return_inverse=True)
    if len(names) < 2 or count < 2:
        return np.zeros(len(groups), dtype=int)
    held = np.stack([examples.targets[of_clip == number].sum(axis=0) for number in range(len(names))])
    parts, given = np.zeros(len(names), dtype=int), np.zeros((count, held.shape[1]))
    # Largest group first, to the part with the least of its labels and, among equals, the fewest clips.
    for number in np.argsort(-held.sum(axis=1), kind="stable"):
        parts[number] = min(range(count), key=lambda part: (given[part] @ held[number], given[part].sum(), part))
        given[parts[number]] += held[number]
    return np.asarray(parts[of_clip])


TEMPERATURES = np.float32(2) ** np.linspace(-1.5, 3.5, 11, dtype=np.float32)
"""Temperatures that are tried to judge logits."""


def evaluate_logits(logits: np.ndarray, targets: np.ndarray, *, multilabel: bool) -> tuple[float, float, float]:
    """Loss, recall and F1, each the mean over the labels that occur.

    logits, targets : ``(rows, labels)``. The loss is that at the temperature which suits the rows best, as the model
    will have a temperature: else a few confident errors on an unusual recorder would favor the least trained network.
    """
    if multilabel:
        predicted, loss = logits > 0, binary_cross_entropy
    else:
        predicted, loss = logits.argmax(axis=1)[:, None] == np.arange(logits.shape[1]), cross_entropy
    is_so = targets > 0.5
    right, given, count = (predicted & is_so).sum(axis=0), predicted.sum(axis=0), is_so.sum(axis=0)
    occurs = count > 0
    numbers = rarest_label(targets)
    by_label = [(logits[rows], targets[rows]) for rows in (numbers == number for number in np.unique(numbers))]
    losses = [np.mean([loss(own / warm, so)[0] for own, so in by_label]) for warm in TEMPERATURES]
    recall = float((right / np.maximum(count, 1))[occurs].mean())
    return float(np.min(losses)), recall, float((2 * right / np.maximum(given + count, 1))[occurs].mean())


def rarest_label(targets: np.ndarray) -> np.ndarray:
    """Label number of each row of targets; of several labels the rarest, and of none the number behind the last."""
    counts = targets.sum(axis=0)
    rarest = (targets / np.maximum(counts, 1)).argmax(axis=1)
    return np.asarray(np.where(targets.any(axis=1), rarest, targets.shape[1]))
