"""The plan: one TOML file that says everything about a training run."""

import tomllib
from pathlib import Path
from typing import Literal

import numpy as np
import tomlkit
from pydantic import Field, field_validator, model_validator

from barn_owl.classify.network.architecture import NetworkSettings, cnn_layers, tcn_layers
from barn_owl.classify.network.layer import Layer, Shape
from barn_owl.classify.network.network import follow
from barn_owl.clips import Shares, SoundSettings, UniformSettings
from barn_owl.errors import PlanError
from barn_owl.features import FrontEnd, pool
from barn_owl.files import whole_file
from barn_owl.settings import Settings


class ClipSettings(UniformSettings):
    """How clips of any length become windows of one length.

    crop : which windows of a longer clip count: "lively" for those that hold most of what happens, "loudest"
        for the one that holds most, "start", "centre", or "random" for any.
    fill : what a shorter clip is filled up with: its own "quiet" level, "zeros", itself again ("repeat"), or
        itself back and forth ("reflect").
    """

    length_s: float = Field(default=1.0, gt=0, le=60)
    crop: Literal["lively", "loudest", "start", "centre", "random"] = "lively"
    fill: Literal["quiet", "zeros", "repeat", "reflect"] = "quiet"


class TrainingSettings(Settings):
    """How a network is trained."""

    epochs: int = Field(default=100, ge=1, le=100_000)
    batch: int = Field(default=32, ge=2, le=4096)
    rate: float = Field(default=4e-3, gt=0, le=1)
    decay: float = Field(default=0.02, ge=0, le=10)
    smoothing: float = Field(default=0.1, ge=0, lt=1)
    averaging: float = Field(default=0.98, ge=0, lt=1)
    patience: int = Field(default=30, ge=1)
    balance: Literal["draw", "weight", "none"] = "draw"
    """Rare labels are drawn as often as others, or count for more, or neither."""
    stop_on: Literal["loss", "f1"] = "loss"
    """What the best weights are best at, on the validation clips: least loss, or highest macro F1."""


class AugmentSettings(Settings):
    """Changes made to log-mel windows, anew each time they are seen; 0 turns one off."""

    gain_db: float = Field(default=8.0, ge=0, le=60)
    tilt_db: float = Field(default=4.0, ge=0, le=30)
    shift_bands: float = Field(default=1.0, ge=0, le=20)
    """Largest shift along the bands, up or down, as of a larger or smaller thing; 0 where pitch tells."""
    stretch_percent: float = Field(default=15.0, ge=0, le=100)
    """Largest change of pace, slower or faster; 0 where pace tells."""
    background: float = Field(default=0.5, ge=0, le=1)
    snr_low_db: float = Field(default=0.0, ge=-30, le=60)
    snr_high_db: float = Field(default=25.0, ge=-30, le=60)
    mask_share: float = Field(default=0.15, ge=0, lt=1)
    mixing: float = Field(default=0.0, ge=0, le=1)
    """Share of windows that another clip's window is added to; the labels are mixed by their power."""

    @model_validator(mode="after")
    def _in_order(self) -> "AugmentSettings":
        if self.snr_low_db > self.snr_high_db:
            raise ValueError(f"snr_low_db must be at most snr_high_db={self.snr_high_db:g}, got {self.snr_low_db:g}")
        return self


class MlpSettings(Settings):
    """Dense layers on pooled features."""

    hidden: list[int] = Field(default=[96], min_length=1)
    dropout: float = Field(default=0.3, ge=0, lt=1)

    @field_validator("hidden")
    @classmethod
    def _sizes(cls, hidden: list[int]) -> list[int]:
        if not all(1 <= size <= 4096 for size in hidden):
            raise ValueError(f"each layer has 1 to 4096 channels, got {hidden}")
        return hidden


class NearestSettings(Settings):
    """Nearest neighbours among the pooled training windows."""

    neighbours: int | None = Field(default=None, ge=1, le=1000)
    """Left out: the best of several on the validation clips."""


class LogisticSettings(Settings):
    """Multinomial logistic regression on pooled features."""

    penalty: float | None = Field(default=None, gt=0)
    """Weight of half the squared coefficients; left out: the best of several on the validation clips."""


class KernelSettings(Settings):
    """Logistic regression in the space of a Gaussian (RBF) kernel on pooled features."""

    penalty: float | None = Field(default=None, gt=0)
    width: float | None = Field(default=None, gt=0)
    """Distance at which two clips count as alike, in standard deviations a feature; left out: the best of several."""
    landmarks: int = Field(default=800, ge=10, le=10_000)
    """Training windows that others are compared with: all of them where there are no more, else a drawn part."""


class TreesSettings(Settings):
    """Gradient-boosted trees on pooled features, cut at quantiles."""

    rounds: int = Field(default=200, ge=1, le=10_000)
    depth: int = Field(default=3, ge=1, le=8)
    rate: float = Field(default=0.1, gt=0, le=1)
    feature_share: float = Field(default=0.2, gt=0, le=1)
    window_share: float = Field(default=0.7, gt=0, le=1)
    penalty: float = Field(default=1.0, ge=0)
    patience: int = Field(default=30, ge=1)


