"""Search for sounds similar to an example, without training.

An example's log-mel spectrogram slides along that of the recording, both as levels above the surrounding quiet; the
score is the cosine of the two patches (normalized correlation). Correlations are summed over the transforms of the
bands, so a single inverse transform per example covers a block (overlap-save; A. Oppenheim and R. Schafer,
"Discrete-Time Signal Processing", section 8.7).
"""

import itertools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
import pandas as pd
import scipy

from barn_owl.audio import Excerpt, audio_info, read_audio, stream_audio
from barn_owl.clips import check_clip_table
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import AudioError, TableError
from barn_owl.features import FrontEnd
from barn_owl.features.activity import quiet_level, total_db
from barn_owl.features.cache import FrameCache
from barn_owl.parallel import each

FRONT_END = FrontEnd(hop_ms=16.0, pad_short=True)
"""Log-mel frames of a search: a shorter hop costs more and finds no more."""
QUIET_S = 8.0
"""Length of the sound around a place whose quiet level is its background."""
MARGIN_DB, RANGE_DB = 3.0, 30.0
"""Levels above the background at which they begin to count, and at which they count fully."""
MAX_DURATION_S = 4.0
"""Longest example; of a longer one, the loudest part is searched for."""
MIN_DB = 1.5
"""Mean level above quiet that a patch has at least in the score, since faint patches are similar by chance."""
CLOSE_DB, FAINT_DB = 12.0, 20.0
"""Range of levels up to which a clip counts as cut close, without background; and the level below its maximum that
then stands for the background."""
ACTIVE_SHARE = 0.1
"""Share of the highest mean level of an example below which its beginning and end are dropped."""
SHIFTS = (-1, 0, 1)
"""Shifts of an example along the bands, since the pitch of a sound varies a little."""
BLOCK = 4096
"""Frames that are transformed at once."""
TOGETHER = 16
"""Examples that are compared at once; bounds the memory of their transforms and scores."""

PIECE = 256
"""Stretches of `QUIET_S` in a piece of a recording (30 min), so that memory does not grow with its length."""

_Candidates = tuple[np.ndarray, np.ndarray, np.ndarray]
"""Frames, scores and numbers of examples."""
_NONE: _Candidates = np.empty(0, int), np.empty(0, np.float32), np.empty(0, np.int32)


@dataclass(frozen=True)
class Example:
    """An example: its label and levels above quiet, ``(frames, bands)``."""

    label: str
    levels: np.ndarray


def find_similar(
    examples: TableOrPath,
    recordings: Sequence[str | Path],
    *,
    most: int = 50,
    least: float = 0.5,
    cache: str | Path | None = None,
    workers: int = 2,
    progress: Callable[[float, float], None] | None = None,
) -> pd.DataFrame:
    """Find the stretches of recordings most similar to the examples.

    Parameters
    ----------
    examples : pd.DataFrame
        A clip table, labeled or not.
    recordings : Sequence[str | Path]
        Recordings to search.
    most : int
        Largest number of events in all.
    least : float
        Minimum score of a match.
    cache : str | Path | None
        A folder to keep features in, so that the next search is quicker.
    workers : int
        Recordings at a time.
    progress : Callable[[float, float], None] | None
        Called with the seconds of sound searched and in all.

    Returns
    -------
    pd.DataFrame
        Event table, most similar first: ``file``, ``start_s``, ``end_s``, ``label`` (of the example, or the name of
        its file), ``score`` (0 to 1), ``example`` (its row). Places of a label overlap by at most half.

    Raises
    ------
    AudioError
        If no recording can be read.
    TableError
        If no example can be used.

    Examples
    --------
    >>> examples = barn_owl.read_clip_table("clips.csv").query("label == 'hum'").head(2)
    >>> found = barn_owl.annotation.find_similar(examples, ["night.wav"], most=2, workers=1)
    >>> found["label"].tolist(), sorted(found["start_s"].round())
    (['hum', 'hum'], [2.0, 11.0])
    """
    examples = as_clip_table(examples, "examples")
    table = check_clip_table(examples, where="examples")
    known = [example_of(row) for _, row in table.iterrows()]
    if not known:
        raise TableError("there is no example")
    work = partial(_found, examples=known, most=most, least=least, cache=cache)
    tables, skipped = [], []
    for done, found in enumerate(each(work, [str(path) for path in recordings], workers), start=1):
        if isinstance(found, str):
            skipped.append(found)
        else:
            tables.append(found)
        if progress:
            progress(done, len(recordings))
    if not tables:
        raise AudioError(skipped[0] if skipped else "there is no recording to look in")
    best = pd.concat(tables).sort_values("score", ascending=False, kind="stable").head(most).reset_index(drop=True)
    best.attrs["skipped"] = skipped
    return best


