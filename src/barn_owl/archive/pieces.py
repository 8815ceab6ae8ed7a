"""Pieces of recordings: the unit of work of a worker, and its result."""

import os
import socket
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from barn_owl.audio import AudioInfo, Excerpt
from barn_owl.errors import AudioError
from barn_owl.model import DecodingSettings, Model
from barn_owl.tag.decoding import EventDecoder
from barn_owl.tag.event_classifier import Event
from barn_owl.tag.scoring import CHUNK, ScoreBlock, StageTimes, chunk_s, score_recording

PIECE_S = 600.0
"""Length of a piece of a recording, and of a bundle of short recordings: a few seconds of work."""
EXACT = ("WAV", "WAVEX", "RF64", "W64", "FLAC", "AIFF", "CAF", "AU")
"""Formats with exact random access; recordings in further formats are scored whole."""
TRUNCATED = "broke off"
"""Reason for a piece that is shorter than the header of its file states; the recording is then scored whole."""


@dataclass(frozen=True, kw_only=True)
class Piece:
    """Some or all chunks of a recording; `name` is the path or URL to open."""

    path: str
    name: str
    chunk: int = 0
    until: int | None = None
    last: bool = True
    stamp: tuple[str, int, int] | None = None  # of the file when it was cut
    known: bool = False  # whether the SHA-256 of its content is needed


@dataclass(kw_only=True)
class PieceResult:
    """Result of a piece: scores, or the reason for their absence."""

    piece: Piece
    blocks: list[ScoreBlock] = field(default_factory=list)
    events: list[Event] | None = None
    spent: StageTimes = field(default_factory=StageTimes)
    seconds: float = 0.0
    content: str = ""
    reason: str = ""
    worker: str = ""
    flaws: list[str] = field(default_factory=list)

    @property
    def bytes(self) -> int:
        """Bytes that the worker sent."""
        return sum(block.activity.nbytes + block.onsets.nbytes + block.label_logits.nbytes for block in self.blocks)


def score_pieces(
    pieces: Sequence[Piece], *, model: Model, decoding: DecodingSettings | None, read_ahead: bool = False
) -> list[PieceResult]:
    """Score pieces in this process or a worker; whole recordings are decoded at once if `decoding` is given."""
    return [_scored(piece, model, decoding, read_ahead=read_ahead) for piece in pieces]


def _scored(piece: Piece, model: Model, decoding: DecodingSettings | None, *, read_ahead: bool) -> PieceResult:
    result = PieceResult(piece=piece, worker=f"{socket.gethostname()}:{os.getpid()}")
    try:
        before = piece.stamp or Excerpt(piece.name).stamp()
        blocks = score_recording(
            model,
            piece.name,
            chunk=piece.chunk,
            until=piece.until,
            read_ahead=read_ahead,
            spent=result.spent,
            flaws=result.flaws,
        )
        if decoding is not None and not piece.chunk and piece.last:
            decoder = EventDecoder.of(model, decoding)
            steps, result.events = 0, []
            for block in blocks:
                steps += len(block.activity)
                result.events += decoder.push(block)
            result.events += decoder.finish()
        else:
            result.blocks = list(blocks)
            steps = sum(len(block.activity) for block in result.blocks)
            if piece.until is not None and steps < (piece.until - piece.chunk) * CHUNK:
                result.reason = TRUNCATED
        result.seconds = steps * model.step_s
        if piece.known:
            result.content = Excerpt(piece.name).content()
        if Excerpt(piece.name).stamp() != before:
            result.reason = f"{piece.name} was changed while it was read; try again when it is complete"
    except AudioError as error:
        result.reason = str(error)
    except OSError as error:
        result.reason = f"{piece.name}: {error.strerror or error}"
    if result.reason:
        result.blocks, result.events = [], None
    return result


def pieces_of(model: Model, whole: Piece, info: AudioInfo | None) -> list[Piece]:
    """Cut a recording into pieces of about `PIECE_S`, the last one longer, unless its format has no random access."""
    chunks = max(1, round(PIECE_S / chunk_s(model)))
    # Rows of custom features lie on a grid from the beginning of the recording.
    if info is None or info.format not in EXACT or model.front_end.custom:
        return [whole]
    count = int(info.duration_s / (chunks * chunk_s(model)))
    if count < 2:
        return [whole]
    pieces = [
        replace(whole, chunk=number * chunks, until=(number + 1) * chunks, last=False, known=False)
        for number in range(count)
    ]
    pieces[-1] = replace(pieces[-1], until=None, last=True, known=whole.known)
    return pieces


def lost_pieces(pieces: Sequence[Piece]) -> list[PieceResult]:
    """Message for pieces that killed several workers."""
    return [
        PieceResult(piece=one, reason=f"{one.path}: worker after worker died while it was read") for one in pieces
    ]
