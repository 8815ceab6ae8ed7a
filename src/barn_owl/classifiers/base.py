"""The interface of a trained classifier: frames in, scores per step out.

A classifier scores frames, ``(frames, features)``. Step *i* sees the `window` frames from frame ``i * step`` on and
describes their center. It depends on nothing outside its window, so an excerpt has the scores of its recording.
"""

from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol, runtime_checkable

import numpy as np

from barn_owl.network.loss import softmax


@dataclass(frozen=True, kw_only=True)
class Cost:
    """Cost of a classifier: number of weights, and multiply-adds per second of sound."""

    weights: int
    multiply_adds: int


class FrameScores(NamedTuple):
    """Scores of a classifier, step by step.

    Attributes
    ----------
    activity, onsets : np.ndarray
        Log-odds that a label is active, and that it has an onset, ``(steps, labels)``; where segments are classified,
        of any label with events, ``(steps, 1)``.
    label_logits : np.ndarray
        Logits of the labels and of none of them, then the attention of the step, ``(steps, labels + 2)``; see
        `segment_logits`.
    embedding : np.ndarray
        Input of the outputs, ``(steps, features)``; similar sounds have similar embeddings.
    """

    activity: np.ndarray
    onsets: np.ndarray
    label_logits: np.ndarray
    embedding: np.ndarray


def segment_logits(label_logits: np.ndarray, values: np.ndarray | None = None) -> np.ndarray:
    """Return the attention-weighted mean of the label logits of a segment, float32, ``(labels + 1,)``.

    label_logits : see `FrameScores`; at least one step. values : averaged in place of the logits, ``(steps, ...)``.
    The last logit is that of none of the labels; weights are the exponential of attention.
    """
    attention = label_logits[:, -1]
    weights = np.exp(attention - attention.max())
    return np.asarray(
        weights @ (label_logits[:, :-1] if values is None else values) / weights.sum(), dtype=np.float32
    )


def label_scores(activity: np.ndarray, label_logits: np.ndarray) -> np.ndarray:
    """Return the score of each label at each step, 0 to 1, ``(steps, labels)``.

    activity : scores, ``(steps, labels)``, or ``(steps, 1)`` of any label, which is then divided by the probabilities
    of the labels at the step. label_logits : see `FrameScores`.
    """
    labels = label_logits.shape[-1] - 2
    return activity if activity.shape[-1] == labels else activity * softmax(label_logits[..., :-1])[..., :labels]


class Classifier(Protocol):
    """A trained classifier."""

    name: str
    window: int
    step: int
    has_onsets: bool
    """Whether it has onset scores; then, unless labels overlap, the activity of all labels is tracked together, and
    segments are classified as wholes."""

    def frame_scores(self, frames: np.ndarray, extras: np.ndarray | None = None) -> FrameScores:
        """Return the scores of all steps that fit into `frames`.

        extras : what further columns of the table say, ``(extras,)``, for a classifier that looks at them.

        Parameters
        ----------
        frames : np.ndarray
            Standardized frames, float32, ``(frames, features)``.
        """

    def state(self) -> dict[str, np.ndarray]:
        """Return all that was learned, by name."""

    def config(self) -> dict[str, Any]:
        """Return the settings needed to rebuild the classifier before its arrays are loaded."""

    def cost(self, hop_s: float) -> Cost:
        """Return the number of weights and the multiply-adds per second, with a frame every `hop_s` seconds.

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
    """Return logits of each label for a clip, ``(labels,)``: segment logits of its steps; for a
    `WholeClipClassifier`, their mean with the logits of all frames at once.

    scores : of the steps of the clip and its padding; frames : of the clip alone, as the classifier takes
    them.
    """
    logits = segment_logits(scores.label_logits)[:-1]
    if isinstance(classifier, WholeClipClassifier):
        logits = np.asarray((logits + classifier.whole(frames, extras)) / 2, dtype=np.float32)
    return logits
