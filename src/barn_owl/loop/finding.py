"""Places in recordings that sound like an example, without any training.

An example's log-mel spectrogram slides along that of the recording, both as levels above what is quiet around: what
is compared is the cosine between the two patches (normalised correlation). The products are sums of bands of
transforms, so that one inverse transform an example gives the whole of a block (overlap-save; A. Oppenheim and
R. Schafer, "Discrete-Time Signal Processing", section 8.7).
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
import pandas as pd
import scipy

from barn_owl.audio import Excerpt, audio_info, read_audio, stream_audio
from barn_owl.clips import check_clip_table
from barn_owl.errors import AudioError, TableError
from barn_owl.features import FrontEnd
from barn_owl.features.activity import quiet_level, total_db
from barn_owl.features.cache import FrameCache
from barn_owl.parallel import each

FRONT_END = FrontEnd(hop_ms=16.0, pad_short=True)
"""Coarser in time than for training, as half of the frames take half of the time and find as much."""
QUIET_S = 8.0
"""Sound around, whose quiet level counts as background."""
MARGIN_DB, TOP_DB = 3.0, 30.0
"""Levels above the quiet from which on, and up to which, they count."""
LONGEST_S = 4.0
"""Of a longer example its loudest part is taken."""
LEAST_DB = 1.5
"""Mean level above quiet under which a patch counts as having that: in silence anything is like anything."""
CLOSE_DB, FAINT_DB = 12.0, 20.0
"""A clip that is nowhere so far below its loudest is cut close; then what is that far below it counts as quiet."""
HEARD_SHARE = 0.1
"""Share of an example's highest mean level under which its beginning and end are left off."""
SHIFTS = (-1, 0, 1)
"""Bands by which an example is moved up or down, as the same thing sounds a little higher or lower."""
BLOCK = 4096
"""Frames that are transformed at once."""
TOGETHER = 16
"""Examples that are compared at once: their transforms, and their scores along a recording, take memory."""


@dataclass(frozen=True)
class Example:
    """An example: its label and levels above quiet, ``(frames, bands)``."""

    label: str
    levels: np.ndarray


def find_like(
    examples: pd.DataFrame,
    recordings: Sequence[str | Path],
    *,
    most: int = 50,
    least: float = 0.5,
    cache: str | Path | None = None,
    workers: int = 2,
    progress: Callable[[float, float], None] | None = None,
) -> pd.DataFrame:
    """Find the places in recordings that are most like one of the examples.

    examples : a clip table, labelled or not. most : places in all; least : score under which there is none. cache : a
    folder to keep features in, so that the next search is quicker. workers : recordings at a time.

    Returns a table of events, the most alike first: ``file``, ``start_s``, ``end_s``, ``label`` (that of the example,
    or its file's name), ``score`` (0 to 1), ``example`` (its row). Places of one label do not overlap by more than
    half. Raises AudioError when no recording, TableError when no example can be used.

    >>> examples = barn_owl.read_clip_table("clips.csv").query("label == 'hum'").head(2)
    >>> found = barn_owl.find_like(examples, ["night.wav"], most=2, workers=1)
    >>> found["label"].tolist(), sorted(found["start_s"].round())
    (['hum', 'hum'], [2.0, 11.0])
    """
    table = check_clip_table(examples, where="examples")
    known = [example_of(row) for _, row in table.iterrows()]
    if not known:
        raise TableError("there is no example")
    work = partial(_found, examples=known, most=most, least=least, cache=cache)
    tables, refused = [], []
    for done, found in enumerate(each(work, [str(path) for path in recordings], workers), start=1):
        if isinstance(found, str):
            refused.append(found)
        else:
            tables.append(found)
        if progress:
            progress(done, len(recordings))
    if not tables:
        raise AudioError(refused[0] if refused else "there is no recording to look in")
    best = pd.concat(tables).sort_values("score", ascending=False, kind="stable").head(most).reset_index(drop=True)
    best.attrs["refused"] = refused
    return best


def example_of(row: pd.Series) -> Example:
    """Make an example of a row of a clip table: the part of it in which something sounds, above what is quiet around.

    Of an excerpt the recording around it tells what is quiet; of a file the parts of it in which nothing sounds, or,
    where there are none, what is far below its loudest. Raises AudioError when it cannot be read, or nothing in it
    stands out.
    """
    start, end = (None if pd.isna(row.get(name)) else float(row[name]) for name in ("start_s", "end_s"))
    own = _read(row["file"], start, end)
    around = own if start is None and end is None else _read(row["file"], *_wider(row["file"], start, end))
    quiet, loudest = quiet_level(around), own.max()
    if (total_db(around).max() - total_db(quiet[None])[0]) < CLOSE_DB:
        quiet = np.full_like(quiet, loudest - FAINT_DB)
    levels = _above(own, quiet)
    loud = levels.mean(axis=1)
    if not loud.any():
        raise AudioError(f"nothing stands out of what is around it in {_place(row['file'], start, end)}")
    heard = np.flatnonzero(loud > HEARD_SHARE * loud.max())
    levels = levels[heard[0] : heard[-1] + 1]
    most = round(LONGEST_S / FRONT_END.hop_s)
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
    """Levels above the quiet and a margin, blurred: what is nearly at its place counts nearly as much."""
    blurred = scipy.ndimage.uniform_filter1d(frames, 3, axis=0, mode="nearest")
    blurred = scipy.ndimage.correlate1d(blurred, np.array([0.25, 0.5, 0.25], np.float32), axis=1, mode="nearest")
    return np.clip(blurred - quiet - np.float32(MARGIN_DB), 0, np.float32(TOP_DB))


