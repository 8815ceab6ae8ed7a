"""Many recordings: cut into pieces of work, done by the engine that was chosen, joined without a seam, and kept.

Long recordings are cut into pieces of some ten minutes, whose scores are those of the whole; short ones are bundled.
What decides is the same object that decides on a stream, fed here with one piece after the other.
"""

import hashlib
import json
import logging
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import partial
from pathlib import Path, PurePath

import numpy as np
import pandas as pd

from barn_owl.audio import AUDIO_ENDINGS, AudioInfo, Excerpt, audio_info
from barn_owl.audio.places import files_below, is_elsewhere, place, sound_files_below
from barn_owl.clips.table import read_any_table
from barn_owl.errors import AudioError, TableError
from barn_owl.model import DecisionSettings, Model
from barn_owl.names import as_text
from barn_owl.parallel import at_a_time, each, on_cluster
from barn_owl.tag.decision import Decider, Event
from barn_owl.tag.formats import COLUMNS
from barn_owl.tag.hours import counted_by_hour, recording_start, with_clock
from barn_owl.tag.pieces import PIECE_S, Piece, Said, lost_pieces, name_of, pieces_of, score_pieces
from barn_owl.tag.recorded import save_trace
from barn_owl.tag.store import Recorded, Store, open_store, packed, recorder_of, unpacked
from barn_owl.tag.tagging import event_table, warn_of_clip_settings
from barn_owl.tag.trace import TraceBlock

logger = logging.getLogger(__name__)

DECISIONS = 1
"""Part of the key of what is kept: raised when the same model and settings come to find other events."""
BUNDLE = 64
"""Recordings of a bundle at most."""
PLENTY, LONG_S = 32, 7200.0
"""Where there are so many recordings for each worker, only those longer than this are cut: whole ones are decided by
their worker, and no scores travel.
"""
ALONE_S = 3600.0
"""Sound up to which this process does it alone: others take a second to start."""


@dataclass(kw_only=True)
class Archive:
    """What tagging many recordings gave.

    done : recordings that were tagged now or before; kept : those of them that were not done again; refused : the
    reason for each that was passed over. stopped : by Ctrl-C, before all were done. work : a row a worker with the
    ``hours`` of sound it scored, its seconds of ``decode``, ``features`` and ``network``, and the ``megabytes`` that
    it sent; seconds : how long it took in all.

    >>> archive = barn_owl.tag_archive(barn_owl.load_model("first"), ["night.wav"], workers=1)
    >>> archive.done, archive.refused
    (['night.wav'], {})
    """

    done: list[str] = field(default_factory=list)
    kept: list[str] = field(default_factory=list)
    refused: dict[str, str] = field(default_factory=dict)
    stopped: bool = False
    work: pd.DataFrame = field(default_factory=pd.DataFrame)
    seconds: float = 0.0
    tables: dict[str, pd.DataFrame] = field(default_factory=dict, repr=False)
    store: Store | None = field(default=None, repr=False)
    model: str = ""

    @property
    def events(self) -> pd.DataFrame:
        """Events of all recordings that are done, in their order; of a store they are read now."""
        tables = self.tables
        if self.store is not None:
            names = {stored_name_of(path): path for path in self.done}
            found = pd.concat(
                [pd.DataFrame(columns=COLUMNS), *self.store.batches(model=self.model, files=list(names))]
            )
            found["file"] = found["file"].map(names)
            tables = {str(path): own for path, own in found[COLUMNS].groupby("file", sort=False)}
        parts = [tables[path] for path in self.done if len(tables.get(path, ()))]
        return pd.concat(parts, ignore_index=True) if parts else pd.DataFrame(columns=COLUMNS)

    def counts(self) -> pd.DataFrame:
        """Count the events by label: ``label``, ``events``, ``seconds`` that they last, ``mean_score``."""
        if self.store is None:
            return _summed([_counted(table) for table in self.tables.values()])
        names, asked = {stored_name_of(path) for path in self.done}, ("file", "label", "start_s", "end_s", "score")
        batches = self.store.batches(model=self.model, columns=asked)
        return _summed([_counted(batch[batch["file"].isin(names)]) for batch in batches])


