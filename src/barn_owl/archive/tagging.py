"""Tagging many recordings: split into pieces, score them on an engine, join and store the results.

Long recordings are cut into pieces of some ten minutes with the scores of the whole; short recordings are bundled.
Streams, files and pieces share a decoder, which takes the pieces in order.
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
from barn_owl.model.settings import FORMER_NAME, DecodingLike, as_decoding
from barn_owl.names import as_text
from barn_owl.parallel import at_a_time, each, on_cluster
from barn_owl.tag.decoding import EARLIER_RULES, RULES_VERSION, EventDecoder
from barn_owl.tag.event_classifier import Event
from barn_owl.tag.score_trace import save_trace
from barn_owl.tag.scoring import ScoreBlock
from barn_owl.tag.tagging import event_table, warn_of_clip_settings

logger = logging.getLogger(__name__)

BUNDLE = 64
"""Recordings of a bundle at most."""
PLENTY, LONG_S = 32, 7200.0
"""With this many recordings per worker, only recordings longer than this are cut: workers decode whole recordings,
and no scores are sent.
"""
ALONE_S = 3600.0
"""Total length up to which this process does the work: workers take a second to start."""


@dataclass(kw_only=True)
class Archive:
    """Result of tagging many recordings.

    Attributes
    ----------
    done : list[str]
        Recordings that were tagged now or before.
    kept : list[str]
        Recordings that were already finished and were not tagged again.
    skipped : dict[str, str]
        The reason for each that was skipped.
    stopped : bool
        By Ctrl-C, before all were done.
    work : pd.DataFrame
        One row per worker with the ``hours`` of sound it scored, seconds of ``decode``, ``features`` and ``network``,
        and the ``megabytes`` it sent.
    seconds : float
        How long it took in all.
    processed_s : dict[str, float]
        How much of each recording that is done could be read, in seconds.
    tables : dict[str, pd.DataFrame]
        Events by recording, without a store.
    store : Store | None
        Store of the events; None without a store.
    model : str
        Name of the model and its settings in the store.

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
    processed_s: dict[str, float] = field(default_factory=dict, repr=False)
    tables: dict[str, pd.DataFrame] = field(default_factory=dict, repr=False)
    store: Store | None = field(default=None, repr=False)
    model: str = ""

    @property
    def events(self) -> pd.DataFrame:
        """Events of all recordings that are done, in their order; of a store they are read now."""
        return self.events_of(self.done)

    def events_of(self, recordings: Sequence[str]) -> pd.DataFrame:
        """Events of some of the recordings that are done, in that order; of a store these alone are read.

        Parameters
        ----------
        recordings : Sequence[str]
            Some of `done`.
        """
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
    paths = [as_text(str(path)) for path in recordings]
    traces = {} if score_traces is None else trace_files_of(paths, Path(score_traces))
    begin, kept = time.perf_counter(), _finished_before(archive, keeping, paths, traces)
    left = [path for path in paths if path not in kept]
    infos = dict(zip(left, each(_info, list(map(name_of, left)), workers, at_once=BUNDLE), strict=True))
    joiner = _Joiner(archive, model, settings, keeping, traces)
    tally = _Tally(sum(info.duration_s for info in infos.values() if info is not None), progress)
    plenty = len(left) >= PLENTY * at_a_time(workers)
    try:
        failed = _score(joiner, tally, infos, workers, cut_from_s=LONG_S if plenty else 0.0)
        if failed:  # truncated recordings are scored whole, unreadable ones retried
            again = {path: _info(name_of(path)) for path in failed}
            for path, reason in _score(joiner, tally, again, workers, cut_from_s=np.inf).items():
                joiner.skip(path, reason)
    except KeyboardInterrupt:
        archive.stopped = True
    order = {path: number for number, path in enumerate(paths)}
    archive.done.sort(key=order.__getitem__)
    archive.seconds = time.perf_counter() - begin
    archive.work = pd.DataFrame.from_dict(tally.rows, orient="index").rename_axis("worker").reset_index()
    return archive


def _finished_before(
    archive: Archive, keeping: Keeping | None, paths: list[str], traces: Mapping[str, Path]
) -> set[str]:
    """Note the recordings that the store has already, and return them; with traces only where theirs are there."""
    if keeping is not None:
        archive.processed_s = keeping.done_before([path for path in paths if not traces or is_file(traces[path])])
        archive.kept = list(archive.processed_s)
        archive.done += archive.kept
    return set(archive.kept)


def _score(
    joiner: "_Joiner", tally: "_Tally", infos: Mapping[str, AudioInfo | None], workers: int, *, cut_from_s: float
) -> dict[str, str]:
    """Score recordings, those of at least `cut_from_s` in pieces; return the failed ones with the reason."""
    alone = not on_cluster() and (workers == 1 or tally.total_s < ALONE_S)
    decoding = None if joiner.traces else joiner.decoding
    work = partial(score_pieces, model=joiner.model, decoding=decoding, read_ahead=alone and workers > 1)
    pieces = ((joiner.open(path, info, tally, cut_from_s), info) for path, info in infos.items())
    failed: dict[str, str] = {}
    bundles = _bundles(pieces, alone=alone)
    for results in each(work, bundles, 1 if alone else workers, processes=True, lost=lost_pieces):
        for result in results:
            tally.note(result)
            path = result.piece.path
            if path not in failed and not joiner.take(result):
                failed[path] = result.reason
            tally.show()
    return failed