def example_of(row: pd.Series) -> Example:
    """Create an example from a row of a clip table: its active part, above the background around it.

    The background of an excerpt is the recording around it; that of a file, its inactive parts or, without inactive
    parts, frames far below the loudest. Raises AudioError when the file cannot be read, or nothing in it stands out.
    """
    start, end = (None if pd.isna(row.get(name)) else float(row[name]) for name in ("start_s", "end_s"))
    frames = _read(row["file"], start, end)
    around = frames if start is None and end is None else _read(row["file"], *_wider(row["file"], start, end))
    quiet, loudest = quiet_level(around), frames.max()
    if (total_db(around).max() - total_db(quiet[None])[0]) < CLOSE_DB:
        quiet = np.full_like(quiet, loudest - FAINT_DB)
    levels = _above(frames, quiet)
    loud = levels.mean(axis=1)
    if not loud.any():
        raise AudioError(f"nothing stands out of the background in {_place(row['file'], start, end)}")
    active = np.flatnonzero(loud > ACTIVE_SHARE * loud.max())
    levels = levels[active[0] : active[-1] + 1]
    most = round(MAX_DURATION_S / FRONT_END.hop_s)
    if len(levels) > most:
        sums = np.convolve(levels.mean(axis=1), np.ones(most), mode="valid")
        levels = levels[int(sums.argmax()) :][:most]
    return Example(str(row.get("label") or Path(row["file"]).stem), levels)


def _place(file: str, start: float | None, end: float | None) -> str:
    return file if start is None and end is None else f"{file} from {start or 0:g} s to {end or np.inf:g} s"


def _read(file: str, start: float | None, end: float | None) -> np.ndarray:
    samples, _ = read_audio(file, start_s=start, end_s=end, rate_hz=FRONT_END.rate_hz)
    return FRONT_END.frames(samples)


def _wider(file: str, start: float | None, end: float | None) -> tuple[float, float]:
    length = audio_info(file).duration_s
    return max((start or 0.0) - QUIET_S / 2, 0.0), min((length if end is None else end) + QUIET_S / 2, length)


def _above(frames: np.ndarray, quiet: np.ndarray) -> np.ndarray:
    """Return levels above quiet and a margin, blurred, so that small shifts cost little."""
    blurred = scipy.ndimage.uniform_filter1d(frames, 3, axis=0, mode="nearest")
    blurred = scipy.ndimage.correlate1d(blurred, np.array([0.25, 0.5, 0.25], np.float32), axis=1, mode="nearest")
    return np.clip(blurred - quiet - np.float32(MARGIN_DB), 0, np.float32(RANGE_DB))


