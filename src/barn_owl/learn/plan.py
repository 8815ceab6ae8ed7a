"""The plan: all settings of a training run, in a TOML file."""

import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Literal, TypeAlias

import numpy as np
import tomlkit
from pydantic import ConfigDict, Field, field_validator, model_validator

from barn_owl.classifiers.kind import ClassifierKind, NetworkKind, kind_of, kinds, names
from barn_owl.classifiers.level import Level
from barn_owl.classifiers.pooled import STEP_S
from barn_owl.clips import Shares
from barn_owl.errors import PlanError
from barn_owl.features import FrontEnd, pool
from barn_owl.files import atomic_write, not_a_file
from barn_owl.model import DecodingSettings
from barn_owl.names import closed_url, is_url, table_name
from barn_owl.settings import Settings
from barn_owl.sound import SoundSettings, UniformSettings
from barn_owl.wording import facts_in_html, nearest_to


class TrainingSettings(Settings):
    """Training of networks."""

    epochs: int = Field(default=40, ge=1, le=100_000)
    """Number of epochs at most."""
    patience: int = Field(default=6, ge=0, le=100_000)
    """Epochs without a new lowest loss of training or validation after which training ends early; 0 turns it off."""
    batch_size: int = Field(default=4, ge=2, le=4096)
    """Mixtures per batch."""
    learning_rate: float = Field(default=8e-3, gt=0, le=1)
    """Highest learning rate; it rises at first, then falls along a cosine."""
    weight_decay: float = Field(default=0.02, ge=0, le=10)
    """Weight decay of AdamW."""
    weight_averaging: float = Field(default=0.99, ge=0, lt=1)
    """Decay of the running average of the weights, which the model uses; 0 turns it off."""
    stop_on: Literal["loss", "f1"] = "loss"
    """Validation score that selects the best epoch of the last tenth: lowest loss, or highest macro F1."""
    refit: int = Field(default=10, ge=0, le=100_000)
    """Epochs of training on the validation clips at the end; 0 turns it off. Each of several networks holds out its
    part of the validation clips; a single network continues with all of them."""
    exemplars: int = Field(default=8, ge=0, le=1000)
    """Training clips per label stored in the model, so that labels can be added later without the old clips."""


class MixtureSettings(Settings):
    """Training mixtures: short synthetic recordings of the clips at random positions and levels over background."""

    count: int = Field(default=160, ge=2, le=100_000)
    """Mixtures per epoch. Half of them are synthesized per epoch, and used twice."""
    seconds: float = Field(default=8.0, ge=0.1, le=120)
    """Length of a mixture in seconds."""
    empty: float = Field(default=0.12, ge=0, lt=1)
    """Share of mixtures with background only."""
    whole_clips: float = Field(default=0.6, ge=0, le=1)
    """Share of mixtures that are whole clips in sequence, each with its background, as in the classification of
    clips."""
    unknown: float = Field(default=0.4, ge=0, lt=1)
    """Share of sounds that are synthetic and of no label, so that the model learns to reject unknown sounds."""
    noise: float = Field(default=0.4, ge=0, le=1)
    """Share of mixtures over synthetic noise if there are background clips; without them, all are."""
    snr_low_db: float = Field(default=-2.0, ge=-30, le=60)
    """Lowest signal-to-noise ratio of a sound."""
    snr_high_db: float = Field(default=30.0, ge=-30, le=60)
    """Highest signal-to-noise ratio of a sound."""

    @model_validator(mode="after")
    def _in_order(self) -> "MixtureSettings":
        if self.snr_low_db > self.snr_high_db:
            raise ValueError(f"snr_low_db must be at most snr_high_db={self.snr_high_db:g}, got {self.snr_low_db:g}")
        return self


class AugmentSettings(Settings):
    """Augmentation of the log-mel frames of each sound in a mixture; 0 turns a kind off."""

    tilt_db: float = Field(default=6.0, ge=0, le=30)
    """Largest spectral tilt over all bands, with bumps half as large: different microphones and places."""
    shift_bands: float = Field(default=1.5, ge=0, le=20)
    """Largest shift along the mel bands, as of a larger or smaller source; set it to 0 if pitch matters."""
    warp_percent: float = Field(default=0.0, ge=0, le=40)
    """Largest warp of the mel axis (vocal tract length perturbation): 15 for words of unseen speakers; 0 if the
    speaker or the pitch matters."""
    tempo_percent: float = Field(default=15.0, ge=0, le=90)
    """Largest change of tempo; set it to 0 if tempo matters."""
    low_pass: float = Field(default=0.2, ge=0, le=1)
    """Share of mixtures with a low-pass filter above 3.5 kHz, as in recordings at a lower sample rate."""
    reverb: float = Field(default=0.3, ge=0, le=1)
    """Share of sounds with the reverberation of a room."""
    mask: float = Field(default=0.5, ge=0, le=1)
    """Share of mixtures with a few adjacent bands masked."""


