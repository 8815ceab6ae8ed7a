"""The model: front end, labels, weights and decoding settings, and its predictions."""

from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from barn_owl.audio import resample
from barn_owl.audio.samples import as_mono
from barn_owl.classifiers.base import Classifier, Cost, FrameScores, clip_logits, segment_logits
from barn_owl.features import FrontEnd
from barn_owl.features.activity import clip_background, quiet_level
from barn_owl.model.exemplars import Exemplar, packed
from barn_owl.model.extras import ExtraColumns
from barn_owl.model.file import write_model_file
from barn_owl.model.settings import DecodingSettings
from barn_owl.names import printable
from barn_owl.network import sigmoid, softmax
from barn_owl.sound import UniformSettings, preprocess
from barn_owl.wording import facts_in_html

STEPS_PER_BLOCK = 1024
SHOWN_LABELS = 8
"""Labels that a model shows of itself."""


class ClipOutput(NamedTuple):
    """Output of a model for a clip: log-odds of each label, ``(labels,)``, embedding, ``(features,)``, and the
    highest activity of any label except background at any step."""

    logits: np.ndarray
    embedding: np.ndarray
    highest: float


@dataclass(frozen=True, kw_only=True, eq=False, repr=False)
class Model:
    """A trained classifier with everything needed to use it.

    Attributes
    ----------
    labels : list[str]
        Names in the order of the scores.
    background : list[str]
        Labels of background, which are never events.
    front_end : FrontEnd
        Front end.
    clips : UniformSettings
        Preprocessing of clips.
    decoding : DecodingSettings
        Decoding settings.
    mean, deviation : np.ndarray
        Frames are standardized with these, float32, shape ``(width,)``.
    classifier : Classifier
        Trained classifier.
    ignored : list[str]
        Labels that are predicted for clips but never reported as events.
    multilabel : bool
        Whether each label is scored independently, so that scores of a clip need not sum to 1.
    temperature : float
        Divisor of the log-odds of clips, for calibrated scores.
    thresholds : dict[str, float]
        Score that a label must reach to be predicted for a clip; a label that is not in it needs none, or 0.5 where
        labels overlap.
    extra_columns : ExtraColumns
        Further columns of a clip table that the classifier looks at.
    provenance : dict[str, Any]
        Time, data and versions of the training.
    exemplars : list[Exemplar]
        Training clips that the model keeps, to add labels without the old clips.
    previous_decoding : DecodingSettings | None
        Decoding settings before the last adjustment.

    Examples
    --------
    >>> model = barn_owl.load_model("first")
    >>> model.labels
    ['hiss', 'hum', 'still', 'tick']
    >>> scores = model.score(np.zeros(16000), 16000)
    >>> list(scores)[0], round(scores["hum"], 1)
    ('hum', 0.8)
    """

    labels: list[str]
    background: list[str]
    front_end: FrontEnd
    clips: UniformSettings
    decoding: DecodingSettings
    mean: np.ndarray
    deviation: np.ndarray
    classifier: Classifier
    ignored: list[str] = field(default_factory=list)
    multilabel: bool = False
    temperature: float = 1.0
    thresholds: dict[str, float] = field(default_factory=dict)
    extra_columns: ExtraColumns = field(default_factory=lambda: ExtraColumns(columns=[]))
    provenance: dict[str, Any] = field(default_factory=dict)
    exemplars: list[Exemplar] = field(default_factory=list)
    previous_decoding: DecodingSettings | None = None

    def __repr__(self) -> str:
        """Summarize the model in a line; see `facts`."""
        return f"Model({'; '.join(self.facts.values())})"

    def _repr_html_(self) -> str:
        """For a notebook."""
        return facts_in_html(self.facts)

    @property
    def facts(self) -> dict[str, str]:
        """Facts about the model in words, by name."""
        shown, front_end = [printable(label) for label in self.labels], self.front_end
        more = f" and {len(shown) - SHOWN_LABELS} more" if len(shown) > SHOWN_LABELS else ""
        trained = f", trained on {count} clips" if (count := self.provenance.get("training_clips")) else ""
        return {
            "classifier": f"{self.classifier.name}{trained}",
            "labels": f"{len(shown)} labels: {', '.join(shown[:SHOWN_LABELS])}{more}",
            "frames": f"{front_end.width} features every {front_end.hop_ms:g} ms at {front_end.rate_hz} Hz",
            "size": f"{self.cost.weights:,} weights, {self.cost.multiply_adds:,} multiply-adds a second",
        }

    @property
    def window_s(self) -> float:
        """How much sound a step looks at, in seconds."""
        return self.front_end.samples_for(self.classifier.window) / self.front_end.rate_hz

    @property
    def step_s(self) -> float:
        """Time between steps in seconds."""
        return self.classifier.step * self.front_end.hop_s

    @property
    def cost(self) -> Cost:
        """How large it is, and how much work a second of sound is."""
        return self.classifier.cost(self.front_end.hop_s)

    @cached_property
    def sounding(self) -> np.ndarray:
        """Numbers of the labels that are not background."""
        return np.array([n for n, label in enumerate(self.labels) if label not in self.background], dtype=int)

    @property
    def classifies_segments(self) -> bool:
        """Whether the activity of all labels is tracked together and segments are classified; otherwise each label is
        tracked."""
        return self.classifier.has_onsets and not self.multilabel

    @property
    def event_labels(self) -> list[str]:
        """Labels that are reported as events."""
        return [label for label in self.labels if label not in (*self.background, *self.ignored)]

    def frame_scores(self, frames: np.ndarray, extras: np.ndarray | None = None) -> FrameScores:
        """Return the scores of `frames` of the front end, ``(frames, width)``, step by step.

        Step *i* sees the `window` frames that begin at frame ``i * step``, and describes their center.

        Parameters
        ----------
        frames : np.ndarray
            Frames of the front end, float32, ``(frames, width)``.
        extras : np.ndarray | None
            Values of the extra columns, ``(extras,)``.
        """
        classifier, parts = self.classifier, []
        # Long clips are scored in pieces: the activations of a network are many times larger than the frames.
        for first in range(0, max(1, len(frames) - classifier.window + 1), STEPS_PER_BLOCK * classifier.step):
            part = frames[first : first + (STEPS_PER_BLOCK - 1) * classifier.step + classifier.window]
            parts.append(classifier.frame_scores((part - self.mean) / self.deviation, extras))
        return parts[0] if len(parts) == 1 else FrameScores(*map(np.concatenate, zip(*parts, strict=True)))

    def around(self, frames: np.ndarray) -> np.ndarray:
        """Return the padding before and after frames: half a window of their quiet level, so that steps describe all
        frames.

        Parameters
        ----------
        frames : np.ndarray
            Frames of the front end, float32, ``(frames, width)``.
        """
        return np.repeat(quiet_level(frames)[None], self.classifier.window // 2, axis=0)

    def _clip_padding(self, frames: np.ndarray) -> np.ndarray:
        """The same for a clip; see `clip_background`."""
        if not self.front_end.is_log_mel:
            return self.around(frames)
        return np.repeat(
            clip_background(frames, self.front_end.hop_s, self.front_end.floor_db)[None],
            self.classifier.window // 2,
            axis=0,
        )

    def clip(self, frames: np.ndarray, extras: np.ndarray | None = None) -> ClipOutput:
        """Score a clip, given as frames of the front end.

        Parameters
        ----------
        frames : np.ndarray
            Frames of the front end, float32, ``(frames, width)``.
        extras : np.ndarray | None
            Values of its extra columns.
        """
        around = self._clip_padding(frames)
        output = self.frame_scores(np.concatenate([around, frames, around]), extras)
        activity = output.activity if self.classifies_segments else output.activity[:, self.sounding]
        highest = float(sigmoid(activity).max(initial=0))
        logits = clip_logits(self.classifier, output, (frames - self.mean) / self.deviation, extras)
        return ClipOutput(logits, segment_logits(output.label_logits, output.embedding), highest)

    def clip_scores(self, logits: np.ndarray) -> np.ndarray:
        """Scores from 0 to 1 for the log-odds of clips, ``(..., labels)``; they sum to 1 unless labels overlap.

        Parameters
        ----------
        logits : np.ndarray
            Logits, ``(..., labels)``.
        """
        logits = logits / np.float32(self.temperature)
        return sigmoid(logits) if self.multilabel else softmax(logits)

    def score_frames(self, frames: np.ndarray, extras: np.ndarray | None = None) -> np.ndarray:
        """Return the scores of a clip, given as frames of the front end; float32, ``(labels,)``. See `clip`.

        Parameters
        ----------
        frames : np.ndarray
            Frames of the front end, float32, ``(frames, width)``.
        extras : np.ndarray | None
            Values of the extra columns, ``(extras,)``.
        """
        return self.clip_scores(self.clip(frames, extras).logits)

    def score(self, samples: np.ndarray, rate_hz: int) -> dict[str, float]:
        """Score a clip at any rate; returns scores by label, best first. Types and shapes as for
        `barn_owl.FrontEnd.frames`.

        Parameters
        ----------
        samples : np.ndarray
            Samples, ``(samples,)`` or ``(samples, channels)``; types as for `barn_owl.FrontEnd.frames`.
        rate_hz : int
            Sample rate in Hz.

        Raises
        ------
        AudioError
            If the samples have an unsupported type or shape, are not finite or too short for a frame.
        """
        samples = as_mono(samples)
        samples = preprocess(resample(samples, rate_hz, self.front_end.rate_hz), self.front_end.rate_hz, self.clips)
        scores = self.score_frames(self.front_end.frames(samples))
        return {self.labels[label]: float(scores[label]) for label in np.argsort(-scores)}

    def described(self) -> dict[str, Any]:
        """Return labels, front end and decoding as plain values, as needed to use the weights."""
        return {
            "labels": self.labels,
            "background": self.background,
            "ignored": self.ignored,
            "front_end": self.front_end.described(),
            "decoding": self.decoding.model_dump(),
        }

    def save(self, path: str | Path, *, force: bool = False) -> None:
        """Write the model file atomically.

        Parameters
        ----------
        path : str | Path
            The file.
        force : bool
            Whether an existing file is overwritten.

        Raises
        ------
        ModelError
            If the classifier is a third-party estimator.
        OutputError
            If the file exists and `force` is false, or cannot be written.
        """
        custom = [feature.identity() for feature in self.front_end.custom.values()]
        header = self.described() | ({"custom_features": custom} if custom else {})
        header |= {
            "clips": self.clips.model_dump(),
            "previous_decoding": None if self.previous_decoding is None else self.previous_decoding.model_dump(),
            "multilabel": self.multilabel,
            "temperature": self.temperature,
            "thresholds": self.thresholds,
            "extra_columns": self.extra_columns.as_list(),
            "classifier": {"name": self.classifier.name, **self.classifier.config()},
            "provenance": self.provenance,
            "exemplars": [one.label for one in self.exemplars],
            "held_out_exemplars": [number for number, one in enumerate(self.exemplars) if one.held_out],
        }
        arrays = {f"weights.{name}": array for name, array in self.classifier.state().items()}
        arrays |= {"mean": self.mean, "deviation": self.deviation}
        arrays |= {
            f"exemplars.{number}": packed(one.frames, self.front_end.floor_db)
            for number, one in enumerate(self.exemplars)
        }
        write_model_file(path, header, arrays, force=force)