def _counted(events: pd.DataFrame) -> pd.DataFrame:
    lengths = (events["end_s"] - events["start_s"]).astype(float)
    by_label = events.assign(length=lengths, score=events["score"].astype(float)).groupby("label")
    return by_label.agg(events=("label", "size"), seconds=("length", "sum"), score=("score", "sum")).reset_index()


def _summed(parts: list[pd.DataFrame]) -> pd.DataFrame:
    if not parts:
        return pd.DataFrame({"label": [], "events": np.empty(0, dtype=int), "seconds": [], "mean_score": []})
    total = pd.concat(parts).groupby("label").sum().reset_index()
    return total.assign(mean_score=total["score"] / total["events"]).drop(columns="score")


def find_recordings(sources: Sequence[str | Path]) -> list[str]:
    """List the recordings that files, folders (with all below) and tables with a column ``file`` name, once each.

    Files and folders may be URLs that fsspec reads, such as ``s3://bucket/may/``.

    Raises TableError when one does not exist or names no recording.

    >>> barn_owl.find_recordings(["night.wav"])
    ['night.wav']
    """
    found: list[str] = []
    for source in map(place, sources):
        if isinstance(source, str):
            found += _elsewhere(source)
        elif source.is_dir():
            inside = sound_files_below(source)
            if not inside:
                raise TableError(f"{source} holds no sound files ({', '.join(sorted(AUDIO_ENDINGS))})")
            found += map(str, inside)
        elif source.suffix.lower() in (".csv", ".tsv", ".parquet"):
            table = read_any_table(source)
            if "file" not in table:
                raise TableError(f"{source} has no column 'file' that names recordings")
            found += [str(file) if is_elsewhere(file) else str(source.parent / str(file)) for file in table["file"]]
        else:
            found.append(as_text(str(source)))
    known: dict[Path | str, str] = {}
    for path in found:
        known.setdefault(path if is_elsewhere(path) else Path(path).resolve(), path)
    return list(known.values())


def _elsewhere(url: str) -> list[str]:
    """List the recordings that a URL names: one file, or all below a folder."""
    if Path(url).suffix.lower() in AUDIO_ENDINGS:
        return [url]
    inside = [name for name in files_below(url) if Path(name).suffix.lower() in AUDIO_ENDINGS]
    if not inside:
        raise TableError(f"{url} holds no sound files ({', '.join(sorted(AUDIO_ENDINGS))})")
    return inside


def tag_archive(
    model: Model,
    recordings: Sequence[str | Path],
    *,
    decision: DecisionSettings | None = None,
    keep: str | Path | None = None,
    traces: str | Path | None = None,
    workers: int = 2,
    starts: Mapping[str, datetime | None] | None = None,
    progress: Callable[[float, float], None] | None = None,
) -> Archive:
    """Find events in many recordings by the engine that was chosen (`barn_owl.engine`), `workers` at a time here.

    keep : a store (`barn_owl.open_store`) of what is finished, known by its content, the model and the settings, so
    that it is not done again; starts : when each began, for the store; None for what their names or files say.
    traces : a folder to write the scores over time of each to, as NPZ; what was kept without its trace is done
    again. progress : called with the seconds of sound done and how many there are.

    A recording that cannot be read is tried again at the end, then passed over and said so. On Ctrl-C what is
    finished is returned, marked as stopped. Raises OutputError when `keep` cannot be written, EngineError when the
    scheduler went away.

    >>> archive = barn_owl.tag_archive(barn_owl.load_model("first"), ["night.wav"], workers=1)
    >>> list(archive.events)[:4]
    ['file', 'start_s', 'end_s', 'label']
    """
    job = _Job(
        model, decision or model.decision, None if keep is None else open_store(keep),
        None if traces is None else Path(traces), workers, starts, progress,
    )  # fmt: skip
    warn_of_clip_settings(model)
    return job.done([as_text(str(path)) for path in recordings])


