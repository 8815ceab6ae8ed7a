"""Cutting long recordings into clips: single takes, fixed windows, and gaps between annotated events."""

from collections import deque
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pandas as pd

from barn_owl.audio import audio_info, stream_audio
from barn_owl.audio.silence import two_threshold_runs
from barn_owl.clips.completeness import truth_within
from barn_owl.clips.table import TableOrPath, as_clip_table, check_clip_table
from barn_owl.clips.takes import TakeSettings
from barn_owl.clips.within import check_within
from barn_owl.clips.writing import MICRO
from barn_owl.errors import AudioError, TableError
from barn_owl.features import FrontEnd

QUIET_SHARE = 0.25
BLOCK_FRAMES, NEIGHBOR_BLOCKS = 1000, 3
"""Quiet is estimated in blocks of 5 s, as the quietest block within 15 s."""
RISE_FRAMES, SEARCHED_FRAMES, RISE_SHARE = 2, 10, 0.5
MARGIN_S = 0.02
"""Exemplar free between an event and the edge of its clip, where there is room."""


def find_takes(
    path: str | Path, settings: TakeSettings | None = None, *, label: str = "", seed: int = 0
) -> pd.DataFrame:
    """Find single events in a recording of repeated takes, with a clip of fixed length around each.

    Each band is compared with its quiet nearby, so hum, hiss and slow changes do not count. The event is at a random
    place of its clip (by `seed`), without neighboring events where possible. Memory grows by four bytes every 5 ms,
    not with the sound.

    Parameters
    ----------
    path : str | Path
        Recording.
    settings : TakeSettings | None
        Thresholds and lengths. Default: `TakeSettings()`.
    label : str
        Label of the clips.
    seed : int
        Seed of all random choices.

    Returns
    -------
    pd.DataFrame
        A clip table with the columns ``onset_s`` and ``offset_s`` of the event; empty when nothing stands out.

    Raises
    ------
    AudioError
        If the recording cannot be read or is shorter than a clip.

    Examples
    --------
    >>> takes = barn_owl.clips.find_takes("night.wav", barn_owl.clips.TakeSettings(length_s=0.5), label="sound")
    >>> list(takes["label"].unique())
    ['sound']
    """
    settings, info = settings or TakeSettings(), audio_info(path)
    if info.duration_s < settings.length_s:
        raise AudioError(
            f"{path} is {info.duration_s:.3g} s long, shorter than the clips of {settings.length_s:g} s requested"
        )
    front_end = _front_end(info.rate_hz)
    level = np.concatenate([*_level_above_quiet(path, front_end)])
    events = _events(level, front_end, settings)
    starts = _starts(events, settings, info.duration_s, np.random.default_rng(seed))
    for number in np.flatnonzero(events[:, 1] - events[:, 0] > settings.length_s):
        starts[number] = _with_sound(starts[number], events[number], level, front_end.hop_s, settings.length_s)
    times = {"start_s": starts, "end_s": starts + settings.length_s}
    found = pd.DataFrame(
        {"file": str(path), **times, "label": label, "onset_s": events[:, 0], "offset_s": events[:, 1]}
    )
    return check_clip_table(found.round(MICRO))


def _front_end(rate_hz: int) -> FrontEnd:
    rate_hz = min(rate_hz, 32_000)
    return FrontEnd(rate_hz=rate_hz, frame_ms=20, hop_ms=5, bands=24, low_hz=min(80, rate_hz / 20))


def _level_above_quiet(path: str | Path, front_end: FrontEnd) -> Iterator[np.ndarray]:
    """Yield the level of each frame above the quiet, in dB, mean over bands; in blocks."""
    around: deque[np.ndarray] = deque()
    quiets: deque[np.ndarray] = deque()
    given = 0
    for frames in _blocks(path, front_end):
        around.append(frames)
        quiets.append(_quiet(frames, front_end))
        if len(around) > NEIGHBOR_BLOCKS:
            yield _above(around[given], quiets)
            given += 1
        if given > NEIGHBOR_BLOCKS:
            around.popleft()
            quiets.popleft()
            given -= 1
    for frames in list(around)[given:]:
        yield _above(frames, quiets)


