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
    """Labels that are likely the same, in several spellings."""
    for variants in spelling_variants(clips["label"]).values():
        right, *others = variants
        for other in others:
            differs = f"{other!r} differs from {right!r} in {_how_spelt(other, right)} only"
            yield Finding("spelling", differs, label=other)


def _how_spelt(one: str, other: str) -> str:
    if unicodedata.normalize("NFC", one) == unicodedata.normalize("NFC", other):
        return f"its Unicode form ({one!a} and {other!a}, which look the same)"
    return "case, blanks or dashes"


def for_folders(clips: pd.DataFrame) -> Iterator[Finding]:
    """Labels that cannot be names of folders, as `cut --write` needs them."""
    for label in clips["label"].unique():
        name = str(label).encode("utf-8", "surrogateescape")
        why = (
            "is longer than 255 bytes" if len(name) > LONGEST_NAME else
            "contains a character not allowed in names" if any(c in '/\\\0<>:"|?*' or ord(c) < 32 for c in label) else
            "cannot be the name of a folder" if label != label.rstrip(". ") else ""
        )  # fmt: skip
        if why:
            yield Finding("no folder name", f"the label {label[:40]!r} {why}", label=str(label)[:LONGEST_NAME])


def spelling_variants(labels: "pd.Series[str]") -> dict[str, list[str]]:
    """Return spellings of labels with several, the most frequent first."""
    variants: dict[str, list[str]] = {}
    for label in labels.value_counts(sort=True).index:
        if label:
            plain = unicodedata.normalize("NFKC", label).casefold()
            variants.setdefault("".join(c for c in plain if c.isalnum()) or label, []).append(label)
    return {key: names for key, names in variants.items() if len(names) > 1}


def counts(clips: pd.DataFrame) -> Iterator[Finding]:
    """Labels with few clips, far fewer than the rest, or of a single group; clips without a label."""
    numbers = clips.loc[clips["label"] != "", "label"].value_counts()
    unlabeled = int((clips["label"] == "").sum())
    if unlabeled:
        yield Finding("unlabeled", f"{unlabeled} rows have no label")
    if len(numbers) < 2:
        yield Finding("one label", "a classifier needs clips of at least two labels")
        return
    for label, count in numbers.items():
        if count < MIN_CLIPS:
            yield Finding("few clips", f"{count} clips", label=str(label))
        elif numbers.iloc[0] > IMBALANCE * count:
            fewer = f"{count} clips, {numbers.iloc[0] / count:.0f} times fewer than {numbers.index[0]!r}"
            yield Finding("imbalance", fewer, label=str(label))
    if "group" in clips and (clips["group"] != "").any():
        named = clips[(clips["group"] != "") & (clips["label"] != "")]
        groups, labels = named.groupby("label")["group"].nunique(), named.groupby("group")["label"].nunique()
        if len(labels) > 1 and (labels == 1).all():
            yield Finding("groups of one label", f"each of the {len(labels)} groups has clips of one label only")
        for label in groups.index[(groups == 1) & (groups.index != "")]:
            only = clips.loc[(clips["label"] == label) & (clips["group"] != ""), "group"].iloc[0]
            yield Finding("one group", f"all clips are of group {only!r}: no other group to test on", label=label)
