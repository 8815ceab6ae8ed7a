"""Tagging many recordings: split into pieces, score them on an engine, join and store the results.

Long recordings are cut into pieces of some ten minutes, whose scores are those of the whole; short ones are bundled.
What decides is the same object that decides on a stream, fed here with one piece after the other.
"""

import hashlib
import json
import logging
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import partial
from pathlib import Path

import numpy as np
import pandas as pd

from barn_owl.archive.entries import StoreQuery
from barn_owl.archive.formats import COLUMNS
from barn_owl.archive.keeping import Keeping
from barn_owl.archive.pieces import PIECE_S, Piece, PieceResult, lost_pieces, pieces_of, score_pieces
from barn_owl.archive.recordings import name_of, trace_files_of
from barn_owl.archive.store import Store, open_store
from barn_owl.audio import AudioInfo, Excerpt, audio_info
from barn_owl.errors import AudioError
from barn_owl.files import is_file
from barn_owl.model import DecodingSettings, Model
from barn_owl.model.loading import ModelLike, as_model
from barn_owl.model.settings import DecodingLike, as_decoding
from barn_owl.names import as_text
from barn_owl.parallel import at_a_time, each, on_cluster
from barn_owl.tag.decoding import EARLIER_RULES, RULES_VERSION, EventDecoder
from barn_owl.tag.naming import Event
from barn_owl.tag.score_trace import save_trace
from barn_owl.tag.scoring import ScoreBlock
from barn_owl.tag.tagging import event_table, warn_of_clip_settings

logger = logging.getLogger(__name__)

BUNDLE = 64
"""Recordings of a bundle at most."""
PLENTY, LONG_S = 32, 7200.0
"""Where there are this many recordings for each worker, only those longer than this are cut: whole ones are decided
by their worker, and no scores travel.
"""
ALONE_S = 3600.0
"""Sound up to which this process does it alone: others take a second to start."""


@dataclass(kw_only=True)
class Archive:
    """Result of tagging many recordings.

    Attributes
    ----------
    done : list[str]
        Recordings that were tagged now or before.
    kept : list[str]
        Those of them that were not done again.
    skipped : dict[str, str]
        The reason for each that was skipped.
    stopped : bool
        By Ctrl-C, before all were done.
    work : pd.DataFrame
        One row per worker with the ``hours`` of sound it scored, its seconds of ``decode``, ``features`` and
        ``network``, and the ``megabytes`` that it sent.
    seconds : float
        How long it took in all.
    tables, store, model
        Where the events are: in memory by recording, or in a store under what the model and its settings are
        known by.
    heard_s : dict[str, float]
        How much of each recording that is done could be read, in seconds.

    Examples
    --------
    >>> archive = barn_owl.tag_archive(barn_owl.load_model("first"), ["night.wav"], workers=1)
    >>> archive.done, archive.skipped
    (['night.wav'], {})
    """

    done: list[str] = field(default_factory=list)
    kept: list[str] = field(default_factory=list)
    skipped: dict[str, str] = field(default_factory=dict)
    stopped: bool = False
    work: pd.DataFrame = field(default_factory=pd.DataFrame)
    seconds: float = 0.0
    heard_s: dict[str, float] = field(default_factory=dict, repr=False)
    tables: dict[str, pd.DataFrame] = field(default_factory=dict, repr=False)
    store: Store | None = field(default=None, repr=False)
    model: str = ""

    @property
    def events(self) -> pd.DataFrame:
        """Events of all recordings that are done, in their order; of a store they are read now."""
        return self.events_of(self.done)

    def events_of(self, recordings: Sequence[str]) -> pd.DataFrame:
        """Events of some of the recordings that are done, in that order; of a store these alone are read."""
        tables = self.tables
        if self.store is not None:
            names = {name_of(path): path for path in recordings}
            found = list(self.store.batches(StoreQuery(model=self.model, files=tuple(names)))) if names else []
            read = pd.concat(found, ignore_index=True) if found else pd.DataFrame(columns=COLUMNS)
            own = read[COLUMNS].assign(file=read["file"].map(names).astype(object))
            tables = {str(path): table for path, table in own.groupby("file", sort=False)}
        parts = [tables[path] for path in recordings if len(tables.get(path, ()))]
        return pd.concat(parts, ignore_index=True) if parts else pd.DataFrame(columns=COLUMNS)

    def counts(self) -> pd.DataFrame:
        """Count the events by label: ``label``, ``events``, ``seconds`` that they last, ``mean_score``."""
        if self.store is None or not self.done:
            return _summed([_counted(table) for table in self.tables.values()])
        query = StoreQuery(model=self.model, files=tuple(map(name_of, self.done)))
        return _summed(list(map(_counted, self.store.batches(query, ("label", "start_s", "end_s", "score")))))