@dataclass
class _Open:
    """A recording whose pieces are coming."""

    info: AudioInfo
    decider: Decider | None
    events: list[Event] = field(default_factory=list)
    blocks: list[TraceBlock] = field(default_factory=list)
    content: str = ""
    prefix: str = ""

    def part(self, piece: Piece) -> str:
        """What a piece is called in a store until the recording is finished."""
        return f"{self.prefix}-{piece.chunk:08d}.npz"


class _Job:
    """Tags many recordings: cuts them, has the pieces scored, joins what comes back, keeps what is finished."""

    def __init__(
        self,
        model: Model,
        decision: DecisionSettings,
        store: Store | None,
        traces: Path | None,
        workers: int,
        starts: Mapping[str, datetime | None] | None,
        progress: Callable[[float, float], None] | None,
    ) -> None:
        self._model, self._decision, self._store, self._traces = model, decision, store, traces
        self._workers, self._starts, self._progress = workers, starts, progress
        self._known = model_fingerprint(model, decision)
        self._archive = Archive(store=store, model=self._known[:12])
        self._infos: dict[str, AudioInfo | None] = {}
        self._open: dict[str, _Open] = {}
        self._again: list[str] = []
        self._told: set[str] = set()
        self._trace_files: dict[str, Path] = {}
        self._rows: dict[str, dict[str, float]] = {}
        self._plenty = False
        self._done_s = 0.0
        self._total_s = 0.0

    def done(self, paths: list[str]) -> Archive:
        """Do all that is not done yet."""
        archive, begin = self._archive, time.perf_counter()
        self._trace_files = trace_files_of(paths, self._traces or "")
        left = self._not_done_before(paths)
        infos = each(_info, [name_of(path) for path in left], self._workers, at_once=BUNDLE)
        self._infos = dict(zip(left, infos, strict=True))
        self._plenty = len(left) >= PLENTY * at_a_time(self._workers)
        self._total_s = sum(info.duration_s for info in self._infos.values() if info is not None)
        try:
            self._score(left, whole=False)
            if self._again:  # in one piece where it breaks off, and once more where that may help
                again, self._again = self._again, []
                self._infos |= {path: _info(path) for path in again}
                self._score(again, whole=True)
        except KeyboardInterrupt:
            archive.stopped = True
        order = {path: number for number, path in enumerate(paths)}
        archive.done.sort(key=order.__getitem__)
        archive.seconds = time.perf_counter() - begin
        archive.work = pd.DataFrame.from_dict(self._rows, orient="index").rename_axis("worker").reset_index()
        return archive

    def _score(self, paths: list[str], *, whole: bool) -> None:
        alone = not on_cluster() and (self._workers == 1 or self._total_s < ALONE_S)
        decision = self._decision if self._traces is None else None
        work = partial(score_pieces, model=self._model, decision=decision, ahead=alone and self._workers > 1)
        results = each(
            work,
            self._bundles(paths, whole=whole, alone=alone),
            1 if alone else self._workers,
            processes=True,
            lost=lost_pieces,
        )
        for said in results:
            for one in said:
                self._take(one, last_time=whole)

    def _bundles(self, paths: list[str], *, whole: bool, alone: bool) -> Iterator[list[Piece]]:
        """Cut what is long, bundle what is short, in order."""
        bundle: list[Piece] = []
        bundled_s = 0.0
        for path in paths:
            pieces = self._pieces(path, whole=whole)
            info = self._infos[path]
            for piece in pieces:
                length_s = PIECE_S if len(pieces) > 1 else 0.0 if info is None else info.duration_s
                if bundle and (alone or bundled_s + length_s > PIECE_S or len(bundle) == BUNDLE):
                    yield bundle
                    bundle, bundled_s = [], 0.0
                bundle.append(piece)
                bundled_s += length_s
        if bundle:
            yield bundle

    def _pieces(self, path: str, *, whole: bool) -> list[Piece]:
        """Cut a recording; what was scored before it was stopped is taken up, and not handed out."""
        one, info = Piece(path=path, name=name_of(path), known=self._store is not None), self._infos[path]
        if info is None:
            return [one]
        opened = self._open[path] = _Open(info, Decider.of(self._model, self._decision))
        whole = whole or (self._plenty and info.duration_s < LONG_S)
        pieces = [one] if whole else pieces_of(self._model, one, info)
        if self._store is None or len(pieces) == 1:
            return pieces
        known = repr([self._known, *Excerpt(one.name).stamp()])
        opened.prefix = hashlib.sha256(as_text(known).encode()).hexdigest()[:24]
        while not pieces[0].last and (kept := self._store.piece(opened.part(pieces[0]))) is not None:
            arrays = unpacked(kept)
            if arrays is None:
                break
            self._push(path, [TraceBlock(int(arrays["first"]), arrays["sounds"], arrays["begins"])])
            self._done_s += len(arrays["sounds"]) * self._model.step_s
            pieces = pieces[1:]
        return pieces

    def _push(self, path: str, blocks: Iterable[TraceBlock]) -> None:
        opened = self._open[path]
        for block in blocks:
            if opened.decider is not None:
                opened.events += opened.decider.push(block)
            if self._traces is not None:
                opened.blocks.append(block)

    def _note(self, said: Said) -> None:
        """Note what was done and how long it took; pass on what was warned of, once."""
        for line in said.warnings:
            if line not in self._told:
                self._told.add(line)
                logger.warning("%s", line)
        row = self._rows.setdefault(
            said.worker, dict.fromkeys(("hours", "decode", "features", "network", "megabytes"), 0.0)
        )
        for name, value in (
            ("hours", said.seconds / 3600), ("decode", said.spent.decode_s), ("features", said.spent.features_s),
            ("network", said.spent.network_s), ("megabytes", said.bytes / 1e6),
        ):  # fmt: skip
            row[name] += value
        self._done_s += said.seconds

    def _take(self, said: Said, *, last_time: bool) -> None:
        """Take what a worker said of a piece."""
        path, piece = said.piece.path, said.piece
        self._note(said)
        opened = self._open.get(path)
        if opened is None:  # its header could not be read, or it was given up at an earlier piece
            if path not in self._again and path not in self._archive.refused:
                self._fail(path, said.reason, last_time=last_time)
            return
        if said.reason:
            del self._open[path]
            self._fail(path, said.reason, last_time=last_time)
        else:
            if said.events is not None:
                opened.events, opened.decider = said.events, None
            self._push(path, said.blocks)
            if self._store is not None and not piece.last:
                whole = {
                    name: np.concatenate([getattr(b, name) for b in said.blocks]) for name in ("sounds", "begins")
                }
                first = np.array(said.blocks[0].first)
                self._store.keep_piece(opened.part(piece), packed({"first": first, **whole}))
            if piece.last:
                opened.content = said.content
                self._finish(path, self._open.pop(path))
        if self._progress and self._total_s:
            self._progress(min(self._done_s, self._total_s), self._total_s)

    def _fail(self, path: str, reason: str, *, last_time: bool) -> None:
        if not last_time:
            self._again.append(path)
            return
        self._archive.refused[path] = reason
        if self._store is not None:
            self._store.add(self._recorded(path, "", 0.0, 0, reason), pd.DataFrame())

    def _finish(self, path: str, opened: _Open) -> None:
        """All of a recording is scored: its events are known."""
        if opened.decider is not None:
            opened.events += opened.decider.finish()
        events = event_table(opened.events, path, opened.info.duration_s)
        if self._traces is not None:
            save_trace(self._model, opened.blocks, path, opened.info.duration_s, self._trace_files[path])
        if self._store is None:
            self._archive.tables[path] = events
        else:
            self._store.add(*self._kept_as(path, opened.content, opened.info.duration_s, events))
            if opened.prefix:
                self._store.drop_pieces(opened.prefix)
        self._archive.done.append(path)

    def _kept_as(
        self, path: str, content: str, duration_s: float, events: pd.DataFrame
    ) -> tuple[Recorded, pd.DataFrame]:
        """What a store is given of a recording and its events."""
        recorded = self._recorded(path, content, duration_s, len(events))
        clocked = with_clock(events, {path: self._start(path)})
        kept = clocked.assign(file=stored_name_of(path), key=recorded.key)
        return replace(recorded, hours=counted_by_hour(kept)), kept

    def _recorded(self, path: str, content: str, duration_s: float, events: int, reason: str = "") -> Recorded:
        start = self._start(path)
        name = name_of(path)
        try:
            where, size, changed = Excerpt(name).stamp()
            stamp = [as_text(where), size, changed]
        except (AudioError, OSError):
            stamp = []
        text = as_text(name)
        return Recorded(
            key=hashlib.sha256((content + text + self._known).encode()).hexdigest()[:24],
            model=self._known[:12],
            file=text,
            stamp=stamp,
            content=content,
            day="unknown" if start is None else start.date().isoformat(),
            recorder=as_text(recorder_of(name)),
            begins="" if start is None else start.isoformat(),
            duration_s=duration_s,
            events=events,
            reason=as_text(reason),
        )

    def _start(self, path: str) -> datetime | None:
        return recording_start(path) if self._starts is None else self._starts.get(path)

    def _not_done_before(self, paths: list[str]) -> list[str]:
        """Leave out what the store has, whatever it was called then."""
        if self._store is None:
            return paths
        done = [one for one in self._store.recordings(self._archive.model) if not one.reason]
        by_file = {one.file: one for one in done}
        sizes: dict[int, list[Recorded]] = {}
        for one in done:
            sizes.setdefault(int(one.stamp[1]) if one.stamp else -1, []).append(one)
        return [path for path in paths if not self._is_kept(path, by_file, sizes)]

    def _is_kept(self, path: str, by_file: dict[str, Recorded], sizes: dict[int, list[Recorded]]) -> bool:
        if self._traces is not None and not self._trace_files[path].is_file():
            return False
        name = name_of(path)
        try:
            where, size, changed = Excerpt(name).stamp()
            stamp, own = [as_text(where), size, changed], by_file.get(as_text(name))
            if own is None or own.stamp != stamp:
                alike = sizes.get(size, [])
                content = Excerpt(name).content() if alike else ""
                own = next((one for one in alike if one.content == content), None)
        except (AudioError, OSError):
            return False  # said when its turn comes
        if own is None:
            return False
        if own.file != as_text(name) or own.stamp != stamp:
            self._renamed(path, own)
        self._archive.done.append(path)
        self._archive.kept.append(path)
        return True

    def _renamed(self, path: str, own: Recorded) -> None:
        """Keep the events of a recording under the name that it has now as well."""
        if self._store is None:
            raise AssertionError
        parts = list(self._store.batches(model=own.model, files=[own.file]))
        events = pd.concat(parts, ignore_index=True) if parts else pd.DataFrame(columns=COLUMNS)
        self._store.add(*self._kept_as(path, own.content, own.duration_s, events[COLUMNS].assign(file=path)))


