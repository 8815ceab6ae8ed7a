"""The plan: one TOML file that says everything about a training run."""

import tomllib
from pathlib import Path
from typing import Any, Literal

import numpy as np
import tomlkit
from pydantic import ConfigDict, Field, field_validator, model_validator

from barn_owl.classifiers.kind import ClassifierKind, kind_of, kinds, names
from barn_owl.classifiers.level import Level
from barn_owl.classifiers.pooled import STEP_S
from barn_owl.clips import Shares
from barn_owl.errors import PlanError
from barn_owl.features import FrontEnd, pool
from barn_owl.files import not_a_file, whole_file
from barn_owl.model import DecodingSettings
from barn_owl.settings import Settings
from barn_owl.sound import SoundSettings, UniformSettings
from barn_owl.wording import facts_in_html, nearest_to


class TrainingSettings(Settings):
    """How a network is trained."""

    epochs: int = Field(default=24, ge=1, le=100_000)
    batch: int = Field(default=4, ge=2, le=4096)
    rate: float = Field(default=8e-3, gt=0, le=1)
    decay: float = Field(default=0.02, ge=0, le=10)
    averaging: float = Field(default=0.99, ge=0, lt=1)
    patience: int = Field(default=30, ge=1)
    stop_on: Literal["loss", "f1"] = "loss"
    """What the best weights are best at, on the validation clips: least loss, or highest macro F1."""
    refit: int = Field(default=10, ge=0, le=100_000)
    """Epochs that it continues for with the training and validation clips together; 0 for none."""
    exemplars: int = Field(default=8, ge=0, le=1000)
    """Training clips of each label that the model keeps, to learn others later without forgetting; 0 for none."""


class MixtureSettings(Settings):
    """The short synthetic recordings that are trained on: sounds of the clips at any place and level over noise."""

    count: int = Field(default=160, ge=2, le=100_000)
    """Mixtures that are trained on in an epoch: half as many are made, and each is used twice."""
    seconds: float = Field(default=8.0, ge=0.1, le=120)
    empty: float = Field(default=0.12, ge=0, lt=1)
    """Share of mixtures without any sound."""
    whole: float = Field(default=0.6, ge=0, le=1)
    """Share of mixtures that are whole clips as they are, one after the other: what clips are named by."""
    unknown: float = Field(default=0.4, ge=0, lt=1)
    """Share of sounds that are made up, and none of the labels."""
    noise: float = Field(default=0.4, ge=0, le=1)
    """Share of mixtures over synthetic noise where there are background clips; without them, all are."""
    snr_low_db: float = Field(default=-2.0, ge=-30, le=60)
    snr_high_db: float = Field(default=30.0, ge=-30, le=60)

    @model_validator(mode="after")
    def _in_order(self) -> "MixtureSettings":
        if self.snr_low_db > self.snr_high_db:
            raise ValueError(f"snr_low_db must be at most snr_high_db={self.snr_high_db:g}, got {self.snr_low_db:g}")
        return self


class AugmentSettings(Settings):
    """Changes to the sounds of a mixture, again each time; 0 turns one off."""

    tilt_db: float = Field(default=6.0, ge=0, le=30)
    """Largest slope over all bands, up or down, and half as much for bumps: other microphones, other places."""
    shift_bands: float = Field(default=1.5, ge=0, le=20)
    """Largest shift along the bands, up or down, as of a larger or smaller thing; 0 where pitch tells."""
    stretch_percent: float = Field(default=15.0, ge=0, le=90)
    """Largest change of pace, slower or faster; 0 where pace tells."""
    low_pass: float = Field(default=0.3, ge=0, le=1)
    """Share of mixtures that lack their highest bands, as recordings at a lower rate do."""
    reverb: float = Field(default=0.3, ge=0, le=1)
    """Share of sounds in mixtures that have the reverberation of a room behind them."""
    mask: float = Field(default=0.5, ge=0, le=1)
    """Share of mixtures where a few neighboring bands are missing."""


class PoolingSettings(Settings):
    """What the pooled classifiers see: statistics over the frames of a window; see `barn_owl.features.pool`."""

    window_s: float = Field(default=0.5, gt=0, le=60)
    windows: int = Field(default=4000, ge=50, le=1_000_000)
    """Windows of mixtures that are trained on."""
    statistics: list[str] = Field(default=["loud", "deviation", "maximum", "change"], min_length=1)

    @field_validator("statistics")
    @classmethod
    def _known(cls, statistics: list[str]) -> list[str]:
        try:
            pool(np.zeros((2, 1), dtype=np.float32), statistics)
        except PlanError as error:
            raise ValueError(str(error)) from None
        return statistics


