"""Splitting clips by group, with every label in every split."""

import hashlib
import logging

import numpy as np
import pandas as pd

from barn_owl.clips.duplicates import linked
from barn_owl.clips.splits import SPLITS, Shares
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import TableError

logger = logging.getLogger(__name__)


MIN_CLIPS = 3
"""Minimum number of clips per label: a clip per split."""


def split_clips(
    clips: TableOrPath, shares: Shares | None = None, *, seed: int = 0, min_labels: int = 2, quietly: bool = False
) -> pd.DataFrame:
    """Fill the column ``split`` of a clip table; the argument is not changed.

    Rows of a group (or of a file, when the table has no ``group`` or ``shares.together`` is "file"), and rows of a
    recording (``copy_of``), share a split, and each label's clips are divided as close to `shares` as whole groups
    allow. Filled splits are kept; only rows with a blank ``split`` are placed, with their group if it has a split
    already. A table split into train and test only gets validation clips from train.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    shares : Shares | None
        Share of the clips in each split; None for the default.
    seed : int
        Seed of all random choices.
    min_labels : int
        Smallest number of labels.
    quietly : bool
        Whether to leave out the warning about labels without a clip in a split.

    Raises
    ------
    TableError
        If a label has fewer than three clips, there are fewer groups than splits, or a group has two splits already.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> barn_owl.split_clips(clips)["split"].value_counts().to_dict()
    {'train': 24, 'validation': 12, 'test': 12}
    """
    clips = as_clip_table(clips, "clips")
    shares = shares or Shares()
    clips = clips.copy()
    _check_labels(clips, min_labels)
    keys = indivisible_units(clips, shares)
    label_numbers, labels = pd.factorize(clips["label"])
    group_numbers, groups = pd.factorize(keys)
    counts = np.zeros((len(groups), len(labels)))
    np.add.at(counts, (group_numbers, label_numbers), 1)

    given = clips["split"].to_numpy(dtype=object) if "split" in clips else np.full(len(clips), "", dtype=object)
    split_of, splits = _given_splits(given, group_numbers, groups.tolist()), [0, 1, 2]
    if (split_of >= 0).all() and not (split_of == 1).any():
        split_of, splits = np.where(split_of == 0, -1, split_of), [0, 1]
    if len(groups) < len(SPLITS) and (split_of < 0).any():
        raise TableError(
            f"there are {len(groups)} groups for {len(SPLITS)} splits, and a group is never split; "
            'name more groups, or set split.together = "file" if files of one group may be in different splits'
        )
    if shares.method == "stable":
        _place_by_name(groups.tolist(), split_of, splits, shares, seed)
    else:
        _place(counts, split_of, splits, shares, np.random.default_rng(seed))
    clips["split"] = np.array(SPLITS, dtype=object)[split_of[group_numbers]]
    if not quietly:
        _report_missing(clips)
    return clips


def _check_labels(clips: pd.DataFrame, min_labels: int) -> None:
    counts = clips["label"].value_counts()
    if len(counts) < min_labels:
        only = f"one label ({counts.index[0]!r})" if len(counts) else "no label"
        raise TableError(f"the table has {only}; a classifier needs clips of at least two labels")
    few = counts[counts < MIN_CLIPS]
    if len(few):
        listed = ", ".join(f"{label!r} ({count})" for label, count in few.items())
        raise TableError(
            f"each label needs at least {MIN_CLIPS} clips, one for each of {', '.join(SPLITS)}; "
            f"too few clips of {listed}. Add clips, or delete these rows"
        )


def indivisible_units(clips: pd.DataFrame, shares: Shares) -> "pd.Series[str]":
    """Return for each row the name of its indivisible unit."""
    keys = clips["file"]
    if shares.together == "group" and "group" in clips and (clips["group"] != "").any():
        # A clip without a group is a unit by itself.
        keys = clips["group"].where(clips["group"] != "", clips["file"])
    if "copy_of" not in clips:
        return keys
    # Groups with the same recording are merged and named after the first. A blank stays alone.
    numbers, names = pd.factorize(keys)
    copy_of = clips["copy_of"].fillna("").astype(str).to_numpy()
    alone = [f"row {row}" for row in range(len(clips))]
    copies = np.where(copy_of == "", alone, np.char.add("copy of ", copy_of.astype(str)))
    first = pd.Series(numbers).groupby(copies).transform("first").to_numpy()
    joined = linked(len(names), zip(first, numbers, strict=True))
    name_of = pd.Series(names).groupby(joined).transform("first")
    return pd.Series(name_of.to_numpy()[numbers], index=clips.index)