class PoolingSettings(Settings):
    """Windows of the pooled classifiers (all but `cnn`) and the statistics over their frames."""

    window_s: float = Field(default=0.5, gt=0, le=60)
    """Length of a window."""
    windows: int = Field(default=4000, ge=50, le=1_000_000)
    """Number of training windows drawn from mixtures."""
    statistics: list[str] = Field(default=["loud", "deviation", "maximum", "change"], min_length=1)
    """Statistics over the frames of a window; see `barn_owl.features.pool`."""

    @field_validator("statistics")
    @classmethod
    def _known(cls, statistics: list[str]) -> list[str]:
        try:
            pool(np.zeros((2, 1), dtype=np.float32), statistics)
        except PlanError as error:
            raise ValueError(str(error)) from None
        return statistics


class LevelSettings(Settings):
    """Gain normalization of log-mel frames: levels relative to the mean power around each frame."""

    span_s: float = Field(default=0.5, ge=0, le=60)
    """Length of the span, centered on the frame, that levels are relative to; 0 keeps absolute levels."""
    range_db: float = Field(default=50.0, ge=10, le=120)
    """Dynamic range below that mean power; lower levels are compressed."""


class StartSettings(Settings):
    """Fine-tuning of an existing model instead of training from random weights."""

    model: str = ""
    """Model file or run to start from; empty for random weights."""
    frozen: int = Field(default=0, ge=0, le=1000)
    """Number of first layers to freeze."""
    rate_share: float = Field(default=0.25, gt=0, le=1)
    """Share of `training.learning_rate` to use, so that the model does not forget."""
    forget: list[str] = Field(default=[])
    """Labels of the model to drop, for example because they are renamed."""


class RehearsalSettings(Settings):
    """Rehearsal: a synthetic recording of validation clips to try the finished model on."""

    minutes: float = Field(default=5.0, ge=0, le=600)
    """Longest duration in minutes; 0 turns it off."""
    events_per_minute: float = Field(default=10.0, gt=0, le=600)
    """Density of events in your recordings; event F1 and false alarms are reported for it."""
    decide: bool | None = None
    """Whether the decoding settings are found on the rehearsal. Default: only for pooled classifiers."""


class ThresholdSettings(Settings):
    """Score thresholds of clips, found for each label on the validation clips; clips below them are undecided."""

    target: Literal["none", "precision", "recall", "f1", "cost"] = "none"
    """Target of the threshold of each label; with none, the label with the highest score always wins."""
    value: float = Field(default=0.9, gt=0)
    """Precision or recall to reach; for cost, how many misses a false alarm costs."""

    @model_validator(mode="after")
    def _in_range(self) -> "ThresholdSettings":
        if self.target in ("precision", "recall") and self.value > 1:
            raise ValueError(f"value must be at most 1 for {self.target}, got {self.value:g}")
        return self


LARGEST_SEED = 2**63
"""Seeds are below this, so that they fit where a generator keeps them."""


class Plan(Settings):
    """All settings of a training run, with defaults; each classifier has a section.

    Examples
    --------
    >>> Plan(classifier="logistic", seed=3).front_end.bands
    48
    """

    seed: int = Field(default=0, ge=0, lt=LARGEST_SEED)
    """Random seed."""
    classifier: str = "cnn"
    """Classifier to train."""
    background: list[str] = Field(default=[])
    """Labels of background sound: mixed under labeled sounds in training, never reported as events."""
    ignored: list[str] = Field(default=[])
    """Labels, such as "other", that are recognized in clips but never reported as events."""
    multilabel: bool = False
    """Whether a clip may have several labels: rows of an excerpt are combined, and each label is scored
    independently."""
    recordings: list[str] = Field(default=[])
    """Recordings, or folders of them, that the model is for: they limit the bandwidth, their quiet stretches are used
    as background, and the `cnn` learns from their unlabeled sounds, unless `multilabel` is set."""
    columns: list[str] = Field(default=[])
    """Further columns of the clip table, numbers or words, as features of the pooled classifiers."""
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

    model_config = ConfigDict(extra="allow")  # sections of classifiers, custom ones too

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
        """Return the settings that differ from their defaults, by dotted key."""
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
        """Show the settings that differ from their defaults."""
        return f"Plan({', '.join(f'{key}={value!r}' for key, value in self.changed().items())})"

    __str__ = __repr__

    def _repr_html_(self) -> str:
        """For a notebook: the settings that differ from their defaults."""
        return facts_in_html({key: repr(value) for key, value in self.changed().items()})

    @property
    def kind(self) -> ClassifierKind:
        """The kind of the classifier: its properties, fitting and storage."""
        return kind_of(self.classifier)

    @property
    def network_kind(self) -> NetworkKind:
        """The kind of the classifier, which must be trained by epochs; raises PlanError for another classifier."""
        if not isinstance(self.kind, NetworkKind):
            raise PlanError(f"classifier: must be a network, got {self.classifier!r}")
        return self.kind

    @property
    def own(self) -> Any:
        """The section of the classifier; empty if it has none."""
        return getattr(self, self.classifier, None) or Settings()

    @property
    def window_frames(self) -> int:
        """Frames of a window of ``pooling.window_s``."""
        return self.front_end.count(round(self.pooling.window_s * self.front_end.rate_hz))

    @property
    def window_step(self) -> int:
        """Frames between windows."""
        return max(1, round(STEP_S / self.front_end.hop_s))

    @property
    def levels(self) -> Level:
        """Gain normalization in frames; none if the frames are not log-mel."""
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
            raise ValueError(f"ignored: {both[0]!r} is a background label already")
        if self.kind.sees_frames and self.columns:
            raise ValueError(f"columns: the classifier {self.classifier!r} uses frames only; use a pooled classifier")
        if isinstance(self.kind, NetworkKind):
            self.kind.check(self.own, self.front_end.width)
        return self


