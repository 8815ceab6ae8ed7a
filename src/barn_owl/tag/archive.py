"""Many recordings: several at a time, each finished one kept, so that a crash costs only what was going on."""

import hashlib
import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

import numpy as np
import pandas as pd

from barn_owl.audio import AUDIO_ENDINGS, Excerpt, audio_info
from barn_owl.clips.table import read_any_table, read_clip_table, write_clip_table
from barn_owl.errors import AudioError, TableError
from barn_owl.model import DecisionSettings, Model
from barn_owl.parallel import each
from barn_owl.tag.formats import COLUMNS
from barn_owl.tag.recorded import tag_trace, whole_trace
from barn_owl.tag.tagging import tag_recording

DECISIONS = 1
"""Part of the key of what is kept: raised when the same model and settings come to find other events."""


@dataclass(kw_only=True)
class Archive:
    """What tagging many recordings gave.

    events : of all of them; done : recordings that were tagged now or before; kept : those of them that were not
    done again; refused : the reason for each that was passed over. stopped : by Ctrl-C, before all were done.

    >>> archive = barn_owl.tag_archive(barn_owl.load_model("first"), ["night.wav"], workers=1)
    >>> archive.done, archive.refused
    (['night.wav'], {})
    """

    events: pd.DataFrame
    done: list[str] = field(default_factory=list)
    kept: list[str] = field(default_factory=list)
    refused: dict[str, str] = field(default_factory=dict)
    stopped: bool = False


def find_recordings(sources: Sequence[str | Path]) -> list[str]:
    """List the recordings that files, folders (with all below) and tables with a column ``file`` name, once each.

    Raises TableError when one does not exist or names no recording.

    >>> barn_owl.find_recordings(["night.wav"])
    ['night.wav']
    """
    found: list[str] = []
    for source in map(Path, sources):
        if source.is_dir():
            inside = sorted(path for path in source.rglob("*") if path.suffix.lower() in AUDIO_ENDINGS)
            if not inside:
                raise TableError(f"{source} holds no sound files ({', '.join(sorted(AUDIO_ENDINGS))})")
            found += map(str, inside)
        elif source.suffix.lower() in (".csv", ".tsv", ".parquet"):
            table = read_any_table(source)
            if "file" not in table:
                raise TableError(f"{source} has no column 'file' that names recordings")
            found += [str(source.parent / str(file)) for file in table["file"]]
        else:
            found.append(str(source))
    known: dict[Path, str] = {}
    for path in found:
        known.setdefault(Path(path).resolve(), path)
    return list(known.values())


def tag_archive(
    model: Model,
    recordings: Sequence[str | Path],
    *,
    decision: DecisionSettings | None = None,
    keep: str | Path | None = None,
    traces: str | Path | None = None,
    workers: int = 2,
    progress: Callable[[float, float], None] | None = None,
) -> Archive:
    """Find events in many recordings, `workers` at a time, each on one core, in a process of its own if several.

    keep : a folder with a table for each finished recording, named by its content, the model and the settings, so
    that what is done is not done again. traces : a folder to write the scores over time of each to, as NPZ; what was
    kept without its trace is done again. progress : called with the seconds of sound done and how many there are.

    A recording that cannot be read is passed over and said so. On Ctrl-C what is finished is returned, marked as
    stopped. Raises OutputError when `keep` cannot be written.

    >>> archive = barn_owl.tag_archive(barn_owl.load_model("first"), ["night.wav"], workers=1)
    >>> list(archive.events)[:4]
    ['file', 'start_s', 'end_s', 'label']
    """
    settings = decision or model.decision
    paths = [str(path) for path in recordings]
    at_once = min(workers, len(paths))
    told = _Seconds(paths, progress)
    work = partial(
        _tagged, model=model, decision=settings, keep=None if keep is None else Path(keep),
        traces=None if traces is None else Path(traces), known=model_fingerprint(model, settings),
        ahead=workers > 1 and len(paths) == 1, within=told.within if at_once == 1 else None,
    )  # fmt: skip
    archive, tables = Archive(events=pd.DataFrame(columns=COLUMNS)), []
    results = each(work, paths, at_once, processes=True)
    try:
        for path, events, reason, was_kept in results:
            if reason:
                archive.refused[path] = reason
            else:
                archive.done.append(path)
                if was_kept:
                    archive.kept.append(path)
                if len(events):
                    tables.append(events)
            told.finished(path)
    except KeyboardInterrupt:
        archive.stopped = True
    if tables:
        archive.events = pd.concat(tables, ignore_index=True)
    return archive