class LevelSettings(Settings):
    """How levels are made independent of the gain of a recording; for log-mel only."""

    span_s: float = Field(default=0.5, ge=0, le=60)
    """Time over whose mean power levels are relative to, as much before as after; 0: levels as they are."""
    range_db: float = Field(default=50.0, ge=10, le=120)
    """How far below that mean power levels are distinguished."""


class StartSettings(Settings):
    """Training further from a model instead of from random weights."""

    model: str = ""
    """A model file or a run; "" for random weights."""
    frozen: int = Field(default=0, ge=0, le=1000)
    """Layers, from the first, that are used as they are."""
    rate_share: float = Field(default=0.25, gt=0, le=1)
    """Share of ``training.rate`` that is used: what is known already should not be forgotten."""
    forget: list[str] = Field(default=[])
    """Labels of the model whose exemplars are not trained on, such as one that has another name now."""


class RehearsalSettings(Settings):
    """A synthetic recording of validation clips, on which it is found out what to expect of the model."""

    minutes: float = Field(default=5.0, ge=0, le=600)
    """How long it is at most; 0 for none."""
    events_per_minute: float = Field(default=10.0, gt=0, le=600)
    """How many events a minute the recordings are expected to hold, for what is said of F1 and false alarms."""
    decide: bool | None = None
    """Whether thresholds and lengths of `[decoding]` are found on it; otherwise they are taken as they are. Default:
    for pooled classifiers, whose scores differ too much for settings that suit all."""


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


LARGEST_SEED = 2**63
"""Seeds are below this, so that they fit where a generator keeps them."""


