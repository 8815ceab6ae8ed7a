"""Reading and writing event tables as spreadsheets, subtitles and cue points.

CSV, TSV, Parquet and JSON Lines keep every column. WebVTT (W3C) and SubRip keep times to the millisecond, label and
score, of one recording. A copy of a WAV file carries them as cue points, labels and lengths (RIFF ``cue ``,
``adtl``).
"""

import errno
import io
import json
import os
import re
import shutil
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

import numpy as np
import pandas as pd
import soundfile

from barn_owl.archive.store import is_store, read_store
from barn_owl.audio import audio_info
from barn_owl.audio.remote import place
from barn_owl.clips import check_clip_table, read_clip_table, write_clip_table
from barn_owl.clips.any_table import read_any_table
from barn_owl.clips.table import TableOrPath, as_clip_table, closed_urls
from barn_owl.errors import AudioError, OutputError, TableError
from barn_owl.files import FULL, atomic_write, check_space
from barn_owl.tables import write_table

COLUMNS = ["file", "start_s", "end_s", "label", "score"]
TEXT_ENDINGS = (".jsonl", ".vtt", ".srt")
ENDINGS = (".csv", ".tsv", ".parquet", *TEXT_ENDINGS)
TIME = re.compile(r"(?:(\d+):)?(\d\d):(\d\d)[.,](\d{3})\s*-->\s*(?:(\d+):)?(\d\d):(\d\d)[.,](\d{3})")
LABEL_AND_SCORE = re.compile(r"^(?P<label>.*) \((?P<score>[01]\.\d+)\)$")
LARGEST = 2**32 - 2**20
"""Largest size of a WAV file, whose lengths have 32 bits, less room for further chunks."""
BLOCK = 65_536
"""Samples that are copied at once."""


def write_events(events: TableOrPath, path: str | Path, *, force: bool = False) -> None:
    """Write events in the format that the ending of `path` names; see `ENDINGS`.

    Parameters
    ----------
    events : pd.DataFrame | str | Path
        Clip table with times.
    path : str | Path
        File; its ending selects the format.
    force : bool
        Whether existing files are overwritten.

    Raises
    ------
    OutputError
        For an unknown ending, for an existing file, and for events of several recordings in a format of a single
        recording.

    Examples
    --------
    >>> events = barn_owl.read_events("events.csv")
    >>> barn_owl.write_events(events, "events.srt", force=True)
    """
    events = as_clip_table(events, "events")
    path = Path(path)
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise OutputError(f"{path}: events are written as {', '.join(ENDINGS)}")
    if ending in (".csv", ".parquet"):
        write_clip_table(events, path, force=force)
        return
    if ending == ".tsv":
        write_table(events, path, force=force)
        return
    if ending == ".jsonl":
        text = "".join(_json(row) for row in events.to_dict("records"))
    else:
        if len(events["file"].unique()) > 1:
            raise OutputError(f"{path} holds the events of one recording; write one file for each, or another format")
        text = "".join(_cues(events, ending))
    with atomic_write(path, force=force) as beside:
        beside.write_text(text, encoding="utf-8", errors="backslashreplace", newline="")


def read_events(path: str | Path, *, file: str = "", urls: bool = False) -> pd.DataFrame:
    """Read events from a file of `write_events` or `write_cues`, or from a store; the ending selects the format.

    Parameters
    ----------
    path : str | Path
        File or store.
    file : str
        Recording of the subtitles, where they do not name it.
    urls : bool
        Whether recordings that are URLs may be opened; see `barn_owl.read_clip_table`.

    Raises
    ------
    TableError
        If it cannot be read so.

    Examples
    --------
    >>> events = barn_owl.read_events("events.csv")
    >>> list(events)[:4]
    ['file', 'start_s', 'end_s', 'label']
    """
    path = Path(path)
    events = _read_events(path, file)
    return events if urls else events.assign(file=closed_urls(events["file"], str(path)))


def _read_events(path: Path, file: str) -> pd.DataFrame:
    ending = path.suffix.lower()
    if is_store(path):
        return check_clip_table(read_store(path), where=str(path))
    try:
        if ending == ".jsonl":
            return check_clip_table(_json_rows(path), where=str(path))
        if ending in (".vtt", ".srt"):
            return _read_cues(path.read_text(encoding="utf-8-sig"), file or str(path.with_suffix("")))
        if ending == ".wav":
            return read_cues(path)
        if ending == ".tsv":
            return check_clip_table(read_any_table(path, may_be_empty=True), where=str(path))
        return read_clip_table(path, may_be_empty=True, urls=True)
    except TableError:
        raise
    except (OSError, ValueError, TypeError, AttributeError, RecursionError, OverflowError) as error:
        raise TableError(f"{path} cannot be read as events: {error}") from error


