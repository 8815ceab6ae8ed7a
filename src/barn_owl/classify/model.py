"""A model: front end, labels, weights and decision settings, in one safetensors file."""

import json
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from safetensors import SafetensorError, safe_open
from safetensors.numpy import save_file

from barn_owl.audio import resample
from barn_owl.classify.dataset import chosen_windows, fill_up
from barn_owl.classify.extras import ExtraColumn, ExtraColumns
from barn_owl.classify.families import rebuild
from barn_owl.classify.family import Family, Judged
from barn_owl.classify.known import SHARES, Known
from barn_owl.classify.network import sigmoid, softmax
from barn_owl.classify.plan import ClipSettings, DecisionSettings
from barn_owl.classify.pooled import Foreign, Pooled
from barn_owl.clips import make_uniform
from barn_owl.errors import AudioError, BarnOwlError, ModelError
from barn_owl.features import FrontEnd
from barn_owl.files import whole_file

FORMAT = 4
"""Version of the header; raised when an older Barn Owl could misread it."""
OLDEST = 2
"""Oldest format that is read: it lacks ``temperature`` and others, which have defaults."""


@dataclass(frozen=True, kw_only=True, eq=False)
class Model:
    """A trained classifier with everything needed to use it.

    labels : names in the order of the scores; background : those never reported as events.
    mean, deviation : of the training frames, float32, shape ``(width,)``. overlapping : each label is scored by
    itself, so that scores need not sum to 1. none_of_them : the family has one more output behind the labels, for
    what is none of them; its score is left out. temperature : logits are divided by it, so that scores promise what
    they keep. thresholds : score that a label must reach to be said of a clip; a label that is not in it needs none,
    or 0.5 where labels overlap. known : what it has heard, to tell what it has not; None where that is not
    known. extra_columns : further columns of a clip table that the family looks
    at.
    """

    labels: list[str]
    background: list[str]
    front_end: FrontEnd
    clips: ClipSettings
    decision: DecisionSettings
    mean: np.ndarray
    deviation: np.ndarray
    family: Family
    overlapping: bool = False
    none_of_them: bool = False
    temperature: float = 1.0
    thresholds: dict[str, float] = field(default_factory=dict)
    known: Known | None = None
    extra_columns: ExtraColumns = field(default_factory=lambda: ExtraColumns(columns=[]))
    provenance: dict[str, Any] = field(default_factory=dict)

    @property
    def window_s(self) -> float:
        """Length of the window that is scored, in seconds."""
        return self.front_end.samples_for(self.family.window) / self.front_end.rate_hz

    @property
    def step_s(self) -> float:
        """Time from one window to the next in seconds."""
        return self.family.step * self.front_end.hop_s

    def logits(self, frames: np.ndarray, extras: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
        """Logits of all windows and of all local steps of `frames` of the front end, ``(frames, width)``."""
        return self.family.logits((frames - self.mean) / self.deviation, extras)

    def judge(self, frames: np.ndarray, extras: np.ndarray | None = None) -> Judged:
        """Logits as from `logits`, and what the family decides by in each window."""
        return self.family.judge((frames - self.mean) / self.deviation, extras)

    def scores(self, logits: np.ndarray) -> np.ndarray:
        """Scores from 0 to 1 for logits, ``(..., labels)``; they sum to 1 unless labels overlap."""
        if self.temperature != 1:
            logits = logits / np.float32(self.temperature)
        if self.overlapping:
            return sigmoid(logits)
        return softmax(logits)[..., : len(self.labels)]

    def score_frames(self, frames: np.ndarray, extras: np.ndarray | None = None) -> np.ndarray:
        """Score one clip given as frames of the front end; float32, shape ``(labels,)``.

        A clip longer than the window scores the mean of those windows that ``clips.crop`` chooses, as in
        training; a shorter one is filled up to the window. extras : what its further columns say.
        """
        frames, chosen = self._windows(frames)
        return self.scores(self.logits(frames, extras)[0][chosen].mean(axis=0))

    def hidden_frames(self, frames: np.ndarray, extras: np.ndarray | None = None) -> np.ndarray:
        """What the family decides by for one clip, mean over its windows: float32, ``(features,)``.

        Clips that the model takes for alike are near each other in it.
        """
        frames, chosen = self._windows(frames)
        return np.asarray(self.judge(frames, extras).hidden[chosen].mean(axis=0), dtype=np.float32)

    def alike_frames(self, frames: np.ndarray, extras: np.ndarray | None = None) -> np.ndarray:
        """How alike a clip is to the training clips of each label, float32 ``(labels,)``, 1 for the same.

        Of each label that is the most in those windows that would raise an event of it, or come nearest to it.
        Raises ModelError when the model does not know what it has heard.
        """
        if self.known is None:
            raise ModelError("the model does not know what it has heard")
        judged = self.judge(fill_up(frames, self.family.window, self.clips.fill, self.front_end.silence), extras)
        scores, alike = self.scores(judged.windows), self.known.alike(judged.hidden)
        loud = np.array([self.decision.of(label).begins_at for label in self.labels], dtype=np.float32)
        return np.asarray(np.where(scores >= np.minimum(scores.max(axis=0), loud), alike, -1).max(axis=0))

    def _windows(self, frames: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Frames of a clip, filled up to a window if need be, and which of its windows count."""
        frames = fill_up(frames, self.family.window, self.clips.fill, self.front_end.silence)
        levels = frames[:, self.front_end.level_columns]
        return frames, chosen_windows(levels, self.family.window, self.family.step, self.clips.crop)

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
        if isinstance(self.family, Pooled) and isinstance(self.family.classifier, Foreign):
            raise ModelError(f"a model of {self.family.name} cannot be written: its inside is not ours to know")
        header = {
            "format": FORMAT,
            "labels": self.labels,
            "background": self.background,
            "front_end": self.front_end.model_dump(),
            "clips": self.clips.model_dump(),
            "decision": self.decision.model_dump(),
            "overlapping": self.overlapping,
            "none_of_them": self.none_of_them,
            "temperature": self.temperature,
            "thresholds": self.thresholds,
            "extra_columns": self.extra_columns.as_list(),
            "family": {"name": self.family.name, **self.family.shape()},
            "provenance": self.provenance,
        }
        arrays = {f"weights.{name}": array for name, array in self.family.arrays().items()}
        arrays |= {"mean": self.mean, "deviation": self.deviation}
        if self.known is not None:
            arrays |= {f"known.{name}": array for name, array in self.known.arrays().items()}
        arrays = {name: np.ascontiguousarray(array) for name, array in arrays.items()}
        with whole_file(path) as beside:
            save_file(arrays, beside, metadata={"barn_owl": json.dumps(header, ensure_ascii=False)})


def load_model(path: str | Path) -> Model:
    """Load a model from its file, or from the folder of a run.

    Raises ModelError when the file is missing, damaged, not a Barn Owl model or from a newer version.
    """
    path = Path(path)
    if path.is_dir():
        if not (path / "model.safetensors").is_file():
            raise ModelError(f"{path} is not a finished run: it holds no model.safetensors")
        path = path / "model.safetensors"
    if not path.is_file():
        raise ModelError(f"{path} does not exist")
    header, arrays = _read(path)
    try:
        weights = {name[8:]: array for name, array in arrays.items() if name.startswith("weights.")}
        front_end, family = FrontEnd(**header["front_end"]), dict(header["family"])
        none_of_them = bool(header.get("none_of_them", False))
        outputs = len(header["labels"]) + none_of_them
        return Model(
            labels=list(header["labels"]),
            background=list(header["background"]),
            front_end=front_end,
            clips=ClipSettings(**header["clips"]),
            decision=DecisionSettings(**header["decision"]),
            mean=_fitting(arrays["mean"], front_end.width),
            deviation=_fitting(arrays["deviation"], front_end.width),
            family=rebuild(family.pop("name"), family, weights, front_end.width, outputs),
            overlapping=bool(header["overlapping"]),
            none_of_them=none_of_them,
            temperature=_positive(header.get("temperature", 1.0)),
            thresholds={str(label): float(least) for label, least in header.get("thresholds", {}).items()},
            known=_known(arrays, len(header["labels"])),
            extra_columns=ExtraColumns(columns=[ExtraColumn(**column) for column in header["extra_columns"]]),
            provenance=dict(header["provenance"]),
        )
    except (KeyError, TypeError, ValueError, BarnOwlError) as error:
        raise ModelError(f"{path} is damaged: {error}") from error


def _read(path: Path) -> tuple[dict[str, Any], dict[str, np.ndarray]]:
    try:
        with safe_open(path, framework="numpy") as file:
            metadata = file.metadata() or {}
            arrays = {name: file.get_tensor(name) for name in file.keys()}  # noqa: SIM118 - not a mapping
        header = json.loads(metadata["barn_owl"])
        version = int(header["format"])
    except (SafetensorError, OSError) as error:
        raise ModelError(f"{path} is not a model file, or is damaged: {error}") from error
    except (KeyError, TypeError, ValueError) as error:
        raise ModelError(f"{path} holds weights, but they are not those of a Barn Owl model") from error
    if version > FORMAT:
        raise ModelError(
            f"{path} was written by a newer Barn Owl (model format {version}, this one reads {FORMAT}); update"
        )
    if version < OLDEST:
        raise ModelError(f"{path} was written by an older Barn Owl (model format {version}); train it again")
    return header, arrays


def _fitting(array: np.ndarray, width: int) -> np.ndarray:
    if array.shape != (width,):
        raise ValueError(f"the standardisation has shape {array.shape}, expected ({width},)")
    return array


def _known(arrays: dict[str, np.ndarray], labels: int) -> Known | None:
    if "known.hidden" not in arrays or "known.others" in arrays:  # before format 4 what is usual meant something else
        return None
    hidden, marks, usual = (arrays[f"known.{name}"] for name in ("hidden", "labels", "usual"))
    if marks.shape != (len(hidden), labels) or usual.shape != SHARES.shape:
        raise ValueError(f"what it has heard has shapes {hidden.shape}, {marks.shape}, {usual.shape}")
    return Known(hidden=hidden, labels=marks.astype(bool), usual=usual)


def _positive(number: float) -> float:
    if not 0 < float(number) < np.inf:
        raise ValueError(f"the temperature must be above 0, got {number}")
    return float(number)