def _quiet(frames: np.ndarray, front_end: FrontEnd) -> np.ndarray:
    """Level that each band is under for a quarter of the time; infinite for nothing but digital silence.

    Digital silence, from a dropout or before a recording begins, is not the quiet of the place.
    """
    sounding = frames[frames.max(axis=1) > front_end.floor_db + 1]
    return np.quantile(sounding, QUIET_SHARE, axis=0) if len(sounding) else np.full(frames.shape[1], np.inf)


def _above(frames: np.ndarray, quiets: "deque[np.ndarray]") -> np.ndarray:
    quiet = np.min(quiets, axis=0).astype(np.float32)
    return np.maximum(frames - quiet, 0).mean(axis=1)


def _blocks(path: str | Path, front_end: FrontEnd) -> Iterator[np.ndarray]:
    kept = np.empty((0, front_end.width), dtype=np.float32)
    for frames in front_end.frame_blocks(stream_audio(path, rate_hz=front_end.rate_hz)):
        kept = np.concatenate([kept, frames])
        while len(kept) >= 2 * BLOCK_FRAMES:  # the last block is never much shorter
            yield kept[:BLOCK_FRAMES]
            kept = kept[BLOCK_FRAMES:]
    if len(kept):
        yield kept


def _events(level: np.ndarray, front_end: FrontEnd, settings: TakeSettings) -> np.ndarray:
    """Onset and offset of each event in seconds, shape ``(events, 2)``."""
    # Fluctuations of the background are above its quantile, too, but no events.
    base = float(np.quantile(level, QUIET_SHARE))
    runs = two_threshold_runs(level, base + settings.threshold_db, base + settings.release_db)
    gap, shortest = settings.max_gap_s / front_end.hop_s, settings.min_duration_s / front_end.hop_s
    if len(runs):
        apart = runs[1:, 0] - runs[:-1, 1] > gap
        runs = np.stack([runs[np.r_[True, apart], 0], runs[np.r_[apart, True], 1]], axis=1)
        runs = runs[runs[:, 1] - runs[:, 0] >= shortest]
    if not len(runs):
        return np.empty((0, 2))
    # Where the level rises first and half as fast as it ever does near there.
    rise = np.zeros(len(level))
    rise[RISE_FRAMES:-RISE_FRAMES] = level[2 * RISE_FRAMES :] - level[: -2 * RISE_FRAMES]
    onsets = []
    for first in runs[:, 0]:
        begin = max(first - SEARCHED_FRAMES, 0)
        near = rise[begin : first + SEARCHED_FRAMES]
        onsets.append(begin + int(np.argmax(near >= RISE_SHARE * near.max())))
    # On a logarithmic scale a frame rises when the event reaches its end, and falls when it leaves its middle.
    frame_s = front_end.frame / front_end.rate_hz
    return np.stack(
        [np.array(onsets) * front_end.hop_s + frame_s, runs[:, 1] * front_end.hop_s + frame_s / 2], axis=1
    )


def _starts(events: np.ndarray, settings: TakeSettings, duration_s: float, rng: np.random.Generator) -> np.ndarray:
    """Where the clip of each event begins."""
    length, last = settings.length_s, duration_s - settings.length_s
    before = np.r_[0.0, events[:-1, 1]]
    after = np.r_[events[1:, 0], duration_s]
    starts = np.empty(len(events))
    for number, (onset, offset) in enumerate(events):
        free = length - (offset - onset)
        # From the event at the end of the clip to the event at its beginning; a longer event is cut inside it.
        low, high = sorted((onset - free + MARGIN_S * (free > 0), onset - MARGIN_S * (free > 0)))
        if free > 0 and before[number] <= after[number] - length:
            low, high = max(low, before[number]), min(high, after[number] - length)
            low, high = min(low, high), max(low, high)
        share = {"random": rng.random(), "start": 1.0 if free > 0 else 0.0, "center": 0.5}[settings.place]
        starts[number] = np.clip(low + share * (high - low), 0, last)
    return starts


