"""Renaming, merging and dropping labels, and balancing their numbers of clips."""

from collections.abc import Collection, Iterable, Mapping
from pathlib import Path

import numpy as np
import pandas as pd

from barn_owl.clips.any_table import read_any_table
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import TableError
from barn_owl.wording import nearest_to

BETWEEN = "|"
"""Separator of the labels of a multilabel clip."""


def join_labels(labels: Iterable[str]) -> str:
    """Join several labels, in alphabetical order: ``bell|gull``; "" for none.

    Parameters
    ----------
    labels : Iterable[str]
        Labels of a clip.
    """
    return BETWEEN.join(sorted(set(labels)))


def labels_in(text: str) -> list[str]:
    """Split labels joined by `join_labels`.

    Parameters
    ----------
    text : str
        Cell of the column ``label``.
    """
    return [label.strip() for label in text.split(BETWEEN) if label.strip()]


def join_multilabel(clips: TableOrPath) -> pd.DataFrame:
    """Merge the rows of an excerpt into a single row with all labels; further columns are taken from the first row.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table with a row for each label of a clip.
    """
    clips = as_clip_table(clips, "clips")
    keys = clips[["file", "start_s", "end_s"]].astype(object).where(clips[["file", "start_s", "end_s"]].notna(), "")
    group = keys.apply(tuple, axis=1)
    every = (
        clips["label"]
        .groupby(group)
        .transform(lambda labels: join_labels(n for text in labels for n in labels_in(text)))
    )
    return clips.assign(label=every)[~group.duplicated()].reset_index(drop=True)


def read_label_map(path: str | Path) -> dict[str, str]:
    """Read new names of labels from a table with the columns ``label`` and ``becomes``.

    A blank in ``becomes`` drops the label.

    Parameters
    ----------
    path : str | Path
        Table with two columns: label and new label.

    Raises
    ------
    TableError
        If a column is missing or a label is repeated.

    Examples
    --------
    >>> pd.DataFrame({"label": ["hum"], "becomes": ["machine"]}).to_csv("map.csv", index=False)
    >>> barn_owl.clips.read_label_map("map.csv")
    {'hum': 'machine'}
    """
    table = read_any_table(path)
    if not {"label", "becomes"} <= set(table.columns):
        raise TableError(f"{path} must have the columns label and becomes; it has {', '.join(table.columns)}")
    labels = [str(label).strip() for label in table["label"]]
    twice = sorted({label for label in labels if labels.count(label) > 1})
    if twice:
        raise TableError(f"{path} says twice what {twice[0]!r} becomes")
    return dict(zip(labels, (str(value).strip() for value in table["becomes"]), strict=True))


def relabel(clips: TableOrPath, becomes: Mapping[str, str]) -> pd.DataFrame:
    """Rename labels; several labels may get the same name, and clips of labels renamed to "" are dropped.

    Labels that are not named stay.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    becomes : Mapping[str, str]
        New label by label.

    Raises
    ------
    TableError
        For a label without clips, with the most similar label.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> sorted(barn_owl.clips.relabel(clips, {"hum": "machine"})["label"].unique())
    ['hiss', 'machine', 'still', 'tick']
    """
    clips = as_clip_table(clips, "clips")
    present = sorted(clips["label"].unique())
    for label in becomes:
        if label not in present:
            raise TableError(f"no clip is labeled {label!r}; {nearest_to(label, present)}")
    labels = clips["label"].map(lambda label: becomes.get(label, label))
    dropped = labels.eq("") & clips["label"].ne("")
    return clips.assign(label=labels)[~dropped].reset_index(drop=True)


def limit_clips(clips: TableOrPath, most: int, *, seed: int = 0) -> pd.DataFrame:
    """Keep at most `most` clips per label, drawn at random but evenly from its groups; keeps the order.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    most : int
        Largest number of clips per label.
    seed : int
        Seed of all random choices.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> len(barn_owl.clips.limit_clips(clips, 5))
    20
    """
    clips = as_clip_table(clips, "clips")
    rng = np.random.default_rng(seed)
    kept = [_drawn(clips.index[clips["label"] == label], clips, "group", most, rng)
            for label in clips["label"].unique()]  # fmt: skip
    return clips.loc[np.sort(np.concatenate(kept))].reset_index(drop=True) if kept else clips


def other_label(
    clips: TableOrPath, keep: Collection[str], *, name: str = "other", most: int | None = None, seed: int = 0
) -> pd.DataFrame:
    """Keep some labels, and draw clips of a further label, `name`, evenly from the remaining labels; order is kept.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    keep : Collection[str]
        Labels that stay.
    name : str
        Label of the clips with the remaining labels.
    most : int | None
        Clips of the new label. None: median of the kept labels. The former label of a clip is in the new column
        ``label_before``.
    seed : int
        Seed of all random choices.

    Raises
    ------
    TableError
        If a label to keep has no clip, or none is left.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> sorted(barn_owl.clips.other_label(clips, ["hum", "hiss"])["label"].unique())
    ['hiss', 'hum', 'other']
    """
    clips = as_clip_table(clips, "clips")
    counts = clips["label"].value_counts()
    if not len(keep):
        raise TableError("keep must name one label or more")
    for label in keep:
        if label not in counts:
            raise TableError(f"no clip is labeled {label!r}; there are {', '.join(sorted(counts.index))}")
    others = clips.index[~clips["label"].isin([*keep, ""])]
    if not len(others):
        raise TableError(f"every clip has one of the labels that are kept, so nothing is left for {name!r}")
    most = most or max(1, round(float(counts[list(keep)].median())))
    drawn = _drawn(others, clips, "label", most, np.random.default_rng(seed))
    rows = np.sort(np.concatenate([clips.index[clips["label"].isin(keep)], drawn]))
    changed = clips.loc[rows].assign(label_before=lambda table: table["label"])
    changed.loc[drawn, "label"] = name
    return changed.reset_index(drop=True)


def _drawn(rows: pd.Index, clips: pd.DataFrame, by: str, most: int, rng: np.random.Generator) -> np.ndarray:
    """Draw at most `most` of `rows`, in turns from each value of the column `by`."""
    rows = rng.permutation(rows.to_numpy())
    if by not in clips:
        return rows[:most]
    values = clips.loc[rows, by]
    turn = values.groupby(values).cumcount().to_numpy()
    return rows[np.lexsort((rng.random(len(rows)), turn))][:most]