def fold_clips(clips: TableOrPath, folds: int = 5, *, seed: int = 0, shares: Shares | None = None) -> pd.DataFrame:
    """Fill the column ``fold`` with 1 to `folds`, keeping groups together and spreading labels evenly.

    Seeds differ in their folds, for repeated cross-validation; with as many folds as groups, each group is left out
    once.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    folds : int
        Number of folds.
    seed : int
        Seed of all random choices.
    shares : Shares | None
        Shares of the splits. Default: `Shares()`.

    Raises
    ------
    TableError
        If there are fewer groups than folds.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> sorted(barn_owl.clips.fold_clips(clips, 3)["fold"].unique().tolist())
    [1, 2, 3]
    """
    clips = as_clip_table(clips, "clips")
    keys = indivisible_units(clips, shares or Shares())
    label_numbers, labels = pd.factorize(clips["label"])
    group_numbers, groups = pd.factorize(keys)
    if len(groups) < folds:
        raise TableError(f"there are {len(groups)} groups for {folds} folds, and a group is never split")
    counts = np.zeros((len(groups), len(labels)))
    np.add.at(counts, (group_numbers, label_numbers), 1)
    fold_of = np.full(len(groups), -1)
    _assign_splits(counts, fold_of, list(range(folds)), np.full(folds, 1 / folds), np.random.default_rng(seed))
    return clips.assign(fold=fold_of[group_numbers] + 1)


def splits_of_fold(clips: TableOrPath, fold: int) -> pd.DataFrame:
    """Fill the column ``split`` for cross-validation: this fold is the test split, the next validation, the rest
    training.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    fold : int
        Number of the fold, from 1.

    Raises
    ------
    TableError
        If the table has no column ``fold``, or no clip of this fold.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> folded = barn_owl.clips.splits_of_fold(barn_owl.clips.fold_clips(clips, 4), 1)
    >>> sorted(folded["split"].unique())
    ['test', 'train', 'validation']
    """
    clips = as_clip_table(clips, "clips")
    if "fold" not in clips:
        raise TableError("the table has no column 'fold'; fold it first")
    numbers = clips["fold"].astype(int)
    folds = sorted(numbers.unique())
    if fold not in folds or len(folds) < len(SPLITS):
        raise TableError(f"there is no fold {fold} of at least three; there are {', '.join(map(str, folds))}")
    after = folds[(folds.index(fold) + 1) % len(folds)]
    split = np.select([numbers == fold, numbers == after], ["test", "validation"], "train")
    return clips.assign(split=split.astype(object))


def split_by_time(clips: TableOrPath, shares: Shares | None = None) -> pd.DataFrame:
    """Fill the column ``split`` by time: in each file the earliest excerpts train, the latest test.

    For a long recording, whose neighboring excerpts are too similar to be in different splits. Excerpts that overlap
    the last excerpt of an earlier split join that split.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    shares : Shares | None
        Shares of the splits. Default: `Shares()`.

    Examples
    --------
    >>> windows = barn_owl.clips.cut_windows("night.wav", 1.0, label="night")
    >>> barn_owl.clips.split_by_time(windows)["split"].value_counts().to_dict()
    {'train': 8, 'validation': 3, 'test': 3}
    """
    clips = as_clip_table(clips, "clips")
    shares = shares or Shares()
    splits = np.full(len(clips), "train", dtype=object)
    starts = clips["start_s"].fillna(0).to_numpy()
    ends = clips["end_s"].fillna(np.inf).to_numpy()
    for rows in clips.groupby("file", sort=False).indices.values():
        order = rows[np.argsort(starts[rows], kind="stable")]
        bounds = np.round(np.cumsum([shares.train, shares.validation]) * len(order)).astype(int)
        latest = np.maximum.accumulate(ends[order])
        for split, begin in (("validation", bounds[0]), ("test", bounds[1])):
            while 0 < begin < len(order) and starts[order[begin]] < latest[begin - 1]:
                begin += 1
            splits[order[begin:]] = split
    return clips.assign(split=splits)


def find_leaks(clips: TableOrPath) -> pd.DataFrame:
    """Return groups, copies and files that are in more than one split; columns what (group, copy_of, file), name,
    splits.

    Excerpts of a file may be in several splits when they do not overlap and share no group.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.

    Examples
    --------
    >>> len(barn_owl.clips.find_leaks(barn_owl.open_run("first").predictions))
    0
    """
    clips = as_clip_table(clips, "clips")
    rows: list[tuple[str, str, str]] = []
    placed = clips[clips["split"] != ""] if "split" in clips else clips.assign(split="").iloc[:0]
    for what in ("group", "copy_of"):
        if what in placed:
            named = placed[placed[what].fillna("").astype(str) != ""]
            splits = named.groupby(what)["split"].unique()
            rows += [(what, str(name), _joined(found)) for name, found in splits.items() if len(found) > 1]
    divided = placed.groupby("file")["split"].transform("nunique") > 1
    for file, excerpts in placed[divided].groupby("file"):
        order = excerpts.fillna({"start_s": 0.0, "end_s": np.inf}).sort_values("start_s")
        overlap = order["start_s"].to_numpy()[1:] < np.maximum.accumulate(order["end_s"].to_numpy())[:-1]
        differ = order["split"].to_numpy()[1:] != order["split"].to_numpy()[:-1]
        if (overlap & differ).any():
            rows.append(("file", str(file), _joined(excerpts["split"].unique())))
    return pd.DataFrame(rows, columns=["what", "name", "splits"])


