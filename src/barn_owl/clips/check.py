"""Checks of a clip table before training, and a repaired table."""

import os
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd

from barn_owl.audio import AUDIO_ENDINGS
from barn_owl.audio.remote import is_remote
from barn_owl.clips.check_labels import counts, for_folders, spelling_variants, spellings
from barn_owl.clips.doubtful import doubtful_labels
from barn_owl.clips.duplicates import SAME, linked, near_duplicates, same_content
from barn_owl.clips.finding import SEVERITIES, Finding
from barn_owl.clips.inspection import ClipInspection, inspect_clips
from barn_owl.clips.split import find_leaks, missing_in_splits
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.files import is_file, is_folder, not_a_file
from barn_owl.names import as_text
from barn_owl.sound.samples import SampleFile

COLUMNS = ["severity", "finding", "label", "file", "start_s", "detail", "action"]

PLACE = ["file", "start_s", "end_s"]
NAME_LETTERS = 12
"""Digits of a fingerprint that identify a recording: enough for millions."""
MIN_DURATION_S = 0.05
"""Shortest clip that training uses."""
MOST_CONCERNED = 1 / 3
"""Share of the clips above which a finding is a property of the collection."""
CLIPPED_STRETCHES = 3
"""Clipped stretches from which a clip is reported."""
WHOLE_RECORDING_S = 30.0
"""Length above which a file with a label but without times counts as a recording rather than a clip."""
BEYOND_DB = 0.1
"""Peak of a clip of floats above which it counts as beyond full scale: filters and coding add a little."""
DC_OFFSET = 0.01
"""-40 dB: far above the offset of converters, and audible as a click where a clip is cut."""
ODD_LENGTH = 5.0
"""Ratio to the median length of the label, either way, from which a clip is reported."""
ODD_LEVEL_DB = 30.0
"""Distance from the median level of the label that is reported: more than the distance of the recorder explains."""
NARROW_SHARE = 0.5
"""Share of the median bandwidth of the label below which a clip is reported: it was resampled from a lower rate."""


@dataclass(frozen=True, kw_only=True)
class Check:
    """Result of a check.

    Attributes
    ----------
    findings : pd.DataFrame
        Findings: severity (error, warning, note), finding, label, file, start_s, detail, action.
    by_label : pd.DataFrame
        Clips, groups, seconds and, when audio was read, shortest, longest, rates and level by label.
    by_clip : pd.DataFrame
        Label, seconds, level_db and worst (severity of its worst finding, blank for none) of each clip;
        numbers are NaN where no audio was read.
    repaired : pd.DataFrame
        The clip table with the safe repairs; clips of the same recording have the same name in its column
        ``copy_of``.

    Examples
    --------
    >>> check = barn_owl.check_clips(barn_owl.read_clip_table("clips.csv"))
    >>> list(check.findings)
    ['severity', 'finding', 'label', 'file', 'start_s', 'detail', 'action']
    """

    findings: pd.DataFrame
    by_label: pd.DataFrame
    by_clip: pd.DataFrame
    repaired: pd.DataFrame

    @property
    def summary(self) -> str:
        """How many findings of each severity, in words."""
        counts = {severity: self.count(severity) for severity in SEVERITIES}
        return ", ".join(f"{count} {severity}{'s' * (count != 1)}" for severity, count in counts.items())

    def count(self, severity: str) -> int:
        """Count the findings of a severity.

        Parameters
        ----------
        severity : str
            ``error``, ``warning`` or ``note``.
        """
        return int((self.findings["severity"] == severity).sum())


def check_clips(
    clips: TableOrPath, *, audio: bool = True, workers: int = 2, progress: Callable[[int, int], None] | None = None
) -> Check:
    """Check a clip table and, with `audio`, the sound of every clip.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    audio : bool
        Whether the sound is read; otherwise only the table is checked.
    workers : int
        Number of parallel workers.
    progress : Callable[[int, int], None] | None
        Called with the number of clips that are read, and of all.

    Examples
    --------
    >>> check = barn_owl.check_clips(barn_owl.read_clip_table("clips.csv"))
    >>> list(check.by_label.columns)[:3]
    ['label', 'clips', 'groups']
    """
    clips = as_clip_table(clips, "clips")
    clips = clips.reset_index(drop=True)
    found = [*spellings(clips), *for_folders(clips), *counts(clips), *_files(clips)]
    copy_of = np.full(len(clips), "", dtype=object)
    inspections: list[ClipInspection] = []
    if audio:
        with closing(SampleFile()) as kept:
            inspections = inspect_clips(clips, kept=kept, workers=workers, progress=progress)
            pairs = near_duplicates(clips, inspections, kept=kept, workers=workers)
        found += [
            *_sounds(clips, inspections),
            *_whole_recordings(clips, inspections),
            *_outliers(clips, inspections),
        ]
        found = [*_doubtful(clips, inspections), *found]  # what to listen to first
        same = same_content(inspections)
        found += [*_duplicates(clips, inspections, same), *_near_duplicates(clips, pairs)]
        links = [*enumerate(same), *zip(pairs["first"], pairs["second"], strict=True)]
        copy_of = _copy_names(linked(len(clips), links), inspections)
    found += [*_leaks(clips.assign(copy_of=copy_of) if audio else clips), *_missing_labels(clips)]
    found = _of_collection(clips, found)
    return Check(
        findings=_table(clips, found),
        by_label=_by_label(clips, inspections),
        by_clip=_by_clip(clips, inspections, found),
        repaired=_repaired(clips, found, copy_of if audio else None),
    )