def _json_rows(path: Path) -> pd.DataFrame:
    """Events from lines of JSON; raises TableError naming the first invalid line."""
    rows = []
    for number, line in enumerate(path.read_text(encoding="utf-8").splitlines(), start=1):
        if line.strip():
            row = json.loads(line)
            if not isinstance(row, dict) or any(isinstance(value, dict | list) for value in row.values()):
                raise TableError(f"{path}, line {number}: an event is an object of texts and numbers")
            rows.append(row)
    return pd.DataFrame(rows, columns=None if rows else COLUMNS)


def _json(row: dict[str, object]) -> str:
    known = {str(name): None if pd.isna(value) else value for name, value in row.items()}
    return json.dumps(known, ensure_ascii=False) + "\n"


def _clock(seconds: float, point: str) -> str:
    thousandths = round(seconds * 1000)
    rest, ms = divmod(thousandths, 1000)
    minutes, s = divmod(rest, 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours:02d}:{minutes:02d}:{s:02d}{point}{ms:03d}"


def _cues(events: pd.DataFrame, ending: str) -> Iterator[str]:
    """Subtitles: WebVTT with a note of the recording, or SubRip."""
    point = "." if ending == ".vtt" else ","
    if ending == ".vtt":
        name = "" if events.empty else _one_line(str(events["file"].iloc[0]))
        yield f"WEBVTT\n\nNOTE recording: {name}\n\n"
    for number, row in enumerate(events.itertuples(), start=1):
        score = getattr(row, "score", np.nan)
        words = _escaped(_one_line(str(row.label)), ending) + ("" if pd.isna(score) else f" ({score:.4f})")
        yield f"{number}\n{_clock(row.start_s, point)} --> {_clock(row.end_s, point)}\n{words}\n\n"


def _one_line(text: str) -> str:
    return " ".join(text.replace("-->", "->").split())


def _escaped(text: str, ending: str) -> str:
    """Keep a label from being read as markup, which WebVTT has."""
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;") if ending == ".vtt" else text


def _read_cues(text: str, file: str) -> pd.DataFrame:
    is_vtt = text.startswith("WEBVTT")
    noted = re.search(r"^NOTE recording: (.+)$", text, re.MULTILINE)
    rows = []
    lines = text.splitlines()
    for at, line in enumerate(lines):
        found = TIME.search(line)
        if not found:
            continue
        parts = [int(part or 0) for part in found.groups()]
        start, end = (h * 3600 + m * 60 + s + ms / 1000 for h, m, s, ms in (parts[:4], parts[4:]))
        words = lines[at + 1] if at + 1 < len(lines) else ""
        if is_vtt:
            words = words.replace("&lt;", "<").replace("&gt;", ">").replace("&amp;", "&")
        parsed = LABEL_AND_SCORE.match(words)
        label, score = (parsed["label"], float(parsed["score"])) if parsed else (words, np.nan)
        rows.append((noted[1] if noted else file, start, end, label, score))
    return check_clip_table(pd.DataFrame(rows, columns=COLUMNS))


def write_cues(recording: str | Path, events: TableOrPath, path: str | Path, *, force: bool = False) -> None:
    """Write a copy of a recording as WAV with its events as cue points, labels and lengths, for sound editors.

    The samples are copied from the recording in 16 bits, or in 24 bits or float if it has more.

    Parameters
    ----------
    recording : str | Path
        WAV file to copy.
    events : pd.DataFrame | str | Path
        Events of the recording, or the path of their table.
    path : str | Path
        WAV file.
    force : bool
        Whether existing files are overwritten.

    Raises
    ------
    OutputError
        If it would be longer than a WAV file can be (4 GiB).
    AudioError
        If the recording cannot be read.

    Examples
    --------
    >>> barn_owl.archive.write_cues("night.wav", barn_owl.read_events("events.csv"), "marked.wav", force=True)
    """
    events = as_clip_table(events, "events")
    info = audio_info(recording)
    subtype = info.subtype if info.subtype in ("PCM_24", "PCM_32", "FLOAT", "DOUBLE") else "PCM_16"
    width = {"PCM_16": 2, "PCM_24": 3, "PCM_32": 4, "FLOAT": 4, "DOUBLE": 8}[subtype]
    size = info.duration_s * info.rate_hz * info.channels * width
    if size > LARGEST:
        raise OutputError(f"{path}: {recording} is too long for cue points in a WAV file of 4 GiB at most")
    check_space(Path(path).parent, size)
    with atomic_write(path, force=force) as beside:
        try:
            with (
                soundfile.SoundFile(os.fsencode(place(recording))) as source,
                soundfile.SoundFile(
                    os.fsencode(beside), "w", info.rate_hz, info.channels, subtype=subtype, format="WAV"
                ) as copy,
            ):
                for block in source.blocks(BLOCK, dtype="float64" if subtype in ("DOUBLE", "PCM_32") else "float32"):
                    copy.write(block)
        except soundfile.LibsndfileError as error:
            if shutil.disk_usage(Path(beside).parent).free < FULL:
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC)) from error
            raise AudioError(f"{recording} cannot be read to its end: {error}") from error
        with beside.open("r+b") as file:
            _append(file, _cue_chunks(events, info.rate_hz))


