"""The frames of many clips, and windows of one length drawn from them."""

from collections.abc import Callable, Iterable, Sequence
from contextlib import nullcontext
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
import pandas as pd
from threadpoolctl import threadpool_limits

from barn_owl.classify.plan import ClipSettings
from barn_owl.clips import UniformSettings
from barn_owl.clips.uniform import read_uniform
from barn_owl.errors import AudioError, TableError
from barn_owl.features import FrontEnd
from barn_owl.features.activity import QUIET_SHARE, lively, window_activity
from barn_owl.features.cache import Excerpt, FrameCache, excerpts
from barn_owl.parallel import each

FILES_AT_ONCE = 8
"""Files that a worker takes at once: handing out one by one holds the workers up."""


@dataclass(frozen=True)
class ClipFrames:
    """Frames of many clips, each float32, ``(frames, features)``; they may be maps of a file on disk."""

    parts: list[np.ndarray]

    def __len__(self) -> int:
        return len(self.parts)

    def __getitem__(self, clip: int) -> np.ndarray:
        return self.parts[clip]

    def take(self, clips: Sequence[int] | np.ndarray) -> "ClipFrames":
        """Return some of the clips, in the order asked for."""
        return ClipFrames([self.parts[int(clip)] for clip in clips])


def load_frames(
    clips: pd.DataFrame,
    front_end: FrontEnd,
    settings: UniformSettings | None = None,
    *,
    workers: int = 2,
    cache: str | Path | None = None,
    progress: Callable[[int, int], None] | None = None,
) -> tuple[ClipFrames, pd.DataFrame, dict[int, str]]:
    """Read the clips of a table and compute their frames.

    settings : how the samples are made uniform first; None for as they are.
    cache : a folder to keep the frames in, so that they are computed once; see `barn_owl.features.cache`.
    progress : called with the clips done and their number.

    Returns the frames, the rows they belong to (index renewed), and the reason for each row left out, by row
    number of `clips`. A clip is left out when it cannot be read, is shorter than one frame or holds nothing
    but zeros. Raises TableError when no clip is left.
    """
    # What concerns frames only, such as the length of windows, changes nothing here.
    settings = UniformSettings(
        **(settings or UniformSettings()).model_dump(include=set(UniformSettings.model_fields))
    )
    sound = "" if settings == UniformSettings() else settings.model_dump_json()
    asked = excerpts(clips["file"], clips["start_s"], clips["end_s"])
    store = FrameCache(cache, front_end, sound) if cache is not None else None
    loaded: list[np.ndarray | str | None] = [_found(store, excerpt) for excerpt in asked]
    missing = [row for row, frames in enumerate(loaded) if frames is None]
    done = len(asked) - len(missing)
    if progress and done:
        progress(done, len(asked))
    with (
        threadpool_limits(limits=1, user_api="blas"),
        store.adding() if store is not None and missing else nullcontext() as adding,
    ):
        work = partial(_computed_and_known, front_end=front_end, settings=settings, known=adding is not None)
        results = each(work, [asked[row] for row in missing], workers, at_once=FILES_AT_ONCE)
        for row, (result, sha256) in zip(missing, results, strict=True):
            if adding is not None and sha256:
                # Read back from the map below, so that memory does not fill up.
                adding.add(asked[row], result, sha256)
            else:
                loaded[row] = result
            done += 1
            if progress:
                progress(done, len(asked))
    # What was just added is found now; computed again only when the cache could not keep it.
    for row in missing:
        if loaded[row] is None:
            found = _found(store, asked[row])
            loaded[row] = _computed(asked[row], front_end, settings) if found is None else found
    skipped = {row: result for row, result in enumerate(loaded) if isinstance(result, str)}
    # Plain arrays over the maps: each window cut from a map as such costs several times more.
    parts = [np.asarray(result) for result in loaded if isinstance(result, np.ndarray)]
    if not parts:
        raise TableError(f"none of the {len(clips)} clips can be used; the first: {next(iter(skipped.values()), '')}")
    kept = clips.drop(index=clips.index[list(skipped)]).reset_index(drop=True)
    return ClipFrames(parts), kept, skipped


def _found(store: FrameCache | None, excerpt: Excerpt) -> np.ndarray | None:
    try:
        return None if store is None else store.find(excerpt)
    except OSError:
        return None  # reading it will say what is wrong


def _computed_and_known(
    excerpt: Excerpt, front_end: FrontEnd, settings: UniformSettings, *, known: bool
) -> tuple[np.ndarray | str, str]:
    """Compute the frames of an excerpt, or say why that cannot be done, and by what its file is known again."""
    frames = _computed(excerpt, front_end, settings)
    try:
        return frames, excerpt.content() if known and not isinstance(frames, str) else ""
    except OSError:
        return frames, ""  # gone since it was read: used now, but not kept


