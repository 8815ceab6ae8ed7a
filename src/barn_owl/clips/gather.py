"""Building a clip table from folders per label or from existing tables."""

import logging
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
import pandas as pd

from barn_owl.audio import AUDIO_ENDINGS, audio_info, sound_files_below
from barn_owl.audio.reading import PAST_END_S
from barn_owl.clips.any_table import COLUMNS, read_any_table
from barn_owl.clips.completeness import event_rows
from barn_owl.clips.table import check_clip_table
from barn_owl.errors import AudioError, TableError
from barn_owl.files import is_folder, not_a_file
from barn_owl.names import as_text, from_text

logger = logging.getLogger(__name__)


@dataclass(frozen=True, kw_only=True)
class Gathered:
    """Result of gathering: the clip table, and the skipped files with reasons.

    Attributes
    ----------
    clips : pd.DataFrame
        Clip table.
    skipped : dict[str, str]
        Reason by file that was skipped.

    Examples
    --------
    >>> gathered = barn_owl.gather_folder("clips")
    >>> len(gathered.clips), gathered.skipped
    (48, {})
    """

    clips: pd.DataFrame
    skipped: dict[str, str]


def gather_folder(
    folder: str | Path, *, names: str | None = None, label_folder: Literal["first", "last"] = "first"
) -> Gathered:
    """Create a clip table from a folder with a subfolder per label.

    The label of a file is its first folder below `folder`, or its parent; files directly in `folder` have a blank
    label. Hidden files and further kinds of files are skipped.

    Subfolders without sound are reported, since their label will be missing.

    Parameters
    ----------
    folder : str | Path
        Folder with a subfolder per label.
    names : str | None
        Pattern of the file names, such as ``"{group}_{take}"``: text with named fields in braces, each matching the
        shortest text that fits; or, with ``(?P<``, a regular expression with named groups. ``{group}`` and
        ``{label}`` fill these columns, ``{}`` is skipped, further fields become columns. The ending is not part of
        the name.
    label_folder : Literal["first", "last"]
        Folder that names the label: the first below `folder`, or the parent of the file.

    Raises
    ------
    TableError
        If the folder does not exist or has no readable sound, and when `names` does not fit a file.

    Examples
    --------
    >>> gathered = barn_owl.gather_folder("clips", names="{group}_{take}")
    >>> sorted(gathered.clips["label"].unique()), gathered.clips["group"].nunique()
    (['hiss', 'hum', 'still', 'tick'], 4)
    """
    folder = Path(folder)
    if not is_folder(folder):
        raise TableError(f"{folder} {not_a_file(folder) or 'is not a folder'}")
    paths = [
        path
        for path in sound_files_below(folder)
        if not any(part.startswith(".") for part in path.relative_to(folder).parts)
    ]
    if not paths:
        raise TableError(f"{folder} holds no sound files ({', '.join(sorted(AUDIO_ENDINGS))})")
    _, skipped = _durations(paths)
    usable = [path for path in paths if str(path) not in skipped]
    if not usable:
        first = next(iter(skipped.values()))
        raise TableError(f"none of the {len(paths)} sound files in {folder} can be read; the first: {first}")
    if label_folder == "first":
        _report_silent_folders(folder, {path.relative_to(folder).parts[0] for path in paths})
    at = 0 if label_folder == "first" else -2
    labels = [path.relative_to(folder).parts[at] if path.parent != folder else "" for path in usable]
    clips = pd.DataFrame({"file": [str(path) for path in usable], "label": labels})
    if names is not None:
        fields = _fields(usable, names)
        clips = clips.drop(columns=[name for name in fields if name in clips]).join(fields)
    return Gathered(clips=check_clip_table(clips, where=str(folder)), skipped=skipped)


def _report_silent_folders(folder: Path, sounding: set[str]) -> None:
    silent = [
        name
        for path in sorted(Path(from_text(str(folder))).iterdir())
        if (name := as_text(path.name)) not in sounding and not name.startswith(".") and is_folder(path)
    ]
    if silent:
        more = f" and {len(silent) - 1} more" if len(silent) > 1 else ""
        logger.warning("%s%s: no sound file in it, so there is no such label", folder / silent[0], more)