def _joined(splits: np.ndarray) -> str:
    return ", ".join(sorted(splits, key=SPLITS.index))


def _given_splits(given: np.ndarray, group_numbers: np.ndarray, groups: list[str]) -> np.ndarray:
    """Return the split each group has already, -1 for none; shape (groups,)."""
    split_of = np.full(len(groups), -1)
    for number, split in enumerate(SPLITS):
        for group in np.unique(group_numbers[given == split]):
            if split_of[group] >= 0:
                raise TableError(
                    f"{groups[group]!r} is in two splits ({SPLITS[split_of[group]]} and {split}); "
                    'put all its rows into one, blank the column split, or set split.together = "file" if files of '
                    "one group may be in different splits"
                )
            split_of[group] = number
    return split_of


def _place_by_name(groups: list[str], split_of: np.ndarray, splits: list[int], shares: Shares, seed: int) -> None:
    """Assign a split to each group without a split by a hash of its name, independently of the remaining groups."""
    share = np.array([shares.train, shares.validation, shares.test])[splits]
    bounds = np.cumsum(share / share.sum())[:-1]
    for number, group in enumerate(groups):
        if split_of[number] < 0:
            digest = hashlib.sha256(f"{seed} {group}".encode()).digest()
            split_of[number] = splits[int(np.searchsorted(bounds, int.from_bytes(digest[:8]) / 2**64, side="right"))]


def _place(
    counts: np.ndarray, split_of: np.ndarray, splits: list[int], shares: Shares, rng: np.random.Generator
) -> None:
    """Assign to each group without a split the split of `splits` that brings the shares of labels closest to the
    goal."""
    share = np.array([shares.train, shares.validation, shares.test])
    _assign_splits(counts, split_of, splits, share, rng)


def _assign_splits(
    counts: np.ndarray, split_of: np.ndarray, splits: list[int], share: np.ndarray, rng: np.random.Generator
) -> None:
    """Place whole groups so that the labels' shares come near to `share` on `splits`.

    counts : clips by group and label, shape (groups, labels); split_of, -1 where open, is filled in place.
    """
    open_to = counts[np.isin(split_of, [-1, *splits])].sum(axis=0)
    wanted = np.zeros((len(share), counts.shape[1]))
    wanted[splits] = share[splits][:, None] / share[splits].sum() * open_to
    reached = np.stack([counts[split_of == split].sum(axis=0) for split in range(len(share))])
    # A label weighs the same whether it has ten clips or a thousand.
    weight = 1 / counts.sum(axis=0)
    closed = np.setdiff1d(np.arange(len(share)), splits)
    # Large groups first, while they fit everywhere; groups of equal size in random order.
    order = rng.permutation(len(counts))
    order = order[np.argsort(-counts[order].sum(axis=1), kind="stable")]
    waiting = order[split_of[order] < 0]
    empty = len(np.setdiff1d(np.flatnonzero(reached.sum(axis=1) == 0), closed))
    for position, group in enumerate(waiting):
        # The squared distance to the goal changes only in the labels of the group.
        own = np.flatnonzero(counts[group])
        missing, added = (wanted[:, own] - reached[:, own]) * weight[own], counts[group, own] * weight[own]
        cost = (added * (added - 2 * missing)).sum(axis=1)
        cost[closed] = np.inf
        if empty >= len(waiting) - position:  # just enough groups for the empty splits
            cost[reached.sum(axis=1) > 0] = np.inf
        split = int(np.argmin(cost))
        empty -= int(not reached[split].any())
        split_of[group] = split
        reached[split] += counts[group]


def missing_in_splits(clips: pd.DataFrame) -> dict[str, list[str]]:
    """Labels without clips in a split, by split; nothing where the table is not split, or a split has no clip."""
    if "split" not in clips or not clips["split"].isin(SPLITS).all():
        return {}
    there: dict[str, set[str]] = {split: set() for split in SPLITS}
    for label, split in clips[["label", "split"]].drop_duplicates().itertuples(index=False):
        if label != "":
            there[split].add(label)
    every = set().union(*there.values())
    return {split: sorted(every - labels) for split, labels in there.items() if labels and every - labels}


def _report_missing(clips: pd.DataFrame) -> None:
    for split, without in missing_in_splits(clips).items():
        labels = ", ".join(map(repr, without))
        logger.warning("no clip of %s is on the %s split: its groups are all elsewhere", labels, split)