class Plan(Settings):
    """Everything about a training run; each key has a default. Each kind of classifier has a section of its own.

    >>> Plan(classifier="logistic", seed=3).front_end.bands
    48
    """

    seed: int = Field(default=0, ge=0, lt=LARGEST_SEED)
    classifier: str = "cnn"
    background: list[str] = Field(default=[])
    """Labels that mean "nothing of interest": what sounds lie over in training, and never reported as events."""
    ignored: list[str] = Field(default=[])
    """Labels of sounds that are known but wanted by no one, such as "other": they are named in clips, and are no
    events."""
    multilabel: bool = False
    """A clip may carry several labels: rows of one excerpt are combined, and each label is scored on its own."""
    recordings: list[str] = Field(default=[])
    """Recordings, or folders of them, that the model is for: their band is kept to, and what is heard in them while
    nothing stands out serves as background."""
    columns: list[str] = Field(default=[])
    """Further columns of the clip table that the pooled classifiers look at, numbers or words."""
    front_end: FrontEnd = FrontEnd()
    clips: UniformSettings = UniformSettings()
    split: Shares = Shares()
    level: LevelSettings = LevelSettings()
    training: TrainingSettings = TrainingSettings()
    mixtures: MixtureSettings = MixtureSettings()
    augment: AugmentSettings = AugmentSettings()
    sound: SoundSettings = SoundSettings()
    pooling: PoolingSettings = PoolingSettings()
    start: StartSettings = StartSettings()
    thresholds: ThresholdSettings = ThresholdSettings()
    rehearsal: RehearsalSettings = RehearsalSettings()
    decoding: DecodingSettings = DecodingSettings()

    model_config = ConfigDict(extra="allow")  # the sections of classifiers, whichever are known

    def __init__(self, **values: Any) -> None:
        sections = {kind.name: kind.settings for kind in kinds() if kind.settings and kind.settings.model_fields}
        faults = []
        for name, settings in sections.items():
            try:
                values[name] = _section(settings, values.get(name, {}))
            except PlanError as error:
                faults += [f"{name}.{line}" for line in str(error).splitlines()]
                values[name] = settings()
        known = [*type(self).model_fields, *sections]
        for key in [key for key in values if key not in known]:
            faults.append(f"{key}: unknown key; {nearest_to(key, known, else_say='known keys: ')}")
            del values[key]
        try:
            super().__init__(**values)
        except PlanError as error:
            raise PlanError("\n".join([*str(error).splitlines(), *faults])) from None
        if faults:
            raise PlanError("\n".join(faults))

    @field_validator("classifier")
    @classmethod
    def _is_known(cls, classifier: str) -> str:
        if kind_of(classifier).settings is None:
            raise ValueError(f"no training makes {classifier!r}; take one of {', '.join(names())}")
        return classifier

    def changed(self) -> dict[str, Any]:
        """Return the settings that are not the default ones, by dotted key."""
        found: dict[str, Any] = {}
        usual_values = Plan().model_dump()
        for key, value in self.model_dump().items():
            usual = usual_values.get(key)
            if isinstance(value, dict):
                found |= {f"{key}.{name}": own for name, own in value.items() if own != (usual or {}).get(name)}
            elif value != usual:
                found[key] = value
        return found

    def __repr__(self) -> str:
        """Show what is not the default."""
        return f"Plan({', '.join(f'{key}={value!r}' for key, value in self.changed().items())})"

    __str__ = __repr__

    def _repr_html_(self) -> str:
        """For a notebook: the settings that are not the default."""
        return facts_in_html({key: repr(value) for key, value in self.changed().items()})

    @property
    def kind(self) -> ClassifierKind:
        """What the classifier is and can do."""
        return kind_of(self.classifier)

    @property
    def own(self) -> Any:
        """The section of the classifier; none of its own is empty."""
        return getattr(self, self.classifier, None) or Settings()

    @property
    def window_frames(self) -> int:
        """Frames of a window of ``pooling.window_s``."""
        return self.front_end.count(round(self.pooling.window_s * self.front_end.rate_hz))

    @property
    def window_step(self) -> int:
        """Frames from one window to the next."""
        return max(1, round(STEP_S / self.front_end.hop_s))

    @property
    def levels(self) -> Level:
        """How levels are made independent of the gain: not at all where frames are not levels in dB."""
        frames = round(self.level.span_s / self.front_end.hop_s) if self.front_end.is_log_mel else 0
        return Level(frames=frames, range_db=self.level.range_db)

    @model_validator(mode="after")
    def _fits_together(self) -> "Plan":
        if self.window_frames < 1:
            raise ValueError(
                f"pooling.window_s: must be at least one frame of {self.front_end.frame_ms:g} ms, "
                f"got {self.pooling.window_s:g} s"
            )
        both = sorted({*self.background} & {*self.ignored})
        if both:
            raise ValueError(f"ignored: {both[0]!r} is background already, and so is no event either")
        if self.kind.sees_frames and self.columns:
            raise ValueError(
                f"columns: the classifier {self.classifier!r} sees frames only; take a pooled classifier"
            )
        self.kind.check(self.own, self.front_end.width)
        return self


def _section(settings: type[Settings], given: Any) -> Settings:
    """Settings of a classifier, of what a plan says; raises PlanError."""
    if isinstance(given, settings):
        return given
    if not isinstance(given, dict):
        raise PlanError(f"should be a table of settings, got {given!r}")
    return settings(**given)


LONGEST = 1 << 20
"""Bytes of a plan at most."""


def read_plan(path: str | Path) -> Plan:
    """Read a plan from a TOML file; keys that are not there take their defaults.

    Raises PlanError when the file is missing, is not TOML, or a key is unknown or out of range.

    >>> barn_owl.read_plan("first/plan.toml").classifier
    'logistic'
    """
    path = Path(path)
    try:
        if why := not_a_file(path):
            raise PlanError(f"{path} {why}")
        if path.stat().st_size > LONGEST:
            raise PlanError(f"{path} is {path.stat().st_size} bytes long, which no plan is")
        values = tomllib.loads(path.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise PlanError(f"{path} cannot be read: {getattr(error, 'strerror', None) or error}") from error
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise PlanError(f"{path} is not a TOML file: {error}") from error
    try:
        return Plan(**values)
    except PlanError as error:
        raise PlanError("\n".join(f"{path}, {line}" for line in str(error).splitlines())) from None


def write_plan(plan: Plan, path: str | Path) -> None:
    """Write a plan as TOML with every default spelled out, whole or not at all.

    >>> barn_owl.write_plan(barn_owl.Plan(seed=3), "plan.toml")
    >>> barn_owl.read_plan("plan.toml").seed
    3
    """
    with whole_file(path) as beside:
        beside.write_text(
            tomlkit.dumps(plan.model_dump(exclude_none=True)), encoding="utf-8", errors="backslashreplace"
        )
