"""Checks of labels: spelling, invalid folder names, numbers of clips."""

import unicodedata
from collections.abc import Iterator

import pandas as pd

from barn_owl.clips.finding import Finding
from barn_owl.clips.split import MIN_CLIPS

LONGEST_NAME = 255
"""Bytes of the name of a folder, at most."""
IMBALANCE = 10.0
"""How many times more clips the largest label has: from there on the smallest hardly count in a mean over clips."""


def spellings(clips: pd.DataFrame) -> Iterator[Finding]:
    """Labels that are likely one, written in several ways."""
    for variants in spelling_variants(clips["label"]).values():
        right, *others = variants
        for other in others:
            yield Finding(
                severity="warning", finding="spelling", label=other,
                detail=f"{other!r} differs from {right!r} in {_how_spelt(other, right)} only",
                action=f"the repaired table has {right!r}",
            )  # fmt: skip


def _how_spelt(one: str, other: str) -> str:
    if unicodedata.normalize("NFC", one) == unicodedata.normalize("NFC", other):
        return f"its Unicode form ({one!a} and {other!a}, which look the same)"
    return "case, blanks or dashes"


def for_folders(clips: pd.DataFrame) -> Iterator[Finding]:
    """Labels that no folder can be called, as `cut --write` and other programs would."""
    for label in clips["label"].unique():
        name = str(label).encode("utf-8", "surrogateescape")
        why = (
            "is longer than 255 bytes" if len(name) > LONGEST_NAME else
            "contains a character not allowed in names" if any(c in '/\\\0<>:"|?*' or ord(c) < 32 for c in label) else
            "cannot be the name of a folder" if label != label.rstrip(". ") else ""
        )  # fmt: skip
        if why:
            yield Finding(
                severity="warning", finding="no folder name", label=str(label)[:LONGEST_NAME],
                detail=f"the label {label[:40]!r} {why}", action="rename it: gather --relabel OLD=NEW",
            )  # fmt: skip


def spelling_variants(labels: "pd.Series[str]") -> dict[str, list[str]]:
    """Spellings of what may be one label, the most frequent first; only where there are several."""
    variants: dict[str, list[str]] = {}
    for label in labels.value_counts(sort=True).index:
        if label:
            plain = unicodedata.normalize("NFKC", label).casefold()
            variants.setdefault("".join(c for c in plain if c.isalnum()) or label, []).append(label)
    return {key: names for key, names in variants.items() if len(names) > 1}


def counts(clips: pd.DataFrame) -> Iterator[Finding]:
    """Labels with few clips, far fewer than others, or of one group only; clips without a label."""
    numbers = clips.loc[clips["label"] != "", "label"].value_counts()
    unlabeled = int((clips["label"] == "").sum())
    if unlabeled:
        yield Finding(
            severity="note", finding="unlabeled", detail=f"{unlabeled} rows have no label",
            action="training leaves them out",
        )  # fmt: skip
    if len(numbers) < 2:
        yield Finding(
            severity="error", finding="one label", detail="a classifier needs clips of at least two labels",
            action="add clips of another label, or of background",
        )  # fmt: skip
        return
    for label, count in numbers.items():
        if count < MIN_CLIPS:
            yield Finding(
                severity="error", finding="few clips", label=str(label), detail=f"{count} clips",
                action=f"add clips: at least {MIN_CLIPS}, one per split",
            )  # fmt: skip
        elif numbers.iloc[0] > IMBALANCE * count:
            yield Finding(
                severity="warning", finding="imbalance", label=str(label),
                detail=f"{count} clips, {numbers.iloc[0] / count:.0f} times fewer than {numbers.index[0]!r}",
                action="add clips, or limit the others with gather --limit",
            )  # fmt: skip
    if "group" in clips and (clips["group"] != "").any():
        named = clips[(clips["group"] != "") & (clips["label"] != "")]
        groups, labels = named.groupby("label")["group"].nunique(), named.groupby("group")["label"].nunique()
        if len(labels) > 1 and (labels == 1).all():
            yield Finding(
                severity="warning", finding="groups of one label",
                detail=f"each of the {len(labels)} groups has clips of one label only",
                action="a classifier may use the group as a cue for the label, and no score "
                "would show it: record several labels in each group",
            )  # fmt: skip
        for label in groups.index[(groups == 1) & (groups.index != "")]:
            only = clips.loc[(clips["label"] == label) & (clips["group"] != ""), "group"].iloc[0]
            yield Finding(
                severity="warning", finding="one group", label=label,
                detail=f"all clips are of group {only!r}: no other group to test on",
                action="record this label with another recorder, or in another place",
            )  # fmt: skip