def _cue_chunks(events: pd.DataFrame, rate_hz: int) -> bytes:
    """Build ``cue `` and ``LIST adtl``, a ``labl`` and an ``ltxt`` each: Multimedia Programming Interface 1.0,
    1991.
    """
    points, notes = b"", b""
    for number, row in enumerate(events.itertuples(), start=1):
        start, length = round(row.start_s * rate_hz), round((row.end_s - row.start_s) * rate_hz)
        points += struct.pack("<II4sIII", number, start, b"data", 0, 0, start)
        score = getattr(row, "score", np.nan)
        name = str(row.label) + ("" if pd.isna(score) else f" ({score:.4f})")
        notes += _chunk(b"labl", struct.pack("<I", number) + name.encode("utf-8") + b"\0")
        notes += _chunk(b"ltxt", struct.pack("<II4sHHHH", number, length, b"rgn ", 0, 0, 0, 65001))
    return _chunk(b"cue ", struct.pack("<I", len(events)) + points) + _chunk(b"LIST", b"adtl" + notes)


def _chunk(name: bytes, content: bytes) -> bytes:
    return name + struct.pack("<I", len(content)) + content + b"\0" * (len(content) % 2)


def _append(file: BinaryIO, chunks: bytes) -> None:
    end = file.seek(0, io.SEEK_END)
    if end % 2:
        end += file.write(b"\0")
    file.write(chunks)
    file.seek(4)
    file.write(struct.pack("<I", end + len(chunks) - 8))


def read_cues(path: str | Path) -> pd.DataFrame:
    """Read the cue points of a WAV file as events; cues without a length have zero duration.

    Without cue points the table is empty.

    Parameters
    ----------
    path : str | Path
        WAV file.

    Raises
    ------
    TableError
        If it is no WAV file.
    """
    path = Path(path)
    points: dict[int, int] = {}
    names: dict[int, str] = {}
    lengths: dict[int, int] = {}
    rate_hz = 0
    with path.open("rb") as file:
        if file.read(4) != b"RIFF" or file.read(8)[4:] != b"WAVE":
            raise TableError(f"{path} is not a WAV file")
        for name, size in _headers(file):
            if name == b"fmt ":
                rate_hz = struct.unpack("<HHI", file.read(8))[2]
            elif name == b"cue ":
                for _ in range(struct.unpack("<I", file.read(4))[0]):
                    number, _, _, _, _, sample = struct.unpack("<II4sIII", file.read(24))
                    points[number] = sample
            elif name == b"LIST" and file.read(4) == b"adtl":
                _notes(io.BytesIO(file.read(size - 4)), names, lengths)
    rows = []
    for number, sample in points.items():
        parsed = LABEL_AND_SCORE.match(names.get(number, ""))
        label, score = (parsed["label"], float(parsed["score"])) if parsed else (names.get(number, ""), np.nan)
        rows.append((str(path), sample / rate_hz, (sample + lengths.get(number, 0)) / rate_hz, label, score))
    return check_clip_table(pd.DataFrame(rows, columns=COLUMNS).round({"start_s": 6, "end_s": 6}))


def _headers(file: BinaryIO) -> Iterator[tuple[bytes, int]]:
    """Name and size of each chunk, with the file at its content; then continue behind it."""
    while len(head := file.read(8)) == 8:
        name, size = struct.unpack("<4sI", head)
        after = file.tell() + size + size % 2
        yield name, size
        file.seek(after)


def _notes(file: BinaryIO, names: dict[int, str], lengths: dict[int, int]) -> None:
    for name, size in _headers(file):
        content = file.read(size)
        number = struct.unpack("<I", content[:4])[0]
        if name == b"labl":
            names[number] = content[4:].split(b"\0")[0].decode("utf-8", errors="replace")
        elif name == b"ltxt":
            lengths[number] = struct.unpack("<I", content[4:8])[0]
