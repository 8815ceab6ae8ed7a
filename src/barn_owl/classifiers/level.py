"""How levels are made independent of the gain of a recording."""

from pydantic import Field

from barn_owl.settings import Settings


class LevelSettings(Settings):
    """How levels are made independent of the gain of a recording; for log-mel only."""

    frames: int = Field(default=31, ge=0, le=1000)
    """Frames over whose mean power levels are relative to, as many before as after; 0: levels as they are."""
    range_db: float = Field(default=50.0, ge=10, le=120)
    """How far below that mean power levels are told apart."""
