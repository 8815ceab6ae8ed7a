"""The interface of a trained classifier: frames in, scores per step out.

A classifier sees frames, ``(frames, features)``. Its step *i* looks at the `window` frames from frame ``i * step``
on, and tells what sounds in the middle of them. Nothing else of the recording counts, so an excerpt gets the scores
that it has within the recording.
"""

from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol, runtime_checkable

import numpy as np

from barn_owl.network.loss import softmax


@dataclass(frozen=True, kw_only=True)
class Cost:
    """What a classifier costs: numbers it keeps, and multiply-adds to score a second of sound."""

    weights: int
    multiply_adds: int


class FrameScores(NamedTuple):
    """What a classifier says, step by step.

    sounds, onsets : log-odds that a label sounds, and that it begins there, ``(steps, labels)``; where stretches are
    named as a whole, that any label sounds whose sounds are events, ``(steps, 1)``. naming : logits of the labels,
    then of none of them, then the attention of the step, ``(steps, labels + 2)``: a stretch of sound is named by
    `segment_logits`. embedding : input of all these outputs, ``(steps, features)``; similar sounds are close to each other.
    """

    activity: np.ndarray
    onsets: np.ndarray
    label_logits: np.ndarray
    embedding: np.ndarray


def segment_logits(label_logits: np.ndarray, values: np.ndarray | None = None) -> np.ndarray:
    """Logits of a stretch of sound as a whole: the mean over its steps, weighted by the exponential of attention.

    label_logits : of `FrameScores`, ``(steps, labels + 2)``, at least one step. values : what to average instead of the
    logits, ``(steps, ...)``. Returns float32, ``(labels + 1,)``; the last is the logit of none of the labels.
    """
    attention = label_logits[:, -1]
    weights = np.exp(attention - attention.max())
    return np.asarray(
        weights @ (label_logits[:, :-1] if values is None else values) / weights.sum(), dtype=np.float32
    )


def label_scores(activity: np.ndarray, label_logits: np.ndarray) -> np.ndarray:
    """Score of each label at each step, 0 to 1, ``(steps, labels)``.

    activity : scores, ``(steps, labels)`` or ``(steps, 1)``; naming : as in `FrameScores`. Of any label together, each
    gets the share that the step alone would name it by.
    """
    labels = label_logits.shape[-1] - 2
    return activity if activity.shape[-1] == labels else activity * softmax(label_logits[..., :-1])[..., :labels]


class Classifier(Protocol):
    """A trained classifier."""

    name: str
    window: int
    step: int
    has_onsets: bool
    """Whether it tells where sounds begin; unless several may sound at once, whatever label sounds is then followed
    as one, and named as a whole."""

    def frame_scores(self, frames: np.ndarray, extras: np.ndarray | None = None) -> FrameScores:
        """Return what it says of all steps that fit into `frames`.

        extras : what further columns of the table say, ``(extras,)``, for a classifier that looks at them.

        Parameters
        ----------
        frames : np.ndarray
            Standardized frames, float32, ``(frames, features)``.
        """

    def state(self) -> dict[str, np.ndarray]:
        """Return all that was learned, by name."""

    def config(self) -> dict[str, Any]:
        """Return what is needed to build the classifier again before its arrays are loaded."""

    def cost(self, hop_s: float) -> Cost:
        """Say how large it is and how much work a second is, with a frame every `hop_s` seconds.

        Parameters
        ----------
        hop_s : float
            Time between frames in seconds.
        """


@runtime_checkable
class WholeClipClassifier(Protocol):
    """A classifier that can look at all frames of a clip at once."""

    def whole(self, frames: np.ndarray, extras: np.ndarray | None = None) -> np.ndarray:
        """Log-odds of each label for a clip as a whole, ``(labels,)``."""


def clip_logits(
    classifier: Classifier, scores: FrameScores, frames: np.ndarray, extras: np.ndarray | None = None
) -> np.ndarray:
    """Logits of each label for a clip, ``(labels,)``: those of its steps as one stretch, and, of one of
    `WholeClipClassifier`, the mean with what that says of all its frames at once.

    scores : of the steps of the clip and its padding; frames : of the clip alone, as the classifier takes
    them.
    """
    logits = segment_logits(scores.label_logits)[:-1]
    if isinstance(classifier, WholeClipClassifier):
        logits = np.asarray((logits + classifier.whole(frames, extras)) / 2, dtype=np.float32)
    return logits
