"""Splitting clips so that no group is on two sides and every label is on each."""

import logging
from typing import Literal

import numpy as np
import pandas as pd
from pydantic import Field, model_validator

from barn_owl.clips.table import SIDES
from barn_owl.errors import TableError
from barn_owl.settings import Settings

logger = logging.getLogger(__name__)

MIN_CLIPS = 3
"""Clips a label needs at least: one for each side."""


class Shares(Settings):
    """How much of the clips goes where, and what is kept together."""

    train: float = Field(default=0.6, gt=0, lt=1)
    validation: float = Field(default=0.2, gt=0, lt=1)
    test: float = Field(default=0.2, gt=0, lt=1)
    together: Literal["group", "file"] = "group"

    @model_validator(mode="after")
    def _sum_to_one(self) -> "Shares":
        total = self.train + self.validation + self.test
        if abs(total - 1) > 1e-6:
            raise ValueError(f"train, validation and test must sum to 1, got {total:g}")
        return self


def split_clips(clips: pd.DataFrame, shares: Shares | None = None, *, seed: int = 0) -> pd.DataFrame:
    """Fill the column ``split`` of a clip table; the argument stays as it is.

    All rows of one group (or of one file, when the table has no ``group`` or ``shares.together`` is "file")
    land on the same side, and each label's clips are shared out as near to `shares` as whole groups allow.
    Sides that the table already names are kept; only rows with a blank ``split`` are placed, with their
    group if that has a side already. A table split into train and test alone gives up part of train for
    validation.

    Raises TableError when a label has fewer than three clips, there are fewer groups than sides, or one
    group is on two sides already.
    """
    shares = shares or Shares()
    clips = clips.copy()
    _check_labels(clips)
    keys = _together(clips, shares)
    label_numbers, labels = pd.factorize(clips["label"])
    group_numbers, groups = pd.factorize(keys)
    counts = np.zeros((len(groups), len(labels)))
    np.add.at(counts, (group_numbers, label_numbers), 1)

    given = clips["split"].to_numpy(dtype=object) if "split" in clips else np.full(len(clips), "", dtype=object)
    side_of, sides = _given_sides(given, group_numbers, groups.tolist()), [0, 1, 2]
    if (side_of >= 0).all() and not (side_of == 1).any():
        side_of, sides = np.where(side_of == 0, -1, side_of), [0, 1]
    if len(groups) < len(SIDES) and (side_of < 0).any():
        raise TableError(
            f"there are {len(groups)} groups for {len(SIDES)} sides, and a group is never split; "
            'name more groups, or set split.together = "file" if files of one group may be on both sides'
        )
    _place(counts, side_of, sides, shares, np.random.default_rng(seed))
    clips["split"] = np.array(SIDES, dtype=object)[side_of[group_numbers]]
    _report_missing(clips)
    return clips


def _check_labels(clips: pd.DataFrame) -> None:
    counts = clips["label"].value_counts()
    if len(counts) < 2:
        only = f"one label ({counts.index[0]!r})" if len(counts) else "no label"
        raise TableError(f"the table has {only}; a classifier needs clips of at least two labels")
    few = counts[counts < MIN_CLIPS]
    if len(few):
        said = ", ".join(f"{label!r} ({count})" for label, count in few.items())
        raise TableError(
            f"each label needs at least {MIN_CLIPS} clips, one for each of {', '.join(SIDES)}; "
            f"too few of: {said}. Add clips, or take these rows out"
        )


def _together(clips: pd.DataFrame, shares: Shares) -> "pd.Series[str]":
    """Name for each row what it must stay together with."""
    if shares.together == "file" or "group" not in clips or not (clips["group"] != "").any():
        return clips["file"]
    # A clip without a group stands for itself.
    return clips["group"].where(clips["group"] != "", clips["file"])


def _given_sides(given: np.ndarray, group_numbers: np.ndarray, groups: list[str]) -> np.ndarray:
    """Return the side each group has already, -1 for none; shape (groups,)."""
    side_of = np.full(len(groups), -1)
    for number, side in enumerate(SIDES):
        for group in np.unique(group_numbers[given == side]):
            if side_of[group] >= 0:
                raise TableError(
                    f"{groups[group]!r} is on two sides of the split ({SIDES[side_of[group]]} and {side}); "
                    "put all its rows on one side, or blank the column split"
                )
            side_of[group] = number
    return side_of


def _place(
    counts: np.ndarray, side_of: np.ndarray, sides: list[int], shares: Shares, rng: np.random.Generator
) -> None:
    """Give each group without a side the one of `sides` that brings the labels' shares nearest to what is wished.

    counts : clips by group and label, shape (groups, labels); side_of is filled in place.
    """
    share = np.array([shares.train, shares.validation, shares.test])[sides]
    open_to = counts[np.isin(side_of, [-1, *sides])].sum(axis=0)
    wished = np.zeros((len(SIDES), counts.shape[1]))
    wished[sides] = share[:, None] / share.sum() * open_to
    reached = np.zeros_like(wished)
    for side in range(len(SIDES)):
        reached[side] = counts[side_of == side].sum(axis=0)
    # A label weighs the same whether it has ten clips or a thousand.
    weight = 1 / counts.sum(axis=0)
    # Large groups first, while there is room for them everywhere; equal ones in random order.
    order = rng.permutation(len(counts))
    order = order[np.argsort(-counts[order].sum(axis=1), kind="stable")]
    waiting = [group for group in order if side_of[group] < 0]
    for position, group in enumerate(waiting):
        missing = (wished - reached) * weight
        after = missing - counts[group] * weight
        cost = (after**2).sum(axis=1) - (missing**2).sum(axis=1)
        cost[[side for side in range(len(SIDES)) if side not in sides]] = np.inf
        empty = (reached.sum(axis=1) == 0) & np.isfinite(cost)
        if empty.sum() >= len(waiting) - position:  # just enough groups left to give each side one
            cost[~empty] = np.inf
        side = int(np.argmin(cost))
        side_of[group] = side
        reached[side] += counts[group]


def _report_missing(clips: pd.DataFrame) -> None:
    table = pd.crosstab(clips["label"], clips["split"]).reindex(columns=list(SIDES), fill_value=0)
    for side in SIDES:
        without = table.index[table[side] == 0].tolist()
        if without:
            logger.warning(
                "no clip of %s is on the %s side: its groups are all elsewhere",
                ", ".join(map(repr, without)),
                side,
            )