class PoolingSettings(Settings):
    """Which statistics over a window's frames the pooled families see; see `barn_owl.features.pool`."""

    statistics: list[str] = Field(default=["loud", "deviation", "maximum", "change"], min_length=1)

    @field_validator("statistics")
    @classmethod
    def _known(cls, statistics: list[str]) -> list[str]:
        try:
            pool(np.zeros((2, 1), dtype=np.float32), statistics)
        except PlanError as error:
            raise ValueError(str(error)) from None
        return statistics


class StartSettings(Settings):
    """Training further from a model instead of from random weights."""

    model: str = ""
    """A model file or a run; "" for random weights."""
    frozen: int = Field(default=0, ge=0, le=1000)
    """Layers, from the first, that are used as they are."""
    rate_share: float = Field(default=0.25, gt=0, le=1)
    """Share of ``training.rate`` that is used: what is known already should not be forgotten."""


class ForeignSettings(Settings):
    """Made-up sounds in training, so that what is none of the labels is not taken for one of them."""

    share: float = Field(default=6.0, ge=0, le=100)
    """How many, as a multiple of the clips of an average label; 0 for none: scores of a clip then sum to 1."""


class ThresholdSettings(Settings):
    """Score that a label must reach to be said of a clip, found on the validation clips; under it: undecided."""

    wish: Literal["none", "precision", "recall", "f1", "cost"] = "none"
    """What is wished for each label; with none the best label is always said."""
    value: float = Field(default=0.9, gt=0)
    """The precision or recall wished; for "cost", how much worse a false alarm is than a miss."""

    @model_validator(mode="after")
    def _in_range(self) -> "ThresholdSettings":
        if self.wish in ("precision", "recall") and self.value > 1:
            raise ValueError(f"value must be at most 1 for {self.wish}, got {self.value:g}")
        return self


USUAL_ON = 0.9
"""Score at which an event begins where validation clips do not tell."""


class LabelDecision(Settings):
    """What is decided otherwise for one label; what is left out is as for all."""

    on: float | None = Field(default=None, gt=0, le=1)
    off: float | None = Field(default=None, ge=0, lt=1)
    shortest_s: float | None = Field(default=None, ge=0)
    longest_s: float | None = Field(default=None, gt=0)
    gap_s: float | None = Field(default=None, ge=0)
    pause_s: float | None = Field(default=None, ge=0)


class DecisionSettings(Settings):
    """How scores over time become events."""

    on: float | None = Field(default=None, gt=0, le=1)
    """Score at which an event begins; left out: what eight in ten of the rightly named validation clips reach."""
    off: float = Field(default=0.3, ge=0, lt=1)
    """Score below which it ends."""
    smooth_s: float | None = Field(default=None, ge=0, le=60)
    """Time over which scores are averaged first, 0 for as they are; left out: three tenths of a window."""
    shortest_s: float = Field(default=0.1, ge=0)
    longest_s: float = Field(default=3600.0, gt=0)
    """Shorter and longer events are left out."""
    gap_s: float = Field(default=0.5, ge=0)
    """Gaps between events of one label up to this are closed."""
    pause_s: float = Field(default=0.0, ge=0)
    """Time after an event of a label in which no other of it can begin."""
    alone: bool = False
    """Whether of events that overlap in time only the one with the highest score is kept."""
    unlike: float = Field(default=0.2, ge=0, lt=1)
    """About the share of true sounds that may be lost so that what is unlike the training clips raises no event."""
    labels: dict[str, LabelDecision] = Field(default={})
    """What is otherwise for single labels."""

    @model_validator(mode="after")
    def _in_order(self) -> "DecisionSettings":
        for label, own in {"": LabelDecision(), **self.labels}.items():
            on, off = own.on or self.begins_at, self.off if own.off is None else own.off
            if off > on:
                where = f"labels.{label}.off" if label else "off"
                raise ValueError(f"{where} must be at most on={on:g}, got {off:g}")
        return self

    @property
    def begins_at(self) -> float:
        """Score at which an event begins, also where none was found on validation clips."""
        return USUAL_ON if self.on is None else self.on

    @property
    def highest_off(self) -> float:
        """Score that ``on`` must not be below: the highest ``off`` of the labels that have no ``on`` of their own."""
        own = [one.off for one in self.labels.values() if one.on is None and one.off is not None]
        return max([self.off, *own])

    def of(self, label: str) -> "DecisionSettings":
        """Return the settings of one label."""
        own = self.labels.get(label)
        if own is None:
            return self
        return self.model_copy(update={**own.model_dump(exclude_none=True), "labels": {}})