def _counted(events: pd.DataFrame) -> pd.DataFrame:
    lengths = (events["end_s"] - events["start_s"]).astype(float)
    by_label = events.assign(length=lengths, score=events["score"].astype(float)).groupby("label")
    return by_label.agg(events=("label", "size"), seconds=("length", "sum"), score=("score", "sum")).reset_index()


def _summed(parts: list[pd.DataFrame]) -> pd.DataFrame:
    if not parts:
        return pd.DataFrame({"label": [], "events": np.empty(0, dtype=int), "seconds": [], "mean_score": []})
    total = pd.concat(parts).groupby("label").sum().reset_index()
    return total.assign(mean_score=total["score"] / total["events"]).drop(columns="score")


def tag_archive(
    model: ModelLike,
    recordings: Sequence[str | Path],
    *,
    decoding: DecodingLike | None = None,
    store: str | Path | None = None,
    score_traces: str | Path | None = None,
    workers: int = 2,
    starts: Mapping[str, datetime | None] | None = None,
    progress: Callable[[float, float], None] | None = None,
) -> Archive:
    """Tag many recordings, on this machine or on the cluster chosen with `barn_owl.engine`.

    Unreadable recordings are retried at the end, then reported and skipped. On Ctrl-C, returns what is finished,
    marked as stopped.

    Parameters
    ----------
    model : Model | Run | str | Path
        Model, run, or the path of either.
    recordings : Sequence[str | Path]
        Sound files or URLs; see `barn_owl.find_recordings`.
    decoding : DecodingSettings | Mapping[str, Any] | None
        Settings of the event decoder, or changes of the model's; None for the model's.
    store : str | Path | None
        Path of a store (`open_store`) for the events. Recordings that it has already, by content, model and
        settings, are skipped.
    score_traces : str | Path | None
        Folder to write the frame scores of each recording to, as NPZ.
    workers : int
        Recordings in parallel on this machine.
    starts : Mapping[str, datetime | None] | None
        Start time of each recording, for the store; by default from its name or header.
    progress : Callable[[float, float], None] | None
        Called with the seconds of sound done and in all.

    Raises
    ------
    OutputError
        If `store` cannot be written.
    EngineError
        If the scheduler is lost.

    Examples
    --------
    >>> archive = barn_owl.tag_archive(barn_owl.load_model("first"), ["night.wav"], workers=1)
    >>> list(archive.events)[:4]
    ['file', 'start_s', 'end_s', 'label']
    """
    model = as_model(model)
    settings = as_decoding(decoding, model.decoding)
    opened = None if store is None else open_store(store)
    known = _known_as(model, settings, opened)
    keeping = None if opened is None else Keeping(opened, known, starts)
    archive = Archive(store=opened, model=known[:12])
    warn_of_clip_settings(model)
    traces = None if score_traces is None else Path(score_traces)
    job = _Job(archive, model, settings, keeping, traces, workers, progress)
    job.do([as_text(str(path)) for path in recordings])
    return archive


@dataclass
class _Open:
    """A recording whose pieces are coming."""

    info: AudioInfo
    decoder: EventDecoder | None
    events: list[Event] = field(default_factory=list)
    blocks: list[ScoreBlock] = field(default_factory=list)
    heard_s: float = 0.0


