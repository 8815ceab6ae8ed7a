"""The three splits of a split, and how large each is to be."""

from typing import Literal

from pydantic import Field, model_validator

from barn_owl.settings import Settings

SPLITS = ("train", "validation", "test")


class Shares(Settings):
    """How much of the clips goes where, and what is kept together.

    method : "balanced" places whole groups so that every label comes as near to the shares as it can;
        "stable" places each group by a hash of its name and the seed alone, so that clips added later never
        move an older one, at the price of shares that are only met on average.
    together : rows of one group stay together, or only rows of one file. Rows with the same name in the
        column ``copy_of`` (one recording twice, see `check_clips`) always do.

    >>> barn_owl.clips.Shares(train=0.7, validation=0.15, test=0.15).together
    'group'
    """

    train: float = Field(default=0.6, gt=0, lt=1)
    validation: float = Field(default=0.2, gt=0, lt=1)
    test: float = Field(default=0.2, gt=0, lt=1)
    together: Literal["group", "file"] = "group"
    method: Literal["balanced", "stable"] = "balanced"

    @model_validator(mode="after")
    def _sum_to_one(self) -> "Shares":
        total = self.train + self.validation + self.test
        if abs(total - 1) > 1e-6:
            raise ValueError(f"train, validation and test must sum to 1, got {total:g}")
        return self