def gather_table(
    path: str | Path,
    *,
    columns: Mapping[str, str] | None = None,
    audio_folder: str | Path | None = None,
    encoding: str | None = None,
) -> Gathered:
    """Create a clip table from an existing table.

    Rows whose file cannot be read, or which lie beyond the end of it, are skipped and reported.

    Parameters
    ----------
    path : str | Path
        CSV with any common separator and encoding, or Parquet.
    columns : Mapping[str, str] | None
        Its column for each of our columns, such as ``{"file": "filename", "start_s": "onset"}``; columns with our
        names need no entry, the rest is kept as metadata.
    audio_folder : str | Path | None
        Where the files are; None for the folder of the table.
    encoding : str | None
        How its letters are written; None to find out, see `read_any_table`.

    Raises
    ------
    TableError
        If a column is not there, a row is faulty, or no row can be used.

    Examples
    --------
    >>> len(barn_owl.clips.gather_table("clips.csv").clips)
    48
    """
    path, columns = Path(path), dict(columns or {})
    table = read_any_table(path, encoding=encoding)
    for ours, theirs in columns.items():
        if ours not in COLUMNS:
            raise TableError(f"there is no column {ours!r} in a clip table; there are {', '.join(COLUMNS)}")
        if theirs not in table.columns:
            raise TableError(f"{path} has no column {theirs!r}; it has {', '.join(table.columns)}")
    taken = [name for name in columns if name in table.columns and name not in columns.values()]
    table = table.rename(columns={name: f"{name}_before" for name in taken})
    table = table.rename(columns={theirs: ours for ours, theirs in columns.items()})
    clips = event_rows(check_clip_table(table, where=str(path)))
    if not len(clips):
        raise TableError(f"{path} has no row of an event")
    folder = Path(audio_folder) if audio_folder is not None else path.parent
    clips["file"] = [str(folder / file) for file in clips["file"]]
    durations, skipped = _durations(Path(file) for file in clips["file"].unique())
    readable = clips[~clips["file"].isin(list(skipped))]
    if not len(readable):
        first = next(iter(skipped.values()))
        raise TableError(f"{path}: none of its rows has a file that can be read, of {len(clips)}; the first: {first}")
    beyond = _beyond_the_end(readable, durations)
    usable = readable.drop(index=list(beyond)).reset_index(drop=True)
    if not len(usable):
        raise TableError(
            f"{path}: every row lies beyond the end of its file; the first: {next(iter(beyond.values()))}"
        )
    return Gathered(clips=usable, skipped=skipped | {f"{path}, row {row + 1}": why for row, why in beyond.items()})


def gather_together(parts: Sequence[Gathered]) -> Gathered:
    """Combine results of gathering into a single table; missing columns are blank.

    Parameters
    ----------
    parts : Sequence[Gathered]
        Results of gathering.

    Raises
    ------
    TableError
        If a table is invalid.

    Examples
    --------
    >>> parts = [barn_owl.gather_folder("clips"), barn_owl.clips.gather_table("truth.csv")]
    >>> len(barn_owl.clips.gather_together(parts).clips)
    52
    """
    if not len(parts):
        raise TableError("parts must hold one result of gathering or more")
    clips = pd.concat([part.clips for part in parts], ignore_index=True)
    return Gathered(
        clips=check_clip_table(clips), skipped={name: why for part in parts for name, why in part.skipped.items()}
    )


def _beyond_the_end(clips: pd.DataFrame, durations: Mapping[str, float]) -> dict[int, str]:
    """Why excerpts that end after their file cannot be used, by row."""
    ends = clips["file"].map(durations).to_numpy(dtype=np.float64)
    past = (clips["end_s"].to_numpy() > ends + PAST_END_S) | (clips["start_s"].to_numpy() >= ends)
    late = clips[past].assign(length=ends[past])
    return {
        row: f"{file} is {length:.2f} s long, but row {row + 1} is from {np.nan_to_num(start):g} to {stop:g} s"
        for row, file, start, stop, length in late[["file", "start_s", "end_s", "length"]].itertuples()
    }


def _durations(paths: Iterable[Path]) -> tuple[dict[str, float], dict[str, str]]:
    """Length of each file in seconds, and why each file that cannot be used cannot be used."""
    durations: dict[str, float] = {}
    skipped: dict[str, str] = {}
    for path in paths:
        try:
            info = audio_info(path)
        except AudioError as error:
            skipped[str(path)] = str(error)
        else:
            if info.samples:
                durations[str(path)] = info.duration_s
            else:
                skipped[str(path)] = f"{path} holds no samples"
    return durations, skipped


def _fields(paths: list[Path], names: str) -> pd.DataFrame:
    """Read the fields of the pattern `names` off the name of each file."""
    pattern = re.compile(_expression(names))
    matches = [(path, pattern.fullmatch(path.stem)) for path in paths]
    missed = [path.stem for path, match in matches if match is None]
    if missed:
        raise TableError(
            f"the pattern {names!r} does not fit {len(missed)} of {len(paths)} file names, "
            f"such as {', '.join(repr(name) for name in missed[:3])}"
        )
    return pd.DataFrame([match.groupdict() for _, match in matches if match is not None])


def _expression(names: str) -> str:
    """Return the regular expression of ``"{group}_{take}"``; a regular expression is returned unchanged."""
    if "(?P<" in names:
        try:
            re.compile(names)
        except re.error as error:
            raise TableError(f"the pattern {names!r} is not a regular expression: {error}") from error
        return names
    parts = re.split(r"\{(\w*)\}", names)
    if len(parts) == 1:
        raise TableError(f"the pattern {names!r} names no field; write one in braces, such as {{group}}")
    fields = [field for field in parts[1::2] if field]
    twice = {field for field in fields if fields.count(field) > 1}
    wrong = [field for field in fields if not field.isidentifier()]
    if twice or wrong:
        raise TableError(f"the pattern {names!r} has a field that is repeated or no name: {[*twice, *wrong]}")
    texts = [re.escape(text) for text in parts[0::2]]
    holes = [f"(?P<{field}>.+?)" if field else ".+?" for field in parts[1::2]]
    return "".join(text + hole for text, hole in zip(texts, [*holes, ""], strict=True))
