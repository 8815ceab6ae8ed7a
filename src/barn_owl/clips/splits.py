"""Names and shares of the splits: training, validation, test."""

from typing import Literal

from pydantic import Field, model_validator

from barn_owl.clips.split_names import SPLITS as SPLITS
from barn_owl.settings import Settings


class Shares(Settings):
    """Shares of the splits, and the indivisible unit.

    Rows with the same name in the column ``copy_of`` (near-duplicates, see `check_clips`) always stay together.

    Examples
    --------
    >>> barn_owl.clips.Shares(train=0.7, validation=0.15, test=0.15).together
    'group'
    """

    train: float = Field(default=0.6, gt=0, lt=1)
    """Share of training clips."""
    validation: float = Field(default=0.2, gt=0, lt=1)
    """Share of validation clips."""
    test: float = Field(default=0.2, gt=0, lt=1)
    """Share of test clips."""
    together: Literal["group", "file"] = "group"
    """Unit that is never divided between splits: rows of a group, or rows of a file."""
    method: Literal["balanced", "stable"] = "balanced"
    """balanced: every label as close to the shares as possible. stable: by a hash of the group, so that added clips
    never move existing clips; shares hold on average only."""

    @model_validator(mode="after")
    def _check_sum(self) -> "Shares":
        total = self.train + self.validation + self.test
        if abs(total - 1) > 1e-6:
            raise ValueError(f"train, validation and test must sum to 1, got {total:g}")
        return self
