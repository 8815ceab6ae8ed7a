"""Settings for cutting single takes from a recording."""

from typing import Literal

from pydantic import Field, model_validator

from barn_owl.settings import Settings


class TakeSettings(Settings):
    """How takes are found, and the length of their clips.

    Attributes
    ----------
    threshold_db, release_db : float
        Level above quiet, mean over mel bands, at which a take begins and ends.
    max_gap_s : float
        A pause up to this length is inside a take.
    place : Literal[random, start, center]
        Where the event is in its clip.

    Examples
    --------
    >>> barn_owl.clips.TakeSettings(length_s=0.5).length_s
    0.5
    """

    length_s: float = Field(default=1.0, gt=0, le=600)
    threshold_db: float = Field(default=5.0, gt=0, le=60)
    release_db: float = Field(default=2.5, gt=0, le=60)
    max_gap_s: float = Field(default=0.25, ge=0)
    min_duration_s: float = Field(default=0.02, ge=0)
    place: Literal["random", "start", "center"] = "random"

    @model_validator(mode="after")
    def _in_order(self) -> "TakeSettings":
        if self.release_db > self.threshold_db:
            raise ValueError(
                f"release_db must be at most threshold_db={self.threshold_db:g}, got {self.release_db:g}"
            )
        return self