class _Job:
    """Tags many recordings: cuts them, has the pieces scored, joins the results, stores finished recordings."""

    def __init__(
        self,
        archive: Archive,
        model: Model,
        decoding: DecodingSettings,
        keeping: Keeping | None,
        traces: Path | None,
        workers: int,
        progress: Callable[[float, float], None] | None,
    ) -> None:
        self._archive, self._model, self._decoding, self._keeping = archive, model, decoding, keeping
        self._traces, self._workers, self._progress = traces, workers, progress
        self._trace_files: dict[str, Path] = {}
        self._infos: dict[str, AudioInfo | None] = {}
        self._open: dict[str, _Open] = {}
        self._again: list[str] = []
        self._told: set[str] = set()
        self._rows: dict[str, dict[str, float]] = {}
        self._plenty = False
        self._done_s = self._total_s = 0.0

    def do(self, paths: list[str]) -> None:
        """Do all that is not done yet."""
        archive, begin = self._archive, time.perf_counter()
        self._trace_files = {} if self._traces is None else trace_files_of(paths, self._traces)
        if self._keeping is not None:
            archive.heard_s = self._keeping.done_before([path for path in paths if self._is_traced(path)])
            archive.kept = list(archive.heard_s)
            archive.done += archive.kept
        kept = set(archive.kept)
        left = [path for path in paths if path not in kept]
        infos = each(_info, list(map(name_of, left)), self._workers, at_once=BUNDLE)
        self._infos = dict(zip(left, infos, strict=True))
        self._plenty = len(left) >= PLENTY * at_a_time(self._workers)
        self._total_s = sum(info.duration_s for info in self._infos.values() if info is not None)
        try:
            self._score(left, whole=False)
            if self._again:  # in one piece where it breaks off, and once more where that may help
                again, self._again = self._again, []
                self._infos |= {path: _info(name_of(path)) for path in again}
                self._score(again, whole=True)
        except KeyboardInterrupt:
            archive.stopped = True
        order = {path: number for number, path in enumerate(paths)}
        archive.done.sort(key=order.__getitem__)
        archive.seconds = time.perf_counter() - begin
        archive.work = pd.DataFrame.from_dict(self._rows, orient="index").rename_axis("worker").reset_index()

    def _is_traced(self, path: str) -> bool:
        return self._traces is None or is_file(self._trace_files[path])

    def _score(self, paths: list[str], *, whole: bool) -> None:
        alone = not on_cluster() and (self._workers == 1 or self._total_s < ALONE_S)
        decoding = self._decoding if self._traces is None else None
        work = partial(score_pieces, model=self._model, decoding=decoding, ahead=alone and self._workers > 1)
        results = each(
            work,
            self._bundles(paths, whole=whole, alone=alone),
            1 if alone else self._workers,
            processes=True,
            lost=lost_pieces,
        )
        for result in results:
            for one in result:
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
        one, info = Piece(path=path, name=name_of(path), known=self._keeping is not None), self._infos[path]
        if info is None:
            return [one]
        self._open[path] = _Open(info, EventDecoder.of(self._model, self._decoding))
        if whole or (self._plenty and info.duration_s < LONG_S):
            return [one]
        with suppress(AudioError, OSError):  # gone meanwhile, which is reported when its turn comes
            one = replace(one, stamp=Excerpt(one.name).stamp())
        pieces = pieces_of(self._model, one, info)
        if self._keeping is None or len(pieces) == 1:
            return pieces
        before = self._keeping.scored_before(pieces)
        self._push(path, before)
        scored_s = sum(len(block.sounds) for block in before) * self._model.step_s
        self._open[path].heard_s = scored_s
        self._done_s += scored_s
        return pieces[len(before) :]

    def _push(self, path: str, blocks: Iterable[ScoreBlock]) -> None:
        opened = self._open[path]
        for block in blocks:
            if opened.decoder is not None:
                opened.events += opened.decoder.push(block)
            if self._traces is not None:
                opened.blocks.append(block)

    def _note(self, result: PieceResult) -> None:
        """Note what was done and how long it took; pass on what was warned of, once."""
        for flaw in result.flaws:
            if (line := f"{result.piece.path}: {flaw}") not in self._told:
                self._told.add(line)
                logger.warning(line)
        row = self._rows.setdefault(
            result.worker, dict.fromkeys(("hours", "decode", "features", "network", "megabytes"), 0.0)
        )
        for name, value in (
            ("hours", result.seconds / 3600), ("decode", result.spent.decode_s),
            ("features", result.spent.features_s),
            ("network", result.spent.network_s), ("megabytes", result.bytes / 1e6),
        ):  # fmt: skip
            row[name] += value
        self._done_s += result.seconds

    def _take(self, result: PieceResult, *, last_time: bool) -> None:
        """Take the result of a piece."""
        path, piece = result.piece.path, result.piece
        self._note(result)
        opened = self._open.get(path)
        if opened is None:  # its header could not be read, or it was given up at an earlier piece
            if path not in self._again and path not in self._archive.skipped:
                self._fail(path, result.reason, last_time=last_time)
            return
        if result.reason:
            del self._open[path]
            self._fail(path, result.reason, last_time=last_time)
        else:
            if result.events is not None:
                opened.events, opened.decoder = result.events, None
            opened.heard_s += result.seconds
            self._push(path, result.blocks)
            if piece.last:
                self._finish(piece, self._open.pop(path), result.content)
            elif self._keeping is not None:
                self._keeping.keep_piece(piece, result.blocks)
        if self._progress and self._total_s:
            self._progress(min(self._done_s, self._total_s), self._total_s)

    def _fail(self, path: str, reason: str, *, last_time: bool) -> None:
        if not last_time:
            self._again.append(path)
            return
        self._archive.skipped[path] = reason
        if self._keeping is not None:
            self._keeping.fail(path, reason)

    def _finish(self, piece: Piece, opened: _Open, content: str) -> None:
        """All of a recording is scored: its events are known."""
        path, duration_s = piece.path, opened.info.duration_s
        heard_s = min(opened.heard_s, duration_s)
        if duration_s - heard_s < self._model.window_s:  # steps do not fill the last moment
            heard_s = duration_s
        self._archive.heard_s[path] = heard_s
        if opened.decoder is not None:
            opened.events += opened.decoder.finish()
        events = event_table(opened.events, path, duration_s)
        if self._traces is not None:
            save_trace(self._model, opened.blocks, path, duration_s, self._trace_files[path])
        if self._keeping is None:
            self._archive.tables[path] = events
        else:
            self._keeping.keep(path, content, heard_s, events)
            if piece.chunk:
                self._keeping.drop_pieces(piece)
        self._archive.done.append(path)