class Plan(Settings):
    """Everything about a training run; each key has a default.

    >>> Plan(family="logistic", seed=3).front_end.bands
    48
    """

    seed: int = Field(default=0, ge=0, lt=2**63)
    family: Literal["majority", "nearest", "logistic", "kernel", "trees", "mlp", "tcn", "cnn"] = "tcn"
    background: list[str] = Field(default=[])
    """Labels that mean "nothing of interest": learnt, judged, and never reported as events."""
    overlapping: bool = False
    """A clip may carry several labels: rows of one excerpt are put together, and each label is scored by itself."""
    columns: list[str] = Field(default=[])
    """Further columns of the clip table that the pooled families look at, numbers or words."""
    front_end: FrontEnd = FrontEnd()
    clips: ClipSettings = ClipSettings()
    split: Shares = Shares()
    training: TrainingSettings = TrainingSettings()
    augment: AugmentSettings = AugmentSettings()
    sound: SoundSettings = SoundSettings()
    pooling: PoolingSettings = PoolingSettings()
    nearest: NearestSettings = NearestSettings()
    logistic: LogisticSettings = LogisticSettings()
    kernel: KernelSettings = KernelSettings()
    trees: TreesSettings = TreesSettings()
    mlp: MlpSettings = MlpSettings()
    tcn: NetworkSettings = NetworkSettings()
    cnn: NetworkSettings = NetworkSettings()
    start: StartSettings = StartSettings()
    foreign: ForeignSettings = ForeignSettings()
    thresholds: ThresholdSettings = ThresholdSettings()
    decision: DecisionSettings = DecisionSettings()

    @property
    def hears_foreign(self) -> bool:
        """Whether made-up sounds are among the training clips."""
        return bool(self.foreign.share) and self.family != "majority"

    @property
    def more_outputs(self) -> int:
        """Outputs of the family beside its labels: one for none of them, where one label is said of a clip."""
        return int(self.hears_foreign and not self.overlapping)

    @property
    def window_frames(self) -> int:
        """Frames of a window of ``clips.length_s``."""
        return self.front_end.count(round(self.clips.length_s * self.front_end.rate_hz))

    @model_validator(mode="after")
    def _fits_together(self) -> "Plan":
        if self.window_frames < 1:
            raise ValueError(
                f"clips.length_s: must be at least one frame of {self.front_end.frame_ms:g} ms, "
                f"got {self.clips.length_s:g} s"
            )
        if self.family in CONVOLUTIONAL:
            if self.columns:
                raise ValueError(f"columns: the family {self.family!r} sees frames only; take a pooled family")
            try:
                network_layers(self, self.family)
            except PlanError as error:
                raise ValueError(str(error)) from None
        return self


SHIPPED = {"tcn": tcn_layers, "cnn": cnn_layers}
CONVOLUTIONAL = tuple(SHIPPED)
"""Families whose network sees the frames of a window; the others see statistics over them."""
FAMILIES = ("majority", "nearest", "logistic", "kernel", "trees", "mlp", *CONVOLUTIONAL)
"""All families, from the dumbest up."""


def network_layers(plan: Plan, family: str) -> tuple[list[Layer], Shape]:
    """Make the layers of a convolutional family but for its head, and the shape of the windows it is given.

    Raises PlanError, with the key to change, when its layers and the window do not fit together.
    """
    settings: NetworkSettings = getattr(plan, family)
    shape: Shape = (plan.window_frames, plan.front_end.width)
    return layers_for(settings, family, shape), shape


def layers_for(settings: NetworkSettings, family: str, shape: Shape) -> list[Layer]:
    """Make the layers of a family but for its head, for windows of `shape`, ``(frames, features)``.

    Raises PlanError, with the key to change, when they and the window do not fit together.
    """
    layers = [layer.layer() for layer in settings.layers] or SHIPPED[family](settings.size)
    try:
        follow(layers, input_shape(family, shape))
    except PlanError as error:
        where = f"{family}.layers" if settings.layers else f"{family}.size = {settings.size!r}"
        raise PlanError(
            f"{where}, {error}; a window of clips.length_s has {shape[0]} frames of {shape[1]} features"
        ) from None
    return layers


def input_shape(family: str, shape: Shape) -> Shape:
    """Shape that the network of a family is given for windows of ``(frames, features)``."""
    return shape if family == "tcn" else (*shape, 1)


def read_plan(path: str | Path) -> Plan:
    """Read a plan from a TOML file; keys that are not there take their defaults.

    Raises PlanError when the file is missing, is not TOML, or a key is unknown or out of range.
    """
    path = Path(path)
    try:
        values = tomllib.loads(path.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise PlanError(f"{path} cannot be read: {getattr(error, 'strerror', None) or error}") from error
    except tomllib.TOMLDecodeError as error:
        raise PlanError(f"{path} is not a TOML file: {error}") from error
    try:
        return Plan(**values)
    except PlanError as error:
        raise PlanError("\n".join(f"{path}, {line}" for line in str(error).splitlines())) from None


def write_plan(plan: Plan, path: str | Path) -> None:
    """Write a plan as TOML with every default spelled out, whole or not at all."""
    with whole_file(path) as beside:
        beside.write_text(tomlkit.dumps(plan.model_dump(exclude_none=True)), encoding="utf-8")