class _Seconds:
    """Says how many seconds of sound are done, of all there are."""

    def __init__(self, paths: list[str], tell: Callable[[float, float], None] | None) -> None:
        self._lengths = {path: _length_s(path) for path in paths} if tell else {}
        self._total, self._done, self._tell = sum(self._lengths.values()), 0.0, tell

    def within(self, done_s: float, _length_s: float) -> None:
        """So much is done of a recording that is worked on."""
        if self._tell and self._total:
            self._tell(self._done + done_s, self._total)

    def finished(self, path: str) -> None:
        """A recording is done."""
        if self._tell:
            self._done += self._lengths[path]
            self.within(0.0, 0.0)


def _length_s(path: str) -> float:
    """Length of a recording; 0 where it cannot be read, which is told when its turn comes."""
    try:
        return audio_info(path).duration_s
    except AudioError:
        return 0.0


def trace_file_of(recording: str, folder: str | Path) -> Path:
    """Where `tag_archive` keeps the trace of a recording."""
    return Path(folder) / f"{Path(recording).stem}.npz"


def model_fingerprint(model: Model, decision: DecisionSettings) -> str:
    """SHA-256 over all that decides what events a model finds."""
    digest = hashlib.sha256()
    arrays = {**model.family.arrays(), "mean": model.mean, "deviation": model.deviation}
    for name, array in sorted(arrays.items()):
        digest.update(name.encode() + np.ascontiguousarray(array).tobytes())
    told = [
        DECISIONS, model.labels, model.background, model.front_end.model_dump(), model.clips.model_dump(),
        model.overlapping, decision.model_dump(),
    ]  # fmt: skip
    digest.update(json.dumps(told, sort_keys=True).encode())
    return digest.hexdigest()


def _tagged(
    path: str,
    *,
    model: Model,
    decision: DecisionSettings,
    keep: Path | None,
    traces: Path | None,
    known: str,
    ahead: bool,
    within: Callable[[float, float], None] | None,
) -> tuple[str, pd.DataFrame, str, bool]:
    """Path, events, why it was passed over, and whether it was done before."""
    place, trace_file = None, None if traces is None else trace_file_of(path, traces)
    try:
        if keep is not None:
            content = Excerpt(path).content()
            place = keep / f"{hashlib.sha256((content + known).encode()).hexdigest()[:24]}.csv"
            if place.is_file() and (trace_file is None or trace_file.is_file()):
                return path, _read_kept(place, path), "", True
        if trace_file is None:
            events = tag_recording(model, path, decision=decision, ahead=ahead, progress=within)
        else:
            trace = whole_trace(model, path, ahead=ahead, progress=within)
            trace.save(trace_file)
            events = tag_trace(model, trace, decision=decision)
    except AudioError as error:
        return path, pd.DataFrame(), str(error), False
    except OSError as error:
        return path, pd.DataFrame(), f"{path}: {error.strerror or error}", False
    if place is not None:
        write_clip_table(events.assign(file=str(Path(path).resolve())), place, force=True)
    return path, events, "", False


def _read_kept(place: Path, path: str) -> pd.DataFrame:
    """Events of a recording that was finished before, under the name it has now."""
    return read_clip_table(place, may_be_empty=True).assign(file=path)[COLUMNS]