def _with_sound(start: float, event: np.ndarray, level: np.ndarray, hop_s: float, length_s: float) -> float:
    """Move a clip within a longer event, to the nearest place with half the level of the best place."""
    first, size = round(event[0] / hop_s), max(1, round(length_s / hop_s))
    total = np.concatenate([[0.0], np.cumsum(level[first : round(event[1] / hop_s) + 1], dtype=np.float64)])
    held = total[size:] - total[:-size]
    if not len(held):
        return start
    places = event[0] + np.flatnonzero(held >= held.max() / 2) * hop_s
    return float(places[np.abs(places - start).argmin()])


def cut_windows(path: str | Path, length_s: float, *, step_s: float | None = None, label: str = "") -> pd.DataFrame:
    """Cut a recording into windows of equal length, every `step_s` (None: without overlap); a clip table.

    The rest at the end is dropped.

    Parameters
    ----------
    path : str | Path
        Recording.
    length_s : float
        Length of a clip in seconds.
    step_s : float | None
        Time between windows in seconds. Default: `length_s`.
    label : str
        Label of the clips.

    Raises
    ------
    AudioError
        If the recording is shorter than a window.

    Examples
    --------
    >>> len(barn_owl.clips.cut_windows("night.wav", 2.0, step_s=1.0))
    13
    """
    info = audio_info(path)
    step_s = step_s or length_s
    count = int((info.duration_s - length_s) / step_s + 1e-9) + 1 if info.duration_s >= length_s else 0
    if not count:
        raise AudioError(f"{path} is {info.duration_s:.3g} s long, shorter than one window of {length_s:g} s")
    starts = np.arange(count) * step_s
    return check_clip_table(
        pd.DataFrame({"file": str(path), "start_s": starts, "end_s": starts + length_s, "label": label})
    )


def draw_background(
    truth: TableOrPath,
    length_s: float,
    count: int,
    *,
    margin_s: float = 0.2,
    label: str = "background",
    seed: int = 0,
) -> pd.DataFrame:
    """Draw excerpts without events from annotated recordings; a clip table.

    Parameters
    ----------
    truth : pd.DataFrame
        A clip table of events. If it states complete stretches, excerpts are within these.
    length_s : float
        Length of a clip in seconds.
    count : int
        Number of excerpts.
    margin_s : float
        Margin around events that stays free. The excerpts do not overlap and are drawn evenly over the free time.
    label : str
        Label of the clips.
    seed : int
        Seed of all random choices.

    Raises
    ------
    TableError
        If less than `count` fit.

    Examples
    --------
    >>> truth = barn_owl.read_clip_table("truth.csv")
    >>> len(barn_owl.clips.draw_background(truth, 0.5, 3))
    3
    """
    truth = as_clip_table(truth, "truth")
    free: list[tuple[str, float]] = []
    lengths = {file: audio_info(file).duration_s for file in truth["file"].unique()}
    check_within(truth, lengths, where="truth table")
    for file, events in truth_within(truth, lengths).groupby("file", sort=False):
        # A blank start or end is that of the file.
        order = events.fillna({"start_s": 0.0, "end_s": np.inf}).sort_values("start_s")
        covered = np.maximum.accumulate(np.r_[0.0, order["end_s"].to_numpy() + margin_s])
        ends = np.r_[order["start_s"].to_numpy() - margin_s, lengths[file]]
        for begin, end in zip(covered, ends, strict=True):
            slots = int((end - begin) / length_s) if end - begin >= length_s else 0
            spare = (end - begin) - slots * length_s
            free += [(str(file), begin + spare * (slot + 1) / (slots + 1) + slot * length_s) for slot in range(slots)]
    if len(free) < count:
        raise TableError(
            f"only {len(free)} excerpts of {length_s:g} s fit between the events; ask for fewer or shorter ones"
        )
    chosen = sorted(free[n] for n in np.random.default_rng(seed).permutation(len(free))[:count])
    starts = np.array([start for _, start in chosen])
    return check_clip_table(
        pd.DataFrame(
            {"file": [f for f, _ in chosen], "start_s": starts, "end_s": starts + length_s, "label": label}
        ).round(MICRO)
    )