def _info(path: str) -> AudioInfo | None:
    """The header of a recording; None where it cannot be read, which is reported when its turn comes."""
    try:
        return audio_info(path)
    except (AudioError, OSError):
        return None


def _known_as(model: Model, decoding: DecodingSettings, store: Store | None) -> str:
    """Return the fingerprint of a model; the one of earlier rules where the store knows the model under it."""
    current = model_fingerprint(model, decoding)
    models = set() if store is None else set(store.models())
    if not models or current[:12] in models:
        return current
    earlier = (model_fingerprint(model, decoding, rules) for rules in EARLIER_RULES[RULES_VERSION])
    return next((known for known in earlier if known[:12] in models), current)


def model_fingerprint(model: Model, decoding: DecodingSettings, rules: int | str = RULES_VERSION) -> str:
    """Return the SHA-256 of all that decides which events a model finds, by the rules of this version.

    rules : version of the rules, or their hash in stores of an earlier version.
    """
    digest = hashlib.sha256()
    arrays = {**model.classifier.state(), "mean": model.mean, "deviation": model.deviation}
    for name, array in sorted(arrays.items()):
        digest.update(name.encode() + np.ascontiguousarray(array).tobytes())
    told = [
        rules, model.labels, model.background, model.ignored, model.front_end.identity(),
        model.clips.model_dump(), model.multilabel, decoding.model_dump(),
    ]  # fmt: skip
    digest.update(json.dumps(told, sort_keys=True).encode())
    return digest.hexdigest()
