"""Settings that a model decides by."""

from typing import Any, Self

from pydantic import Field, model_validator

from barn_owl.settings import Settings

OFF = 0.45
LONGEST_S = 1e7
"""No event, gap or pause is longer than some months."""


class LabelDecision(Settings):
    """What is decided otherwise for one label; what is left out is as for all.

    Where events are named as a whole, `off` and `again` are those of all labels.
    """

    on: float | None = Field(default=None, gt=0, le=1)
    off: float | None = Field(default=None, ge=0, lt=1)
    again: float | None = Field(default=None, gt=0, le=1)
    shortest_s: float | None = Field(default=None, ge=0, le=LONGEST_S)
    longest_s: float | None = Field(default=None, gt=0, le=LONGEST_S)
    gap_s: float | None = Field(default=None, ge=0, le=LONGEST_S)
    pause_s: float | None = Field(default=None, ge=0, le=LONGEST_S)


class DecisionSettings(Settings):
    """How scores over time become events.

    >>> barn_owl.DecisionSettings(on=0.7, off=0.3).but(on=0.8).on
    0.8
    """

    on: float = Field(default=0.6, gt=0, le=1)
    """Score that any label sounds, which an event reaches at least once."""
    off: float = Field(default=OFF, ge=0, lt=1)
    """Score that it stays above. Left out: 0.45, or `on` where that is lower."""
    named: float = Field(default=0.8, ge=0, le=1)
    """How sure it must be, by the whole of it, that it is one of the labels that are events."""
    again: float = Field(default=0.9, gt=0, le=1)
    """Onset score from which on a sound that still sounds begins again, as another event; 1 for never."""
    smooth_s: float = Field(default=0.0, ge=0, le=60)
    """Time over which scores are averaged first, 0 for as they are."""
    shortest_s: float = Field(default=0.1, ge=0, le=LONGEST_S)
    longest_s: float = Field(default=3600.0, gt=0, le=LONGEST_S)
    """Shorter and longer events are left out."""
    gap_s: float = Field(default=0.1, ge=0, le=LONGEST_S)
    """Gaps between events of one label up to this are closed."""
    pause_s: float = Field(default=0.0, ge=0, le=LONGEST_S)
    """Time after an event of a label in which no other of it can begin."""
    alone: float = Field(default=0.5, ge=0, le=1)
    """Share of the shorter of two events from which on they cannot both be, and the one with the higher score is
    kept; 1 for all being kept, 0 for no overlap at all."""
    early_s: float = Field(default=0.0, ge=-10, le=10)
    """How much later than it seems an event begins."""
    late_s: float = Field(default=0.0, ge=-10, le=10)
    """How much earlier than it seems an event ends."""
    labels: dict[str, LabelDecision] = Field(default={})
    """What is otherwise for single labels."""

    @model_validator(mode="before")
    @classmethod
    def _off_follows_on(cls, given: Any) -> Any:
        if isinstance(given, dict) and "off" not in given and isinstance(given.get("on"), int | float):
            return {**given, "off": min(OFF, given["on"])}
        return given

    @model_validator(mode="after")
    def _in_order(self) -> "DecisionSettings":
        for label, own in {"": LabelDecision(), **self.labels}.items():
            on, off = self.on if own.on is None else own.on, self.off if own.off is None else own.off
            if off > on:
                where = f"labels.{label}.off" if label else "off"
                raise ValueError(f"{where} must be at most on={on:g}, got {off:g}")
        return self

    def but(self, **changes: Any) -> Self:
        """Return a copy with changes; a lower `on` takes `off` along unless that is given too."""
        if changes.get("on") is not None and changes.get("off") is None:
            changes["off"] = min(self.off, changes["on"])
        return super().but(**changes)

    def of(self, label: str) -> "DecisionSettings":
        """Return the settings of one label."""
        own = self.labels.get(label)
        if own is None:
            return self
        return self.model_copy(update={**own.model_dump(exclude_none=True), "labels": {}})