def stored_name_of(path: str) -> str:
    """What a recording is known by in a store, which holds UTF-8."""
    return as_text(name_of(path))


def _info(path: str) -> AudioInfo | None:
    """The header of a recording; None where it cannot be read, which is told when its turn comes."""
    try:
        return audio_info(path)
    except (AudioError, OSError):
        return None


def trace_files_of(recordings: Sequence[str], folder: str | Path) -> dict[str, Path]:
    """Where `tag_archive` writes the trace of each recording: its name, with its folders before it where two share
    it.
    """
    parts = {path: PurePath(name_of(path)).with_suffix("").parts for path in recordings}
    shared = Counter(own[-1] for own in parts.values())
    depth = dict.fromkeys(recordings, 1)
    for stem in [stem for stem, count in shared.items() if count > 1]:
        alike = [path for path, own in parts.items() if own[-1] == stem]
        while len({parts[path][-depth[path] :] for path in alike}) < len({parts[path] for path in alike}):
            depth |= {path: depth[path] + 1 for path in alike}
    names = {path: "_".join(parts[path][-depth[path] :]).strip("/") for path in recordings}
    # The same name with two endings, in one folder: the ending tells them apart.
    twice = Counter(names.values())
    return {
        path: Path(folder) / f"{name if twice[name] == 1 else name + PurePath(path).suffix}.npz"
        for path, name in names.items()
    }


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
