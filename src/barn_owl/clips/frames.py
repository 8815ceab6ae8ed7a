"""Feature frames of many clips."""

import math
from collections.abc import Callable, Sequence
from contextlib import nullcontext
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from threadpoolctl import threadpool_limits

from barn_owl.audio import Excerpt, excerpts
from barn_owl.errors import AudioError, TableError
from barn_owl.features import FrontEnd
from barn_owl.features.cache import FrameCache
from barn_owl.parallel import each
from barn_owl.sound import UniformSettings, read_preprocessed

if TYPE_CHECKING:  # pandas takes a third of the start of a process that trains a network
    import pandas as pd

    from barn_owl.clips.table import TableOrPath

FILES_PER_TASK = 8
"""Files per task of a worker; single files would keep workers waiting."""


@dataclass(frozen=True)
class ClipFrames:
    """Frames of many clips, each float32, ``(frames, features)``, possibly memory-mapped.

    Attributes
    ----------
    parts : list[np.ndarray]
        Frames of each clip.
    """

    parts: list[np.ndarray]

    def __len__(self) -> int:
        return len(self.parts)

    def __getitem__(self, clip: int) -> np.ndarray:
        return self.parts[clip]

    def take(self, clips: Sequence[int] | np.ndarray) -> "ClipFrames":
        """Return some of the clips, in the order requested.

        Parameters
        ----------
        clips : Sequence[int] | np.ndarray
            Numbers of clips.
        """
        return ClipFrames([self.parts[int(clip)] for clip in clips])

    def __reduce__(self) -> tuple[Any, ...]:
        """Pickle places on disk instead of frames, where possible: the frames may be larger than memory."""
        return _elsewhere, ([_place(part) for part in self.parts],)


def _place(part: np.ndarray) -> np.ndarray | tuple[str, int, tuple[int, ...]]:
    """File, place of the first byte and shape of frames that are a map of a file; else the frames."""
    whole: np.memmap | None = None
    above: Any = part
    while isinstance(above, np.ndarray):
        whole, above = above if isinstance(above, np.memmap) else whole, above.base
    if whole is None or not isinstance(whole.filename, str | Path) or not part.flags.c_contiguous:
        return part
    first = part.__array_interface__["data"][0] - whole.__array_interface__["data"][0]
    return str(whole.filename), whole.offset + first, part.shape


def _elsewhere(places: list[np.ndarray | tuple[str, int, tuple[int, ...]]]) -> ClipFrames:
    """Create the frames of clips from the result of `_place`."""
    files = {place[0] for place in places if isinstance(place, tuple)}
    maps = {file: np.asarray(np.memmap(file, dtype=np.uint8, mode="r")) for file in files}
    parts = []
    for place in places:
        if isinstance(place, tuple):
            file, first, shape = place
            size = 4 * math.prod(shape)
            parts.append(maps[file][first : first + size].view(np.float32).reshape(shape))
        else:
            parts.append(place)
    return ClipFrames(parts)


def load_frames(
    clips: "TableOrPath",
    front_end: FrontEnd,
    settings: UniformSettings | None = None,
    *,
    workers: int = 2,
    cache: str | Path | None = None,
    progress: Callable[[int, int], None] | None = None,
) -> "tuple[ClipFrames, pd.DataFrame, dict[int, str]]":
    """Compute the frames of the clips of a table.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    front_end : FrontEnd
        Front end.
    settings : UniformSettings | None
        Preprocessing of the samples. None: no change.
    workers : int
        Number of parallel workers.
    cache : str | Path | None
        A folder to keep the frames in, so that they are computed once; see `barn_owl.features.cache`.
    progress : Callable[[int, int], None] | None
        Called with the clips done and their number.

    Returns
    -------
    tuple[ClipFrames, pd.DataFrame, dict[int, str]]
        The frames, their rows (index renewed), and the reason for each skipped row, by row number of `clips`. A clip
        is skipped when it cannot be read, is shorter than a frame or digital silence.

    Raises
    ------
    TableError
        If no clip is left.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> frames, kept, skipped = barn_owl.load_frames(clips, barn_owl.FrontEnd())
    >>> len(frames) == len(kept), skipped
    (True, {})
    """
    from barn_owl.clips.table import as_clip_table  # training processes load this module without tables

    clips = as_clip_table(clips)
    # Settings of frames only, such as the length of windows, do not matter here.
    settings = UniformSettings(
        **(settings or UniformSettings()).model_dump(include=set(UniformSettings.model_fields))
    )
    sound = "" if settings == UniformSettings() else settings.model_dump_json()
    requested = excerpts(clips["file"], clips["start_s"], clips["end_s"])
    store = FrameCache(cache, front_end, sound) if cache is not None else None
    loaded: list[np.ndarray | str | None] = [_found(store, excerpt) for excerpt in requested]
    missing = [row for row, frames in enumerate(loaded) if frames is None]
    done = len(requested) - len(missing)
    if progress and done:
        progress(done, len(requested))
    with (
        threadpool_limits(limits=1, user_api="blas"),
        store.adding() if store is not None and missing else nullcontext() as adding,
    ):
        work = partial(_compute_identified, front_end=front_end, settings=settings, known=adding is not None)
        results = each(work, [requested[row] for row in missing], workers, at_once=FILES_PER_TASK)
        for row, (result, sha256) in zip(missing, results, strict=True):
            if adding is not None and sha256:
                # Read back from the map below, so that memory does not fill up.
                adding.add(requested[row], result, sha256)
            else:
                loaded[row] = result
            done += 1
            if progress:
                progress(done, len(requested))
    # Added frames are found now; computed again only when the cache could not store them.
    for row in missing:
        if loaded[row] is None:
            found = _found(store, requested[row])
            loaded[row] = _computed(requested[row], front_end, settings) if found is None else found
    skipped = {row: result for row, result in enumerate(loaded) if isinstance(result, str)}
    # Plain arrays over the maps: cutting windows from memory maps costs several times more.
    parts = [np.asarray(result) for result in loaded if isinstance(result, np.ndarray)]
    if not parts:
        raise TableError(f"none of the {len(clips)} clips can be used; the first: {next(iter(skipped.values()), '')}")
    kept = clips.drop(index=clips.index[list(skipped)]).reset_index(drop=True)
    return ClipFrames(parts), kept, skipped


def _found(store: FrameCache | None, excerpt: Excerpt) -> np.ndarray | None:
    try:
        return None if store is None else store.find(excerpt)
    except OSError:
        return None  # reported when it is read


def _compute_identified(
    excerpt: Excerpt, front_end: FrontEnd, settings: UniformSettings, *, known: bool
) -> tuple[np.ndarray | str, str]:
    """Return the frames of an excerpt or the reason why there are none, and the identity of its file."""
    frames = _computed(excerpt, front_end, settings)
    try:
        return frames, excerpt.content() if known and not isinstance(frames, str) else ""
    except OSError:
        return frames, ""  # gone since it was read: used now, but not kept


def _computed(excerpt: Excerpt, front_end: FrontEnd, settings: UniformSettings) -> np.ndarray | str:
    """Return the frames of an excerpt, or the reason why there are none."""
    file = excerpt.file
    try:
        return front_end.frames(read_preprocessed(excerpt, front_end.rate_hz, settings))
    except AudioError as error:
        return str(error) if file in str(error) else f"{file}: {error}"
