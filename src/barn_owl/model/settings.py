"""Settings of the event decoder."""

from collections.abc import Mapping
from typing import Any, Self, TypeAlias

from pydantic import BaseModel, Field, model_validator

from barn_owl.settings import Settings

USUAL_RELEASE = 0.35
FORMER_NAME = "min_confidence"
"""Name of `min_known_probability` in models, plans and stores of earlier versions, which are read."""
MAX_DURATION_S = 1e7
"""Upper limit of durations, gaps and pauses: a few months."""


class LabelDecoding(Settings):
    """Decoding settings of a label; missing values are taken from the settings of all labels.

    Where events are classified as a whole, `release_threshold` and `retrigger_threshold` of single labels are
    ignored.
    """

    threshold: float | None = Field(default=None, gt=0, le=1)
    release_threshold: float | None = Field(default=None, ge=0, lt=1)
    retrigger_threshold: float | None = Field(default=None, gt=0, le=1)
    min_duration_s: float | None = Field(default=None, ge=0, le=MAX_DURATION_S)
    max_duration_s: float | None = Field(default=None, gt=0, le=MAX_DURATION_S)
    max_gap_s: float | None = Field(default=None, ge=0, le=MAX_DURATION_S)
    refractory_s: float | None = Field(default=None, ge=0, le=MAX_DURATION_S)


class DecodingSettings(Settings):
    """How frame scores become events.

    Examples
    --------
    >>> settings = barn_owl.DecodingSettings(threshold=0.7)
    >>> settings.but(threshold=0.8).threshold
    0.8
    """

    threshold: float = Field(default=0.5, gt=0, le=1)
    """Score that an event must reach at least once."""
    release_threshold: float = Field(default=USUAL_RELEASE, ge=0, lt=1)
    """Score below which an event ends. Default: 0.35, or `threshold` if that is lower."""
    min_known_probability: float = Field(default=0.8, ge=0, le=1)
    """Minimum probability that the event has any of the reported labels. Rejects unknown sounds."""
    retrigger_threshold: float = Field(default=0.9, gt=0, le=1)
    """Onset score at which a new event begins while another is still active; 1 turns this off."""
    smoothing_s: float = Field(default=0.0, ge=0, le=60)
    """Length of the moving average applied to the scores first; 0 turns it off."""
    min_duration_s: float = Field(default=0.05, ge=0, le=MAX_DURATION_S)
    """Shorter events are dropped."""
    max_duration_s: float = Field(default=3600.0, gt=0, le=MAX_DURATION_S)
    """Longer events are dropped."""
    max_gap_s: float = Field(default=0.1, ge=0, le=MAX_DURATION_S)
    """Longest gap across which events of a label are merged."""
    refractory_s: float = Field(default=0.0, ge=0, le=MAX_DURATION_S)
    """Time after an event of a label during which no event of that label can begin."""
    max_overlap: float = Field(default=0.5, ge=0, le=1)
    """Overlap, as a share of the shorter event, above which only the event with the higher score is kept; 1 keeps
    all, 0 allows no overlap."""
    onset_shift_s: float = Field(default=0.0, ge=-10, le=10)
    """Correction added to each onset; positive is later."""
    offset_shift_s: float = Field(default=0.0, ge=-10, le=10)
    """Correction added to each offset; positive is later."""
    labels: dict[str, LabelDecoding] = Field(default={})
    """Settings of single labels."""

    @model_validator(mode="before")
    @classmethod
    def _release_follows_threshold(cls, given: Any) -> Any:
        if isinstance(given, dict) and FORMER_NAME in given:
            given = {**given, "min_known_probability": given[FORMER_NAME]}
            del given[FORMER_NAME]
        lacks_release = isinstance(given, dict) and "release_threshold" not in given
        if lacks_release and isinstance(given.get("threshold"), int | float):
            return {**given, "release_threshold": min(USUAL_RELEASE, given["threshold"])}
        return given

    @model_validator(mode="after")
    def _in_order(self) -> "DecodingSettings":
        for label, own in {"": LabelDecoding(), **self.labels}.items():
            threshold = self.threshold if own.threshold is None else own.threshold
            release = self.release_threshold if own.release_threshold is None else own.release_threshold
            if release > threshold:
                where = f"labels.{label}.release_threshold" if label else "release_threshold"
                raise ValueError(f"{where} must be at most threshold={threshold:g}, got {release:g}")
        return self

    def but(self, **changes: Any) -> Self:
        """Return a copy with changes; a threshold below `release_threshold` lowers that, too, unless it is changed
        itself.

        Parameters
        ----------
        changes : Any
            Settings to change.
        """
        if changes.get("threshold") is not None and changes.get("release_threshold") is None:
            changes["release_threshold"] = min(self.release_threshold, changes["threshold"])
        return super().but(**changes)

    def of(self, label: str) -> "DecodingSettings":
        """Return the settings of a label.

        Parameters
        ----------
        label : str
            Label.
        """
        own = self.labels.get(label)
        if own is None:
            return self
        # Without checks: this runs for every label and event, and both parts were checked.
        return BaseModel.model_copy(self, update={**own.model_dump(exclude_none=True), "labels": {}})


DecodingLike: TypeAlias = DecodingSettings | Mapping[str, Any]
"""Type of arguments that are decoding settings: see `as_decoding`."""


def as_decoding(decoding: DecodingLike | None, default: DecodingSettings) -> DecodingSettings:
    """Return an argument of a public function as decoding settings.

    None stands for `default`, a mapping for `default` with these changes, such as ``{"threshold": 0.8}``.

    Raises PlanError for an invalid setting, and TypeError for another type.

    Parameters
    ----------
    decoding : DecodingSettings | Mapping[str, Any] | None
        Decoding settings, or a mapping of the changes to those of the model.
    default : DecodingSettings
        Decoding settings of the model.
    """
    if decoding is None or isinstance(decoding, DecodingSettings):
        return decoding or default
    if not isinstance(decoding, Mapping):
        raise TypeError(f"decoding must be DecodingSettings or a mapping of settings, got {type(decoding).__name__}")
    return default.but(**decoding)
