"""A model: front end, labels, weights and decision settings, in one safetensors file."""

import json
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from safetensors import SafetensorError, safe_open
from safetensors.numpy import save_file

from barn_owl.audio import resample
from barn_owl.classifiers.base import Cost, Family, Steps, named
from barn_owl.classifiers.kind import rebuild
from barn_owl.errors import AudioError, BarnOwlError, ModelError
from barn_owl.features import FrontEnd
from barn_owl.features.activity import around_clip, quiet_level
from barn_owl.files import is_file, is_folder, not_a_file, whole_file
from barn_owl.model.extras import ExtraColumn, ExtraColumns
from barn_owl.model.header import Header, check_arrays, parsed
from barn_owl.model.kept import Kept, packed, unpacked
from barn_owl.model.settings import DecisionSettings
from barn_owl.names import from_text
from barn_owl.network import sigmoid, softmax
from barn_owl.sound import UniformSettings, make_uniform

FORMAT = 8
"""Version of the header; raised when an older Barn Owl could misread it."""
OLDEST = 8
"""Oldest format that is read."""
STEPS_AT_ONCE = 1024


class ClipSaid(NamedTuple):
    """What a model says of a clip: log-odds of each label, ``(labels,)``, what they are decided by,
    ``(features,)``, and the highest score, at any step, that something sounds: any label but background."""

    logits: np.ndarray
    embedding: np.ndarray
    highest: float