def _section(settings: type[Settings], given: Any) -> Settings:
    """Return the settings of a classifier from a section of a plan; raises PlanError."""
    if isinstance(given, settings):
        return given
    if not isinstance(given, dict):
        raise PlanError(f"should be a table of settings, got {given!r}")
    return settings(**given)


PlanLike: TypeAlias = Plan | Mapping[str, Any] | str | Path
"""Type of arguments that are plans: see `as_plan`."""


def as_plan(plan: PlanLike | None) -> Plan | None:
    """Return an argument of a public function as a plan: a plan, its settings, or its path.

    >>> as_plan({"classifier": "nearest"}).classifier
    'nearest'

    Raises PlanError for an invalid plan, and TypeError for another type.
    """
    if plan is None or isinstance(plan, Plan):
        return plan
    if isinstance(plan, str | Path):
        return read_plan(plan)
    if not isinstance(plan, Mapping):
        raise TypeError(f"plan must be a Plan, a mapping of settings, or a path, got {type(plan).__name__}")
    return Plan(**plan)


LONGEST = 1 << 20
"""Bytes of a plan at most."""


def read_plan(path: str | Path, *, urls: bool = False) -> Plan:
    """Read a plan from a TOML file; missing keys have their defaults.

    Parameters
    ----------
    path : str | Path
        The file.
    urls : bool
        Whether `recordings` may be URLs. Otherwise a stranger's plan could make requests from this machine.

    Raises
    ------
    PlanError
        If the file is missing, is not TOML, or a key is unknown or out of range.

    Examples
    --------
    >>> barn_owl.read_plan("first/plan.toml").classifier
    'logistic'
    """
    path = Path(path)
    try:
        if why := not_a_file(path):
            raise PlanError(f"{path} {why}")
        if path.stat().st_size > LONGEST:
            raise PlanError(f"{path} is {path.stat().st_size} bytes long, too long for a plan")
        values = tomllib.loads(path.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise PlanError(f"{path} cannot be read: {getattr(error, 'strerror', None) or error}") from error
    except (ValueError, RecursionError) as error:  # ValueError: also a number of more digits than Python reads
        raise PlanError(f"{path} is not a TOML file: {error}") from error
    try:
        plan = Plan(**values)
    except PlanError as error:
        raise PlanError("\n".join(f"{path}, {line}" for line in str(error).splitlines())) from None
    remote = [name for name in plan.recordings if is_url(name)]
    if remote and not urls:
        raise PlanError(f"{path}, recordings: {remote[0]} is a URL; such URLs are opened only on request")
    return plan


def closed_recordings(plan: Plan) -> Plan:
    """Return a plan whose recordings that are URLs cannot be opened; see `barn_owl.names.closed_url`."""
    closed = [closed_url(name) if is_url(name) else name for name in plan.recordings]
    return plan if closed == plan.recordings else plan.but(recordings=closed)


def write_plan(plan: Plan, path: str | Path, *, force: bool = False) -> None:
    """Write a plan as TOML with all defaults, atomically.

    Parameters
    ----------
    plan : Plan
        The settings.
    path : str | Path
        The file.
    force : bool
        Whether an existing file is overwritten.

    Raises
    ------
    OutputError
        If the output cannot be written.

    Examples
    --------
    >>> barn_owl.write_plan(barn_owl.Plan(seed=3), "plan.toml")
    >>> barn_owl.read_plan("plan.toml").seed
    3
    """
    values = plan.model_dump(exclude_none=True)
    values["recordings"] = [table_name(name) for name in plan.recordings]
    with atomic_write(path, force=force) as beside:
        beside.write_text(tomlkit.dumps(values), encoding="utf-8", errors="backslashreplace")