def _files(clips: pd.DataFrame) -> Iterator[Finding]:
    """Return missing files, and sound files in the same folders that no row names."""
    named = {_absolute(file) for file in clips["file"].unique()}
    folders = {Path(file).parent for file in named}
    beside = {as_text(str(path)) for folder in folders if is_folder(folder) for path in folder.iterdir()
              if path.suffix.lower() in AUDIO_ENDINGS and not path.name.startswith(".")}  # fmt: skip
    missing = [file for file in named if file not in beside and not is_remote(file) and not is_file(file)]
    if named and len(missing) == len(named):
        yield Finding("moved", f"none of the {len(named)} files exists: was the table moved away from its sounds?")
    for row, file in clips.drop_duplicates("file")["file"].items():
        if is_remote(file):
            continue
        if _absolute(file) not in beside and (why := not_a_file(file)):
            yield Finding("no file", f"{file} {why}", row=int(str(row)))
    spare = sorted(beside - named)
    if spare:
        names = ", ".join(Path(name).name for name in spare[:3])
        yield Finding("files without a row", f"{len(spare)} sound files, such as {names}")


def _leaks(clips: pd.DataFrame) -> Iterator[Finding]:
    for what, name, splits in find_leaks(clips).itertuples(index=False):
        files = ", ".join(Path(file).name for file in clips.loc[clips[what].astype(str) == name, "file"].unique()[:2])
        shared = f"the recording {files}" if what == "copy_of" else f"the {what} {name!r}"
        yield Finding("leak", f"{shared} is in {splits}")


def _missing_labels(clips: pd.DataFrame) -> Iterator[Finding]:
    """Return labels without clips in a split."""
    for split, labels in missing_in_splits(clips).items():
        for label in labels:
            yield Finding("missing from a split", f"no clips in the {split} split", label=label)


def _absolute(file: str) -> str:
    return os.path.abspath(file)  # noqa: PTH100 - links are not followed, or files would seem to be elsewhere


def _sounds(clips: pd.DataFrame, inspections: Sequence[ClipInspection]) -> Iterator[Finding]:
    """Return the findings of a clip by itself."""
    for row, measured in enumerate(inspections):
        facts = measured.facts
        if facts is None:
            if is_remote(clips["file"][row]) or is_file(clips["file"][row]):  # else it is reported already
                yield Finding("unreadable", measured.skipped, row=row)
            continue
        for flaw in measured.flaws:
            yield Finding("damaged", flaw, row=row)
        if facts.silent_share == 1:
            yield Finding("silent", f"never above -60 dB; its peak is {facts.peak_db:.0f} dB", row=row)
        if facts.duration_s < MIN_DURATION_S:
            needed = f"{1000 * facts.duration_s:.1f} ms; at least {1000 * MIN_DURATION_S:.0f} ms are needed"
            yield Finding("too short", needed, row=row)
        if facts.clipped >= CLIPPED_STRETCHES:
            yield Finding("clipped", f"{facts.clipped} stretches at full scale", row=row)
        if facts.peak_db > BEYOND_DB:
            yield Finding("beyond full scale", f"its peak is {facts.peak_db:+.1f} dB", row=row)
        if abs(facts.dc_offset) > DC_OFFSET:
            yield Finding("offset", f"mean {facts.dc_offset:.3f}", row=row)


def _whole_recordings(clips: pd.DataFrame, inspections: Sequence[ClipInspection]) -> Iterator[Finding]:
    """Labels without times of files that are too long to be clips."""
    seconds = np.array([m.facts.duration_s if m.facts else 0.0 for m in inspections])
    whole = are_whole_recordings(clips, seconds)
    if whole.any():
        span = f"{seconds[whole].min():.0f} to {seconds[whole].max():.0f} s"
        yield Finding(
            "whole recordings",
            f"{whole.sum()} rows label files of {span} as a whole; every sound in them counts as the label",
        )


