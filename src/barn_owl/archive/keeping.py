"""Tagging with a store: finished recordings, unfinished pieces, and saving of both."""

import hashlib
import io
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from typing import Any

import numpy as np
import pandas as pd

from barn_owl.archive.entries import UNKNOWN, StoreEntry, StoreQuery, recorder_of
from barn_owl.archive.formats import COLUMNS
from barn_owl.archive.hours import counted_by_hour, recording_start, with_clock
from barn_owl.archive.pieces import Piece
from barn_owl.archive.recordings import name_of
from barn_owl.archive.store import Store
from barn_owl.arrays import read_npz
from barn_owl.audio import Excerpt
from barn_owl.errors import AudioError
from barn_owl.names import as_text
from barn_owl.tag.score_trace import STORED
from barn_owl.tag.scoring import ScoreBlock


class Keeping:
    """A store, restricted to a model and its decoding settings.

    known : what these are known by, SHA-256. starts : when the recordings began; None for what their names or files
    from names or files.
    """

    def __init__(self, store: Store, known: str, starts: Mapping[str, datetime | None] | None) -> None:
        self._store, self._known, self._starts = store, known, starts
        self.model = known[:12]

    def done_before(self, paths: Sequence[str]) -> dict[str, float]:
        """Recordings that are finished, also under another name, and the processed seconds of each."""
        done = [one for one in self._store.recordings(self.model) if not one.reason]
        by_file = {one.file: one for one in done}
        sizes: dict[int, list[StoreEntry]] = {}
        for one in done:
            sizes.setdefault(int(one.stamp[1]) if one.stamp else -1, []).append(one)
        lengths = {path: self._done_s(path, by_file, sizes) for path in paths}
        return {path: length_s for path, length_s in lengths.items() if length_s is not None}

    def _done_s(self, path: str, by_file: dict[str, StoreEntry], sizes: dict[int, list[StoreEntry]]) -> float | None:
        """Processed seconds of a finished recording; None where it is not finished."""
        name = name_of(path)
        try:
            _, size, _ = stamp = Excerpt(name).stamp()
            own = by_file.get(name)
            if own is None or own.stamp != list(stamp):
                # Only files of the same size can be identical, so few are read.
                alike = sizes.get(size, [])
                content = Excerpt(name).content() if alike else ""
                own = next((one for one in alike if one.content == content), None)
        except (AudioError, OSError):
            return None  # reported when its turn comes
        if own is None or not self._store.holds(own):
            return None
        if own.file != name or own.stamp != list(stamp):
            self._keep_as_well(path, own)
        return own.duration_s

    def _keep_as_well(self, path: str, own: StoreEntry) -> None:
        """Keep the events of a recording under the name that it has now as well."""
        parts = list(self._store.batches(StoreQuery(model=own.model, files=(own.file,))))
        events = pd.concat(parts, ignore_index=True) if parts else pd.DataFrame(columns=COLUMNS)
        self.keep(path, own.content, own.duration_s, events[COLUMNS].assign(file=path))

    def keep(self, path: str, content: str, duration_s: float, events: pd.DataFrame) -> None:
        """Save the events of a recording; content : SHA-256 of the recording."""
        recorded = self._entry(path, content, duration_s)
        clocked = with_clock(events, {path: self._start(path)})
        kept = clocked.assign(file=recorded.file, key=recorded.key)
        self._store.add(replace(recorded, events=len(kept), hours=counted_by_hour(kept)), kept)

    def fail(self, path: str, reason: str) -> None:
        """Keep that a recording could not be done, and why."""
        self._store.add(replace(self._entry(path, "", 0.0), reason=as_text(reason)), pd.DataFrame())

    def _entry(self, path: str, content: str, duration_s: float) -> StoreEntry:
        start, name = self._start(path), name_of(path)
        try:
            stamp = list(Excerpt(name).stamp())
        except (AudioError, OSError):
            stamp = []
        return StoreEntry(
            key=hashlib.sha256((content + name + self._known).encode()).hexdigest()[:24], model=self.model, file=name,
            stamp=stamp, content=content, day=UNKNOWN if start is None else start.date().isoformat(),
            recorder=recorder_of(name), begins="" if start is None else start.isoformat(), duration_s=duration_s,
            events=0,
        )  # fmt: skip

    def _start(self, path: str) -> datetime | None:
        return recording_start(path) if self._starts is None else self._starts.get(path)

    # Pieces of an unfinished recording are saved until it is finished.

    def scored_before(self, pieces: Sequence[Piece]) -> list[ScoreBlock]:
        """Return the saved scores of the first pieces of a recording, without its last piece."""
        found: list[ScoreBlock] = []
        for piece in pieces[:-1]:
            kept = self._store.piece(self._part(piece))
            block = None if kept is None else _unpacked(kept)
            if block is None:
                break
            found.append(block)
        return found

    def keep_piece(self, piece: Piece, blocks: Sequence[ScoreBlock]) -> None:
        """Keep the scores of a piece until its recording is finished."""
        self._store.keep_piece(self._part(piece), _packed(blocks))

    def drop_pieces(self, piece: Piece) -> None:
        """Delete the scores of all pieces of the recording that `piece` belongs to."""
        self._store.drop_pieces(self._prefix(piece))

    def _prefix(self, piece: Piece) -> str:
        """Return the common prefix of the names of the pieces of a file in its present version."""
        return hashlib.sha256(repr([self._known, *(piece.stamp or ())]).encode()).hexdigest()[:24]

    def _part(self, piece: Piece) -> str:
        return f"{self._prefix(piece)}-{piece.chunk:08d}.npz"


def _packed(blocks: Sequence[ScoreBlock]) -> bytes:
    """Return consecutive blocks as the bytes of an NPZ file."""
    content = io.BytesIO()
    arrays: dict[str, Any] = {
        stored: np.concatenate([getattr(block, name) for block in blocks]) for name, stored in STORED.items()
    }
    np.savez(content, first=np.array(blocks[0].first), **arrays)
    return content.getvalue()


def _unpacked(content: bytes) -> ScoreBlock | None:
    """Return the block in the bytes of `_packed`; None when they are damaged."""
    try:
        kept = read_npz(io.BytesIO(content))
        return ScoreBlock(int(kept["first"]), **{name: kept[stored] for name, stored in STORED.items()})
    except Exception:  # a ZIP, and arrays inside it, can be damaged in any way: the piece is scored again
        return None