def _bundles(recordings: Iterable[tuple[list[Piece], AudioInfo | None]], *, alone: bool) -> Iterator[list[Piece]]:
    """Bundle short pieces, in order."""
    bundle: list[Piece] = []
    bundled_s = 0.0
    for pieces, info in recordings:
        for piece in pieces:
            length_s = PIECE_S if len(pieces) > 1 else 0.0 if info is None else info.duration_s
            if bundle and (alone or bundled_s + length_s > PIECE_S or len(bundle) == BUNDLE):
                yield bundle
                bundle, bundled_s = [], 0.0
            bundle.append(piece)
            bundled_s += length_s
    if bundle:
        yield bundle


@dataclass
class _Tally:
    """Work done: seconds of sound, and time by worker and stage."""

    total_s: float
    progress: Callable[[float, float], None] | None
    done_s: float = 0.0
    rows: dict[str, dict[str, float]] = field(default_factory=dict)
    flaws: set[str] = field(default_factory=set)

    def note(self, result: PieceResult) -> None:
        """Add a piece; log what is wrong with its recording, once."""
        for flaw in result.flaws:
            if (line := f"{result.piece.path}: {flaw}") not in self.flaws:
                self.flaws.add(line)
                logger.warning(line)
        spent = result.spent
        values = {
            "hours": result.seconds / 3600, "decode": spent.decode_s, "features": spent.features_s,
            "network": spent.network_s, "megabytes": result.bytes / 1e6,
        }  # fmt: skip
        row = self.rows.setdefault(result.worker, dict.fromkeys(values, 0.0))
        for name, value in values.items():
            row[name] += value
        self.done_s += result.seconds

    def show(self) -> None:
        """Report the progress."""
        if self.progress and self.total_s:
            self.progress(min(self.done_s, self.total_s), self.total_s)


@dataclass
class _Open:
    """A recording whose pieces are coming."""

    info: AudioInfo
    decoder: EventDecoder | None
    events: list[Event] = field(default_factory=list)
    blocks: list[ScoreBlock] = field(default_factory=list)
    processed_s: float = 0.0


@dataclass(frozen=True)
class _Joiner:
    """Joins the scores of pieces to the events of recordings, and stores these."""

    archive: Archive
    model: Model
    decoding: DecodingSettings
    keeping: Keeping | None
    traces: Mapping[str, Path]
    opened: dict[str, _Open] = field(default_factory=dict)

    def open(self, path: str, info: AudioInfo | None, tally: _Tally, cut_from_s: float) -> list[Piece]:
        """Begin a recording: return its pieces that are not scored yet."""
        whole = Piece(path=path, name=name_of(path), known=self.keeping is not None)
        if info is None:
            return [whole]
        self.opened[path] = _Open(info, EventDecoder.of(self.model, self.decoding))
        if info.duration_s < cut_from_s:
            return [whole]
        with suppress(AudioError, OSError):  # gone meanwhile, which is reported when its turn comes
            whole = replace(whole, stamp=Excerpt(whole.name).stamp())
        pieces = pieces_of(self.model, whole, info)
        if self.keeping is None or len(pieces) == 1:
            return pieces
        before = self.keeping.scored_before(pieces)
        self._push(self.opened[path], before)
        scored_s = sum(len(block.activity) for block in before) * self.model.step_s
        self.opened[path].processed_s = scored_s
        tally.done_s += scored_s
        return pieces[len(before) :]

    def _push(self, opened: _Open, blocks: Iterable[ScoreBlock]) -> None:
        for block in blocks:
            if opened.decoder is not None:
                opened.events += opened.decoder.push(block)
            if self.traces:
                opened.blocks.append(block)

    def take(self, result: PieceResult) -> bool:
        """Take the result of a piece; return False when its recording cannot be scored."""
        piece, opened = result.piece, self.opened.get(result.piece.path)
        if result.reason or opened is None:
            self.opened.pop(piece.path, None)
            return False
        if result.events is not None:
            opened.events, opened.decoder = result.events, None
        opened.processed_s += result.seconds
        self._push(opened, result.blocks)
        if piece.last:
            self._finish(piece, self.opened.pop(piece.path), result.content)
        elif self.keeping is not None:
            self.keeping.keep_piece(piece, result.blocks)
        return True

    def skip(self, path: str, reason: str) -> None:
        """Note a recording that cannot be scored."""
        self.archive.skipped[path] = reason
        if self.keeping is not None:
            self.keeping.fail(path, reason)

    def _finish(self, piece: Piece, opened: _Open, content: str) -> None:
        """Store the events of a recording that is scored to its end."""
        path, duration_s = piece.path, opened.info.duration_s
        processed_s = min(opened.processed_s, duration_s)
        if duration_s - processed_s < self.model.window_s:  # steps do not fill the last moment
            processed_s = duration_s
        self.archive.processed_s[path] = processed_s
        if opened.decoder is not None:
            opened.events += opened.decoder.finish()
        events = event_table(opened.events, path, duration_s)
        if self.traces:
            save_trace(self.model, opened.blocks, path, duration_s, self.traces[path])
        if self.keeping is None:
            self.archive.tables[path] = events
        else:
            self.keeping.keep(path, content, processed_s, events)
            if piece.chunk:
                self.keeping.drop_pieces(piece)
        self.archive.done.append(path)


def _info(path: str) -> AudioInfo | None:
    """The header of a recording; None where it cannot be read, which is reported when its turn comes."""
    try:
        return audio_info(path)
    except (AudioError, OSError):
        return None


def _known_as(model: Model, decoding: DecodingSettings, store: Store | None) -> str:
    """Return the fingerprint of a model, or its fingerprint with earlier rules if the store has it."""
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
    settings = decoding.model_dump()
    settings[FORMER_NAME] = settings.pop("min_known_probability")  # so that earlier stores know the model
    told = [
        rules, model.labels, model.background, model.ignored, model.front_end.identity(),
        model.clips.model_dump(), model.multilabel, settings,
    ]  # fmt: skip
    digest.update(json.dumps(told, sort_keys=True).encode())
    return digest.hexdigest()