def are_whole_recordings(clips: pd.DataFrame, seconds: np.ndarray) -> np.ndarray:
    """Which rows label a long file as a whole, boolean ``(rows,)``; `seconds` is how long each is."""
    return (clips["start_s"].isna() & clips["end_s"].isna()).to_numpy() & (seconds > WHOLE_RECORDING_S)


def _outliers(clips: pd.DataFrame, inspections: Sequence[ClipInspection]) -> Iterator[Finding]:
    """Return clips that differ from the rest of their label, or of the table."""
    facts = pd.DataFrame([vars(m.facts) if m.facts else {} for m in inspections])
    if "rate_hz" not in facts:
        return
    facts["label"] = clips["label"].to_numpy()
    usual_rate = facts["rate_hz"].mode().iloc[0]
    odd_rates = facts["rate_hz"].notna() & (facts["rate_hz"] < usual_rate)
    if odd_rates.any():
        rates = ", ".join(f"{rate:.0f}" for rate in sorted(facts.loc[odd_rates, "rate_hz"].unique()))
        lower = f"{odd_rates.sum()} clips have a lower sample rate than the usual {usual_rate:.0f} Hz: {rates} Hz"
        yield Finding("lower rate", lower)
    for label, of_label in facts.groupby("label"):
        length, level = of_label["duration_s"].median(), of_label["rms_db"].median()
        bandwidth = of_label["bandwidth_hz"].median()
        usual = f"median of {label!r}:"
        for index, fact in of_label.iterrows():
            row = int(str(index))
            if fact["duration_s"] > ODD_LENGTH * length or fact["duration_s"] < length / ODD_LENGTH:
                yield Finding("odd length", f"{fact['duration_s']:.2f} s; {usual} {length:.2f} s", row=row)
            if fact["silent_share"] == 1:
                continue
            if abs(fact["rms_db"] - level) > ODD_LEVEL_DB:
                yield Finding("odd level", f"{fact['rms_db']:.0f} dB RMS; {usual} {level:.0f} dB", row=row)
            if fact["bandwidth_hz"] < NARROW_SHARE * bandwidth:
                highest = f"nothing above {fact['bandwidth_hz']:.0f} Hz; {usual} {bandwidth:.0f} Hz"
                yield Finding("narrow band", highest, row=row)


def _duplicates(clips: pd.DataFrame, inspections: Sequence[ClipInspection], same: np.ndarray) -> Iterator[Finding]:
    """Return clips with the same samples as a clip that stays, or as a clip with other labels.

    same : see `same_content`. Several rows of an excerpt are its labels, not copies.
    """
    heard = [row for row, one in enumerate(inspections) if one.facts is not None and one.facts.silent_share < 1]
    of_group = clips.groupby("group")["label"].transform("size") if "group" in clips else pd.Series(0, clips.index)
    for rows in clips.iloc[heard].groupby(same[heard], sort=False).groups.values():
        if len(rows) < 2:
            continue
        excerpt = [f"{file} {start} {end}" for file, start, end in clips.loc[rows, PLACE].itertuples(index=False)]
        copies = clips.loc[rows].groupby(np.array(excerpt, dtype=object), sort=False)
        labels = {key: frozenset(copy["label"]) for key, copy in copies}
        # The copy of a clip in a folder of its own would be a group that does not exist: the larger group is kept.
        kept = int(of_group.loc[rows].idxmax())
        for key, copy in copies:
            other = next((own for own in labels if labels[own] != labels[key]), None)
            for row in map(int, copy.index):
                if other is not None:
                    there = int(copies.get_group(other).index[0])
                    detail = f"the same samples as {_where(clips, there)}, which is labeled {clips['label'][there]!r}"
                    yield Finding("duplicate with another label", detail, row=row)
                elif kept not in copy.index:
                    yield Finding("duplicate", f"the same samples as {_where(clips, kept)}", row=row)


def _near_duplicates(clips: pd.DataFrame, pairs: pd.DataFrame) -> Iterator[Finding]:
    """Return clips that may be the same recording as an earlier clip; pairs : see `near_duplicates`."""
    for first, second, similar in pairs.itertuples(index=False):
        here, there, proven = clips["label"][second], clips["label"][first], similar >= SAME
        name = "near duplicate" if proven else "similar"
        what = "the same recording as" if proven else "similar, maybe the same take:"
        detail = f"{what} {_where(clips, int(first))} (correlation {similar:.2f})"
        if here == there:
            yield Finding(name, detail, row=int(second))
        else:
            yield Finding(f"{name} with another label", f"{detail}, which is labeled {there!r}", row=int(second))


def _where(clips: pd.DataFrame, row: int) -> str:
    start = clips["start_s"][row]
    return f"{clips['file'][row]}" + ("" if np.isnan(start) else f" from {start:g} s")