def levels_above_quiet(frames: np.ndarray) -> np.ndarray:
    """Levels of a recording above the quiet of the seconds around, ``(frames, bands)``."""
    size = max(1, round(QUIET_S / FRONT_END.hop_s))
    starts = range(0, len(frames), size)
    quiet = np.stack([quiet_level(frames[max(0, at - size // 2) : at + size + size // 2]) for at in starts])
    middles = np.array([at + size / 2 for at in starts])
    out = np.empty(frames.shape, dtype=np.float32)
    for first in range(0, len(frames), BLOCK):
        # With adjacent frames, over which levels are blurred.
        low, end, high = max(0, first - 1), min(first + BLOCK, len(frames)), min(first + BLOCK + 1, len(frames))
        at = np.arange(low, high)
        around = np.stack([np.interp(at, middles, band) for band in quiet.T], axis=1).astype(np.float32)
        out[first:end] = _above(frames[low:high], around)[first - low : end - low]
    return out


@dataclass(frozen=True)
class Piece:
    """A piece of a recording: number of its first frame, number of its frames, and levels above quiet, ``(frames,
    bands)``, of the piece and some frames after it.
    """

    first: int
    count: int
    levels: np.ndarray


def pieces_of(path: str, cache: str | Path | None, beyond: int = 0) -> Iterator[Piece]:
    """Yield levels above the surrounding quiet piece by piece, in bounded memory; together equal to
    `levels_above_quiet` of the whole recording.

    beyond : number of frames after the piece that its levels contain as well, at most those of `QUIET_S`.
    """
    size = max(1, round(QUIET_S / FRONT_END.hop_s))
    own, before, behind = PIECE * size, 2 * size, 4 * size
    held, start, at, total = np.empty((0, FRONT_END.width), np.float32), 0, 0, 0
    waiting: list[np.ndarray] = []
    for block in itertools.chain(_frame_blocks(path, cache), [None]):
        if block is not None:
            waiting.append(block)
            total += len(block)
        while at < total and (block is None or total >= at + own + behind):
            held, waiting = np.concatenate([held, *waiting]), []
            count = min(own, total - at)
            levels = levels_above_quiet(held[: at - start + own + behind])
            yield Piece(at, count, levels[at - start :][: count + beyond])
            at += count
            held, start = held[max(0, at - before) - start :], max(0, at - before)


def _frame_blocks(path: str, cache: str | Path | None) -> Iterator[np.ndarray]:
    """Yield frames of a recording in blocks, from the cache if it has them."""
    found = None if cache is None else _cached_frames(path, cache)
    if found is None:
        yield from FRONT_END.frame_blocks(stream_audio(path, rate_hz=FRONT_END.rate_hz))
        return
    for first in range(0, len(found), BLOCK):
        yield found[first : first + BLOCK]


def _cached_frames(path: str, cache: str | Path) -> np.ndarray | None:
    """Return the frames of a recording as a map of the cache, which computes missing frames; None without a usable
    cache."""
    store, excerpt = FrameCache(cache, FRONT_END), Excerpt(path)
    try:
        found = store.find(excerpt)
    except OSError:
        return None  # reading it reports why it cannot be read
    if found is None:
        with store.adding() as adding:
            if adding is not None:
                blocks = FRONT_END.frame_blocks(stream_audio(path, rate_hz=FRONT_END.rate_hz))
                adding.add(excerpt, blocks, excerpt.content())
        found = store.find(excerpt)
    return found


def _found(
    path: str, *, examples: Sequence[Example], most: int, least: float, cache: str | Path | None
) -> pd.DataFrame | str:
    """Return the best places in a recording, or the reason why it cannot be read."""
    labels = dict.fromkeys(example.label for example in examples)
    candidates: dict[str, list[_Candidates]] = {label: [_NONE] for label in labels}
    last, frames = dict.fromkeys(labels, 0.0), 0
    try:
        for piece in pieces_of(path, cache, beyond=max(len(example.levels) for example in examples) + 1):
            for label in labels:
                own = [number for number, example in enumerate(examples) if example.label == label]
                score, which = _best_candidate(piece.levels, examples, own)
                candidates[label].append(_highest(last[label], score, which, piece, least))
                last[label] = float(score[piece.count - 1])
            frames = piece.first + piece.count
    except (AudioError, OSError) as error:
        return str(error)
    rows = []
    for label in labels:
        at, score, which = (np.concatenate(parts) for parts in zip(*candidates[label], strict=True))
        rows += [
            (path, *place, label, *scored) for *place, scored in _peaks(at, score, which, frames, examples, most)
        ]
    return pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label", "score", "example"])


def similarity(levels: np.ndarray, examples: Sequence[Example]) -> np.ndarray:
    """Similarity to each example starting at each frame: cosines, 0 to 1, ``(examples, frames)``.

    levels : ``(frames, bands)``, above the quiet. A patch that reaches over the end is compared as far as it goes.
    """
    longest = max(len(example.levels) for example in examples)
    size = max(BLOCK, scipy.fft.next_fast_len(2 * longest))
    step = size - longest + 1
    patterns = [_patterns(example, size) for example in examples]
    power = np.concatenate([[0.0], np.cumsum(np.einsum("fb,fb->f", levels, levels, dtype=np.float64))])
    out = np.zeros((len(examples), len(levels)), dtype=np.float32)
    for first in range(0, len(levels), step):
        block = levels[first : first + size]
        spectra = scipy.fft.rfft(block, size, axis=0)
        count = min(step, len(levels) - first)
        at = np.arange(first, first + count)
        for number, (example, own) in enumerate(zip(examples, patterns, strict=True)):
            length = len(example.levels)
            products = [scipy.fft.irfft(np.einsum("fb,fb->f", spectra, one), size)[:count] for one in own]
            energy = power[np.minimum(at + length, len(levels))] - power[at]
            floor = MIN_DB**2 * length * levels.shape[1]
            norm = np.sqrt(np.maximum(energy, floor)) * np.linalg.norm(example.levels)
            out[number, first : first + count] = np.max(products, axis=0) / np.maximum(norm, 1e-9)
    return np.clip(out, 0, 1)


def _patterns(example: Example, size: int) -> list[np.ndarray]:
    """Return the transforms of an example, shifted by some bands, to multiply with the transforms of a block."""
    moved = []
    for shift in SHIFTS:
        levels = scipy.ndimage.shift(example.levels, (0, shift), order=0)  # zeros come in at the edge
        moved.append(np.conj(scipy.fft.rfft(levels, size, axis=0)).astype(np.complex64))
    return moved


def _best_candidate(levels: np.ndarray, examples: Sequence[Example], own: list[int]) -> tuple[np.ndarray, np.ndarray]:
    """Return the similarity of each frame to the most similar example, and the number of the example."""
    score, which = np.full(len(levels), -1.0, dtype=np.float32), np.zeros(len(levels), dtype=np.int32)
    for first in range(0, len(own), TOGETHER):
        numbers = np.array(own[first : first + TOGETHER], dtype=np.int32)
        scores = similarity(levels, [examples[number] for number in numbers])
        best = scores.argmax(axis=0)
        highest = np.take_along_axis(scores, best[None], axis=0)[0]
        which = np.where(highest > score, numbers[best], which)
        score = np.maximum(score, highest)
    return score, which


def _highest(before: float, score: np.ndarray, which: np.ndarray, piece: Piece, least: float) -> _Candidates:
    """Frames of a piece where similarity to an example has a local maximum; their scores and
    examples. before : the score of the frame before the piece.
    """
    beside = np.concatenate([[before], score, [0]])
    is_highest = (score >= beside[:-2]) & (score >= beside[2:]) & (score >= least)
    at = np.flatnonzero(is_highest[: piece.count])
    return piece.first + at, score[at], which[at]


def _peaks(
    at: np.ndarray, score: np.ndarray, which: np.ndarray, frames: int, examples: Sequence[Example], most: int
) -> list[tuple[float, float, tuple[float, int]]]:
    """Return the best places of a label, overlapping by at most half, with score and number of the example."""
    found: list[tuple[float, float, tuple[float, int]]] = []
    taken = np.zeros(frames, dtype=bool)
    for candidate in np.argsort(-score, kind="stable"):
        frame, number = int(at[candidate]), int(which[candidate])
        length = len(examples[number].levels)
        if taken[frame : frame + length].mean() > 0.5:
            continue
        taken[frame : frame + length] = True
        start = frame * FRONT_END.hop_s
        end = start + (length - 1) * FRONT_END.hop_s + FRONT_END.frame_ms / 1000
        found.append((round(start, 3), round(end, 3), (round(float(score[candidate]), 4), number)))
        if len(found) >= most:
            break
    return found