def levels_above_quiet(frames: np.ndarray) -> np.ndarray:
    """Levels of a recording above the quiet of the seconds around, ``(frames, bands)``."""
    size = max(1, round(QUIET_S / FRONT_END.hop_s))
    starts = range(0, len(frames), size)
    quiet = np.stack([quiet_level(frames[max(0, at - size // 2) : at + size + size // 2]) for at in starts])
    middles = np.array([at + size / 2 for at in starts])
    out = np.empty(frames.shape, dtype=np.float32)
    for first in range(0, len(frames), BLOCK):
        # With the frames beside, over which levels are blurred.
        low, end, high = max(0, first - 1), min(first + BLOCK, len(frames)), min(first + BLOCK + 1, len(frames))
        at = np.arange(low, high)
        around = np.stack([np.interp(at, middles, band) for band in quiet.T], axis=1).astype(np.float32)
        out[first:end] = _above(frames[low:high], around)[first - low : end - low]
    return out


def frames_of(path: str, cache: str | Path | None) -> np.ndarray:
    """Frames of a recording, from the cache if they are there."""
    store, excerpt = None if cache is None else FrameCache(cache, FRONT_END), Excerpt(path)
    found = None if store is None else store.find(excerpt)
    if found is not None:
        return found
    blocks = list(FRONT_END.frame_blocks(stream_audio(path, rate_hz=FRONT_END.rate_hz)))
    frames = np.concatenate(blocks) if blocks else np.empty((0, FRONT_END.width), dtype=np.float32)
    if store is not None and len(frames):
        with store.adding() as adding:
            if adding is not None:
                adding.add(excerpt, frames, excerpt.content())
    return frames


def _found(
    path: str, *, examples: Sequence[Example], most: int, least: float, cache: str | Path | None
) -> pd.DataFrame | str:
    """Best places in one recording, or why it cannot be read."""
    try:
        frames = frames_of(path, cache)
    except (AudioError, OSError) as error:
        return str(error)
    rows = []
    if len(frames):
        levels = levels_above_quiet(frames)
        for label in dict.fromkeys(example.label for example in examples):
            own = [number for number, example in enumerate(examples) if example.label == label]
            score, which = _best_of(levels, examples, own)
            rows += [(path, *place, label, *told) for *place, told in _peaks(score, which, examples, most, least)]
    return pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label", "score", "example"])


def likeness(levels: np.ndarray, examples: Sequence[Example]) -> np.ndarray:
    """How like each example it sounds from each frame on: cosines, 0 to 1, ``(examples, frames)``.

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
            floor = LEAST_DB**2 * length * levels.shape[1]
            norm = np.sqrt(np.maximum(energy, floor)) * np.linalg.norm(example.levels)
            out[number, first : first + count] = np.max(products, axis=0) / np.maximum(norm, 1e-9)
    return np.clip(out, 0, 1)


def _patterns(example: Example, size: int) -> list[np.ndarray]:
    """Transforms of an example, moved by some bands, ready to be multiplied with those of a block."""
    moved = []
    for shift in SHIFTS:
        levels = scipy.ndimage.shift(example.levels, (0, shift), order=0)  # zeros come in at the edge
        moved.append(np.conj(scipy.fft.rfft(levels, size, axis=0)).astype(np.complex64))
    return moved


def _best_of(levels: np.ndarray, examples: Sequence[Example], own: list[int]) -> tuple[np.ndarray, np.ndarray]:
    """Likeness of each frame to the most alike of some examples, and the number of that one."""
    score, which = np.full(len(levels), -1.0, dtype=np.float32), np.zeros(len(levels), dtype=np.int32)
    for first in range(0, len(own), TOGETHER):
        numbers = np.array(own[first : first + TOGETHER], dtype=np.int32)
        scores = likeness(levels, [examples[number] for number in numbers])
        best = scores.argmax(axis=0)
        highest = np.take_along_axis(scores, best[None], axis=0)[0]
        which = np.where(highest > score, numbers[best], which)
        score = np.maximum(score, highest)
    return score, which


def _peaks(
    score: np.ndarray, which: np.ndarray, examples: Sequence[Example], most: int, least: float
) -> list[tuple[float, float, tuple[float, int]]]:
    """Best places of one label that do not overlap by more than half, with score and number of the example."""
    inside = scipy.ndimage.maximum_filter1d(score, 3, mode="constant")
    at = np.flatnonzero((score >= inside) & (score >= least))
    found: list[tuple[float, float, tuple[float, int]]] = []
    taken = np.zeros(len(score), dtype=bool)
    for frame in at[np.argsort(-score[at], kind="stable")]:
        number = int(which[frame])
        length = len(examples[number].levels)
        if taken[frame : frame + length].mean() > 0.5:
            continue
        taken[frame : frame + length] = True
        start = frame * FRONT_END.hop_s
        end = start + (length - 1) * FRONT_END.hop_s + FRONT_END.frame_ms / 1000
        found.append((round(start, 3), round(end, 3), (round(float(score[frame]), 4), number)))
        if len(found) >= most:
            break
    return found