def _doubtful(clips: pd.DataFrame, inspections: Sequence[ClipInspection]) -> Iterator[Finding]:
    """Return clips that resemble another label, the clearest first."""
    for row, own, label, support in doubtful_labels(clips, inspections):
        yield Finding(
            "doubtful label", f"resembles {label!r} ({support:.2f}) more than its label ({own:.2f})", row=row
        )


def _of_collection(clips: pd.DataFrame, found: Sequence[Finding]) -> list[Finding]:
    """Report what concerns most clips once: it is a property of the collection, not of its clips."""
    counts = Counter(one.finding for one in found if one.row is not None and not one.kind.drops)
    usual = {name for name, count in counts.items() if count > MOST_CONCERNED * len(clips) and count > 1}
    kept, reported = list[Finding](), set[str]()
    for one in found:
        if one.finding not in usual or one.row is None:
            kept.append(one)
        elif one.finding not in reported:
            reported.add(one.finding)
            detail = f"{counts[one.finding]} of {len(clips)} clips, such as {clips['file'][one.row]}: {one.detail}"
            kept.append(Finding(one.finding, detail))
    return kept


def _table(clips: pd.DataFrame, found: Sequence[Finding]) -> pd.DataFrame:
    """Return a table with one row per finding, the most severe first."""
    rows = []
    for finding in found:
        place = (
            (finding.label, "", np.nan)
            if finding.row is None
            else clips.loc[finding.row, ["label", "file", "start_s"]]
        )
        rows.append((finding.kind.severity, finding.finding, *place, finding.detail, finding.kind.action))
    table = pd.DataFrame(rows, columns=COLUMNS)
    order = table["severity"].map(SEVERITIES.index).argsort(kind="stable")
    return table.iloc[order].reset_index(drop=True)


def _by_label(clips: pd.DataFrame, inspections: Sequence[ClipInspection]) -> pd.DataFrame:
    table = clips[["label"]].copy()
    if "group" in clips:
        table["group"] = clips["group"]
    seconds = [m.facts.duration_s if m.facts else np.nan for m in inspections]
    table["seconds"] = seconds if inspections else (clips["end_s"] - clips["start_s"].fillna(0)).to_numpy()
    grouped = table.groupby("label", sort=True)
    result = pd.DataFrame({"clips": grouped.size()})
    if "group" in table:
        result["groups"] = grouped["group"].nunique()
    result["seconds"] = grouped["seconds"].sum()
    if inspections:
        table["level_db"] = [m.facts.rms_db if m.facts else np.nan for m in inspections]
        table["rate_hz"] = [m.facts.rate_hz if m.facts else np.nan for m in inspections]
        result["shortest"], result["longest"] = grouped["seconds"].min(), grouped["seconds"].max()
        result["level_db"] = grouped["level_db"].median()
        result["rates"] = grouped["rate_hz"].agg(
            lambda rates: ", ".join(f"{r:.0f}" for r in sorted(rates.dropna().unique()))
        )
    return result.reset_index()


def _by_clip(clips: pd.DataFrame, inspections: Sequence[ClipInspection], found: Sequence[Finding]) -> pd.DataFrame:
    facts = [m.facts for m in inspections] or [None] * len(clips)
    worst = np.full(len(clips), "", dtype=object)
    for severity in reversed(SEVERITIES):
        worst[[f.row for f in found if f.row is not None and f.kind.severity == severity]] = severity
    return pd.DataFrame(
        {
            "label": clips["label"],
            "seconds": [f.duration_s if f else np.nan for f in facts],
            "level_db": [f.rms_db if f else np.nan for f in facts],
            "worst": worst,
        }
    )


def _copy_names(copy_of: np.ndarray, inspections: list[ClipInspection]) -> np.ndarray:
    """Name copies by their content, so that copies of several tables stay apart; "" without a copy."""
    prints = pd.Series(
        [inspection.facts.fingerprint if inspection.facts else "" for inspection in inspections], dtype=object
    )
    by_copy = prints.groupby(copy_of)
    names = by_copy.transform("min").str[:NAME_LETTERS]
    return np.asarray(names.where(by_copy.transform("size") > 1, ""), dtype=object)


def _repaired(clips: pd.DataFrame, found: Sequence[Finding], copy_of: np.ndarray | None) -> pd.DataFrame:
    right = {other: names[0] for names in spelling_variants(clips["label"]).values() for other in names[1:]}
    repaired = clips.assign(label=clips["label"].map(lambda label: right.get(label, label)))
    if copy_of is not None:
        repaired["copy_of"] = copy_of
    missing = {clips["file"][f.row] for f in found if f.row is not None and f.finding == "no file"}
    dropped = [f.row for f in found if f.kind.drops and f.row is not None]
    return repaired.drop(index=dropped)[lambda table: ~table["file"].isin(missing)].reset_index(drop=True)
