"""The plan: one TOML file that says everything about a training run."""

import tomllib
from pathlib import Path
from typing import Literal

import tomlkit
from pydantic import Field, model_validator

from barn_owl.clips import Shares, SoundSettings, UniformSettings
from barn_owl.errors import PlanError
from barn_owl.features import FrontEnd
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


class AugmentSettings(Settings):
    """Changes made to log-mel windows, anew each time they are seen; 0 turns one off."""

    gain_db: float = Field(default=8.0, ge=0, le=60)
    tilt_db: float = Field(default=4.0, ge=0, le=30)
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


class TcnSettings(Settings):
    """Size of the temporal network."""

    channels: int = Field(default=64, ge=4, le=1024)
    dropout: float = Field(default=0.2, ge=0, lt=1)


class LogisticSettings(Settings):
    """Multinomial logistic regression on pooled features."""

    penalty: float | None = Field(default=None, gt=0)
    """Weight of half the squared coefficients; left out: the best of several on the validation clips."""


class DecisionSettings(Settings):
    """How scores over time become events."""

    on: float = Field(default=0.6, gt=0, le=1)
    off: float = Field(default=0.3, ge=0, lt=1)
    shortest_s: float = Field(default=0.1, ge=0)
    gap_s: float = Field(default=0.5, ge=0)

    @model_validator(mode="after")
    def _in_order(self) -> "DecisionSettings":
        if self.off > self.on:
            raise ValueError(f"off must be at most on={self.on:g}, got {self.off:g}")
        return self


class Plan(Settings):
    """Everything about a training run; each key has a default.

    >>> Plan(family="logistic", seed=3).front_end.bands
    48
    """

    seed: int = Field(default=0, ge=0)
    family: Literal["tcn", "logistic"] = "tcn"
    background: list[str] = Field(default=[])
    """Labels that mean "nothing of interest": learnt, judged, and never reported as events."""
    front_end: FrontEnd = FrontEnd()
    clips: ClipSettings = ClipSettings()
    split: Shares = Shares()
    training: TrainingSettings = TrainingSettings()
    augment: AugmentSettings = AugmentSettings()
    sound: SoundSettings = SoundSettings()
    tcn: TcnSettings = TcnSettings()
    logistic: LogisticSettings = LogisticSettings()
    decision: DecisionSettings = DecisionSettings()


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