@dataclass(frozen=True, kw_only=True, eq=False)
class Model:
    """A trained classifier with everything needed to use it.

    labels : names in the order of the scores; background : those that mean that nothing of interest sounds;
    unreported : sounds that are named in clips, but are no events.
    mean, deviation : frames are standardised with these, float32, shape ``(width,)``. overlapping : each label is
    scored by itself, so that scores of a clip need not sum to 1. temperature : log-odds of clips are divided by it,
    so that scores promise what they keep. thresholds : score that a label must reach to be said of a clip; a
    label that is not in it needs none, or 0.5 where labels overlap. extra_columns : further columns of a clip table
    that the family looks at.

    >>> model = barn_owl.load_model("first")
    >>> model.labels
    ['hiss', 'hum', 'still', 'tick']
    >>> scores = model.score(np.zeros(16000), 16000)
    >>> sorted(scores) == model.labels
    True
    """

    labels: list[str]
    background: list[str]
    front_end: FrontEnd
    clips: UniformSettings
    decision: DecisionSettings
    mean: np.ndarray
    deviation: np.ndarray
    family: Family
    unreported: list[str] = field(default_factory=list)
    overlapping: bool = False
    temperature: float = 1.0
    thresholds: dict[str, float] = field(default_factory=dict)
    extra_columns: ExtraColumns = field(default_factory=lambda: ExtraColumns(columns=[]))
    provenance: dict[str, Any] = field(default_factory=dict)
    kept: list[Kept] = field(default_factory=list)

    @property
    def window_s(self) -> float:
        """How much sound a step looks at, in seconds."""
        return self.front_end.samples_for(self.family.window) / self.front_end.rate_hz

    @property
    def step_s(self) -> float:
        """Time from one step to the next in seconds."""
        return self.family.step * self.front_end.hop_s

    @property
    def cost(self) -> Cost:
        """How large it is, and how much work a second of sound is."""
        return self.family.cost(self.front_end.hop_s)

    @cached_property
    def sounding(self) -> np.ndarray:
        """Numbers of the labels that are not background."""
        return np.array([n for n, label in enumerate(self.labels) if label not in self.background], dtype=int)

    @property
    def names_events(self) -> bool:
        """Whether any label that sounds is followed as one, and named as a whole; otherwise each by itself."""
        return self.family.onsets and not self.overlapping

    @property
    def event_labels(self) -> list[str]:
        """Labels that are reported as events."""
        return [label for label in self.labels if label not in (*self.background, *self.unreported)]

    def steps(self, frames: np.ndarray, extras: np.ndarray | None = None) -> Steps:
        """Return what the family says of `frames` of the front end, ``(frames, width)``, step by step.

        Step *i* looks at the `window` frames from frame ``i * step`` on, and tells of their middle.
        """
        family, parts = self.family, []
        # A long clip goes through in pieces: what a network keeps of each frame is many times the frame.
        for first in range(0, max(1, len(frames) - family.window + 1), STEPS_AT_ONCE * family.step):
            part = frames[first : first + (STEPS_AT_ONCE - 1) * family.step + family.window]
            parts.append(family.steps((part - self.mean) / self.deviation, extras))
        return parts[0] if len(parts) == 1 else Steps(*map(np.concatenate, zip(*parts, strict=True)))

    def around(self, frames: np.ndarray) -> np.ndarray:
        """What is put before and after frames, so that a step tells of each: half a window of their quiet level."""
        return np.repeat(quiet_level(frames)[None], self.family.window // 2, axis=0)

    def _around_clip(self, frames: np.ndarray) -> np.ndarray:
        """The same for a clip; see `around_clip`."""
        if not self.front_end.is_log_mel:
            return self.around(frames)
        return np.repeat(around_clip(frames, self.front_end.floor_db)[None], self.family.window // 2, axis=0)

    def clip(self, frames: np.ndarray, extras: np.ndarray | None = None) -> ClipSaid:
        """Say what sounds in one clip, given as frames of the front end.

        extras : what its further columns say.
        """
        around = self._around_clip(frames)
        said = self.steps(np.concatenate([around, frames, around]), extras)
        sounds = said.sounds if self.names_events else said.sounds[:, self.sounding]
        highest = float(sigmoid(sounds).max(initial=0))
        return ClipSaid(named(said.naming)[:-1], named(said.naming, said.embedding), highest)

    def clip_scores(self, logits: np.ndarray) -> np.ndarray:
        """Scores from 0 to 1 for the log-odds of clips, ``(..., labels)``; they sum to 1 unless labels overlap."""
        logits = logits / np.float32(self.temperature)
        return sigmoid(logits) if self.overlapping else softmax(logits)

    def score_frames(self, frames: np.ndarray, extras: np.ndarray | None = None) -> np.ndarray:
        """Score one clip given as frames of the front end; float32, shape ``(labels,)``. See `clip`."""
        return self.clip_scores(self.clip(frames, extras).logits)

    def score(self, samples: np.ndarray, rate_hz: int) -> dict[str, float]:
        """Score one clip of mono samples, shape ``(samples,)``, at any rate; label to score, best first.

        Raises AudioError when the samples are not mono, not finite or too short for one frame.
        """
        samples = np.asarray(samples)
        if samples.ndim != 1:
            raise AudioError(f"samples must be mono, shape (samples,); got shape {samples.shape}")
        samples = make_uniform(resample(samples, rate_hz, self.front_end.rate_hz), self.front_end.rate_hz, self.clips)
        scores = self.score_frames(self.front_end.frames(samples))
        return {self.labels[label]: float(scores[label]) for label in np.argsort(-scores)}

    def save(self, path: str | Path) -> None:
        """Write the model file, whole or not at all. Raises ModelError when it holds somebody else's estimator."""
        header = {
            "format": FORMAT,
            "labels": self.labels,
            "background": self.background,
            "unreported": self.unreported,
            "front_end": self.front_end.model_dump(),
            "clips": self.clips.model_dump(),
            "decision": self.decision.model_dump(),
            "overlapping": self.overlapping,
            "temperature": self.temperature,
            "thresholds": self.thresholds,
            "extra_columns": self.extra_columns.as_list(),
            "family": {"name": self.family.name, **self.family.shape()},
            "provenance": self.provenance,
            "kept": [one.label for one in self.kept],
        }
        arrays = {f"weights.{name}": array for name, array in self.family.arrays().items()}
        arrays |= {"mean": self.mean, "deviation": self.deviation}
        arrays |= {
            f"kept.{number}": packed(one.frames, self.front_end.floor_db) for number, one in enumerate(self.kept)
        }
        arrays = {name: np.ascontiguousarray(array) for name, array in arrays.items()}
        with whole_file(path) as beside:
            save_file(arrays, beside, metadata={"barn_owl": json.dumps(header, ensure_ascii=False)})


def load_model(path: str | Path) -> Model:
    """Load a model from its file, or from the folder of a run.

    Raises ModelError when the file is missing, damaged, not a Barn Owl model or from a newer version.

    >>> barn_owl.load_model("first").background
    ['still']
    """
    path = Path(from_text(str(path)))
    if is_folder(path):
        if not is_file(path / "model.safetensors"):
            raise ModelError(f"{path} is not a finished run: it holds no model.safetensors")
        path = path / "model.safetensors"
    if why := not_a_file(path):
        raise ModelError(f"{path} {why}")
    header, arrays = _read(path)
    try:
        return _made(header, arrays)
    except (KeyError, ValueError, BarnOwlError) as error:
        said = str(error) if isinstance(error, ValueError | BarnOwlError) else f"it lacks {error}"
        raise ModelError(f"{path} is damaged: {said}") from error


def _made(header: Header, arrays: dict[str, np.ndarray]) -> Model:
    """Build a model of what its file says, and prove that it can be used."""
    check_arrays(arrays)
    weights = {name[8:]: array for name, array in arrays.items() if name.startswith("weights.")}
    front_end = header.made_front_end()
    deviation = _fitting(arrays["deviation"], front_end.width)
    if not (deviation > 0).all():
        raise ValueError("a deviation of the standardisation is not above 0")
    columns = [ExtraColumn(name=column.name, words=column.words) for column in header.extra_columns]
    model = Model(
        labels=header.labels,
        background=header.background,
        unreported=header.unreported,
        front_end=front_end,
        clips=header.made_clips(),
        decision=header.decision,
        mean=_fitting(arrays["mean"], front_end.width),
        deviation=deviation,
        family=rebuild(header.family, weights, front_end.width, len(header.labels), multilabel=header.overlapping),
        overlapping=header.overlapping,
        temperature=header.temperature,
        thresholds=header.thresholds,
        extra_columns=ExtraColumns(columns=columns),
        provenance=header.provenance,
        kept=[
            Kept(str(label), unpacked(arrays[f"kept.{number}"], front_end.floor_db, front_end.width))
            for number, label in enumerate(header.kept)
        ],
    )
    _prove(model)
    return model


def _prove(model: Model) -> None:
    """Score some silence. Whatever goes wrong there would go wrong in use: arrays of wrong shapes or kinds, no
    numbers.
    """
    family = model.family
    try:
        with np.errstate(all="ignore"):
            frames = np.zeros((family.window + family.step, model.front_end.width), dtype=np.float32)
            said = model.steps(frames + np.float32(model.front_end.floor_db / 2))
    except BarnOwlError:
        raise
    except Exception as error:
        raise ValueError(f"its arrays do not fit together ({type(error).__name__}: {error})") from error
    followed, named_by = (2, 1 if model.names_events else len(model.labels)), (2, len(model.labels) + 2)
    shapes = said.sounds.shape, said.begins.shape, said.naming.shape
    if shapes != (followed, followed, named_by):
        raise ValueError(f"it gives scores of shapes {shapes}, expected {(followed, followed, named_by)}")
    if not all(np.isfinite(part).all() for part in said[:3]):
        raise ValueError("it gives scores that are no numbers")


def _read(path: Path) -> tuple[Header, dict[str, np.ndarray]]:
    try:
        with safe_open(path, framework="numpy") as file:
            metadata = file.metadata() or {}
            arrays = {name: file.get_tensor(name) for name in file.keys()}  # noqa: SIM118 - not a mapping
    except (SafetensorError, OSError, ValueError, TypeError, AttributeError) as error:  # of types NumPy lacks
        raise ModelError(f"{path} is not a model file, or is damaged: {error}") from error
    if "barn_owl" not in metadata:
        raise ModelError(f"{path} holds weights, but they are not those of a Barn Owl model")
    try:
        header = parsed(metadata["barn_owl"])
        version = header.get("format")
        if isinstance(version, int) and version > FORMAT:
            raise ModelError(
                f"{path} was written by a newer Barn Owl (model format {version}, this one reads {FORMAT}); update"
            )
        if isinstance(version, int) and version < OLDEST:
            raise ModelError(f"{path} was written by an older Barn Owl (model format {version}); train it again")
        return Header(**header), arrays
    except ModelError:
        raise
    except (ValueError, TypeError, RecursionError, BarnOwlError) as error:
        raise ModelError(f"{path} is damaged: {error}") from error


def _fitting(array: np.ndarray, width: int) -> np.ndarray:
    if array.shape != (width,):
        raise ValueError(f"the standardisation has shape {array.shape}, expected ({width},)")
    return array
