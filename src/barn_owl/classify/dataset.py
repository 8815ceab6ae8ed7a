"""The frames of many clips in one array, and windows of one length drawn from them."""

import logging
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd

from barn_owl.audio import read_audio
from barn_owl.errors import AudioError, TableError
from barn_owl.features import FrontEnd
from barn_owl.features.activity import QUIET_SHARE, lively, window_activity

logger = logging.getLogger(__name__)


@dataclass(frozen=True)
class ClipFrames:
    """Frames of many clips, one after the other.

    frames : float32, shape ``(all frames, features)``; ends : where each clip ends, shape ``(clips,)``.
    """

    frames: np.ndarray
    ends: np.ndarray

    @cached_property
    def starts(self) -> np.ndarray:
        """Where each clip starts, shape ``(clips,)``."""
        return np.concatenate([[0], self.ends[:-1]]).astype(np.int64)

    @property
    def lengths(self) -> np.ndarray:
        """Frames of each clip, shape ``(clips,)``."""
        return np.asarray(self.ends - self.starts)

    def __len__(self) -> int:
        return len(self.ends)

    def __getitem__(self, clip: int) -> np.ndarray:
        return self.frames[self.starts[clip] : self.ends[clip]]

    def take(self, clips: Sequence[int] | np.ndarray) -> "ClipFrames":
        """Return some of the clips, in the order asked for."""
        parts = [self[int(clip)] for clip in clips]
        return ClipFrames(np.concatenate(parts), np.cumsum([len(part) for part in parts]))


def load_frames(
    clips: pd.DataFrame,
    front_end: FrontEnd,
    *,
    workers: int = 2,
    progress: Callable[[int, int], None] | None = None,
) -> tuple[ClipFrames, pd.DataFrame, dict[int, str]]:
    """Read the clips of a table and compute their frames.

    progress : called with the clips done and their number.

    Returns the frames, the rows they belong to (index renewed), and the reason for each row left out, by row
    number of `clips`. A clip is left out when it cannot be read, is shorter than one frame or holds nothing
    but zeros. Raises TableError when no clip is left.
    """

    def load(row: tuple[str, float, float]) -> np.ndarray | str:
        file, start, end = row
        try:
            samples, _ = read_audio(file, rate_hz=front_end.rate_hz, start_s=_given(start), end_s=_given(end))
            if len(samples) and not samples.any():
                return f"{file} holds nothing but zeros"
            return front_end.frames(samples)
        except AudioError as error:
            return str(error) if str(file) in str(error) else f"{file}: {error}"

    rows = list(zip(clips["file"], clips["start_s"], clips["end_s"], strict=True))
    loaded: list[np.ndarray | str] = []
    with ThreadPoolExecutor(workers) as pool:
        for done, result in enumerate(pool.map(load, rows), start=1):
            loaded.append(result)
            if progress:
                progress(done, len(rows))
    skipped = {row: result for row, result in enumerate(loaded) if isinstance(result, str)}
    parts = [result for result in loaded if not isinstance(result, str)]
    if not parts:
        raise TableError(f"none of the {len(clips)} clips can be used; the first: {next(iter(skipped.values()), '')}")
    kept = clips.drop(index=clips.index[list(skipped)]).reset_index(drop=True)
    return ClipFrames(np.concatenate(parts), np.cumsum([len(part) for part in parts])), kept, skipped


def _given(value: float) -> float | None:
    return None if np.isnan(value) else value


def quiet_level(frames: np.ndarray) -> np.ndarray:
    """Level in dB that each band of a clip keeps under for a fifth of the time; float32, ``(bands,)``."""
    return np.quantile(frames, QUIET_SHARE, axis=0).astype(np.float32)


def fill_up(frames: np.ndarray, window: int, fill: str, start: int = 0) -> np.ndarray:
    """Lengthen a clip shorter than `window` frames, with its first frame at frame `start` of the window.

    frames : ``(frames, bands)``. fill : "quiet" puts the clip's own quiet level around it, "repeat" the clip
    itself, over and over. Returns ``(window, bands)``; a clip that is long enough comes back as it is.
    """
    if len(frames) >= window:
        return frames
    at = np.arange(window) - start
    if fill == "repeat":
        return frames[at % len(frames)]
    filled = np.broadcast_to(quiet_level(frames), (window, frames.shape[1])).copy()
    filled[start : start + len(frames)] = frames
    return filled


class WindowDrawer:
    """Draws training windows from clips: where something happens, and never twice the same way.

    Of a clip longer than the window, any position is drawn that holds most of the clip's activity, so that
    the quiet tail of a short sound is not learnt as if it were the sound. A shorter one is put at a random
    place in the window.
    """

    def __init__(self, clips: ClipFrames, window: int, fill: str, levels: slice) -> None:
        self.clips, self.window, self.fill, self.levels = clips, window, fill, levels
        self._places = [self._lively_starts(clip) for clip in range(len(clips))]

    def _lively_starts(self, clip: int) -> np.ndarray:
        frames = self.clips[clip]
        if len(frames) <= self.window:
            return np.arange(self.window - len(frames) + 1)
        return np.flatnonzero(lively(window_activity(frames[:, self.levels], self.window)))

    def draw(self, clips: np.ndarray, rng: np.random.Generator) -> np.ndarray:
        """Draw a window of each of `clips` (numbers); float32, ``(len(clips), window, bands)``, in dB."""
        return np.stack([self._window(int(clip), int(rng.choice(self._places[clip]))) for clip in clips])

    def central(self) -> np.ndarray:
        """Return one window of each clip, the middle one of those that could be drawn."""
        return np.stack([self._window(clip, int(at[len(at) // 2])) for clip, at in enumerate(self._places)])

    def _window(self, clip: int, place: int) -> np.ndarray:
        frames = self.clips[clip]
        if len(frames) < self.window:
            return fill_up(frames, self.window, self.fill, place)
        return frames[place : place + self.window]
