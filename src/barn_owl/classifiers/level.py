"""Gain normalization of levels."""

from pydantic import Field

from barn_owl.settings import Settings


class Level(Settings):
    """The same in frames, as a classifier keeps it."""

    frames: int = Field(ge=0, le=10_000)
    """Frames over whose mean power levels are relative to, as many before as after; 0: levels as they are."""
    range_db: float = Field(ge=10, le=120)
    """How far below that mean power levels are distinguished."""