def _computed(excerpt: Excerpt, front_end: FrontEnd, settings: UniformSettings) -> np.ndarray | str:
    """Compute the frames of an excerpt, or say why that cannot be done."""
    file = excerpt.file
    try:
        return front_end.frames(read_uniform(excerpt, front_end.rate_hz, settings))
    except AudioError as error:
        return str(error) if file in str(error) else f"{file}: {error}"


def chosen_windows(levels: np.ndarray, window: int, step: int, crop: str) -> np.ndarray:
    """Tell which windows of a clip count, one every `step` frames; boolean. See `ClipSettings` for `crop`.

    levels : columns that tell when something sounds, ``(frames, bands)``, at least `window` frames.
    """
    weights = window_activity(levels, window, step)
    if crop == "lively":
        return lively(weights, window)
    if crop == "random":
        return np.ones(len(weights), dtype=bool)
    at = {"start": 0, "centre": (len(weights) - 1) // 2, "loudest": int(weights.argmax())}[crop]
    return np.arange(len(weights)) == at


def quiet_level(frames: np.ndarray) -> np.ndarray:
    """Level in dB that each band of a clip keeps under for a fifth of the time; float32, ``(bands,)``."""
    return np.quantile(frames, QUIET_SHARE, axis=0).astype(np.float32)


def fill_up(frames: np.ndarray, window: int, fill: str, silence: np.ndarray, start: int = 0) -> np.ndarray:
    """Lengthen a clip shorter than `window` frames, with its first frame at frame `start` of the window.

    frames : ``(frames, bands)``. fill : "quiet" puts the clip's own quiet level around it, "zeros" the frame of
    `silence`, shape ``(bands,)``, "repeat" the clip itself, over and over, "reflect" the clip back and forth. Returns
    ``(window, bands)``; a clip that is long enough comes back as it is.
    """
    if len(frames) >= window:
        return frames
    at = np.arange(window) - start
    if fill == "repeat":
        return frames[at % len(frames)]
    if fill == "reflect":
        turn = at % (2 * len(frames))
        return frames[np.minimum(turn, 2 * len(frames) - 1 - turn)]
    around = quiet_level(frames) if fill == "quiet" else silence
    filled = np.broadcast_to(around, (window, frames.shape[1])).copy()
    filled[start : start + len(frames)] = frames
    return filled


class WindowDrawer:
    """Draws training windows from clips: where something happens, and never twice the same way.

    Of a clip longer than the window, any position is drawn that holds most of the clip's activity, so that
    the quiet tail of a short sound is not learnt as if it were the sound. A shorter one is put at a random
    place in the window.
    """

    def __init__(self, clips: ClipFrames, window: int, settings: ClipSettings, front_end: FrontEnd) -> None:
        self.clips, self.window, self.fill, self.crop = clips, window, settings.fill, settings.crop
        self.levels, self.silence = front_end.level_columns, front_end.silence
        self._places = [self._starts(clip) for clip in range(len(clips))]

    def replace(self, clip: int, frames: np.ndarray) -> None:
        """Put other frames in the place of a clip, such as those of the sound changed."""
        self.clips.parts[clip] = frames
        self._places[clip] = self._starts(clip)

    def _starts(self, clip: int) -> np.ndarray:
        frames = self.clips[clip]
        if len(frames) <= self.window:
            return np.arange(self.window - len(frames) + 1)
        return np.flatnonzero(chosen_windows(frames[:, self.levels], self.window, 1, self.crop))

    def draw(self, clips: np.ndarray, rng: np.random.Generator) -> np.ndarray:
        """Draw a window of each of `clips` (numbers); float32, ``(len(clips), window, bands)``, in dB."""
        return np.stack([self._window(int(clip), int(rng.choice(self._places[clip]))) for clip in clips])

    def central(self, clips: Iterable[int] | None = None) -> np.ndarray:
        """Return one window of each of `clips` (all), the middle one of those that could be drawn."""
        chosen = range(len(self.clips)) if clips is None else clips
        return np.stack([self._window(int(clip), self._middle(int(clip))) for clip in chosen])

    def _middle(self, clip: int) -> int:
        return int(self._places[clip][len(self._places[clip]) // 2])

    def _window(self, clip: int, place: int) -> np.ndarray:
        frames = self.clips[clip]
        if len(frames) < self.window:
            return fill_up(frames, self.window, self.fill, self.silence, place)
        return frames[place : place + self.window]
