"""A cache of frames, computed once per file content and front end, and memory-mapped.

A cache folder has a folder per front end, with pairs of files that never change: ``NAME.f32`` with the frames of many
clips in sequence, and ``NAME.json`` with the list of clips. Both are written atomically, the list second, so any
number of processes can read and add at the same time, and a killed process leaves at most an unused file.
"""

import hashlib
import json
import logging
import secrets
import zlib
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from barn_owl.audio import Excerpt
from barn_owl.errors import OutputError
from barn_owl.features.front_end import FrontEnd
from barn_owl.files import atomic_write, write_json

logger = logging.getLogger(__name__)


FORMAT = 2


class _Cached(NamedTuple):
    """A cached clip: file, excerpt, range of its frames, and checksum."""

    file: str
    size: int
    changed_ns: int
    sha256: str
    start_s: float | None
    end_s: float | None
    first: int
    end: int
    crc32: int


def _cached(entry: dict[str, Any]) -> _Cached:
    file, size, changed_ns = entry["stamp"]
    return _Cached(
        file, size, changed_ns, entry["sha256"], entry["start_s"], entry["end_s"], int(entry["first"]),
        int(entry["end"]),
        int(entry["crc32"]),
    )  # fmt: skip


def _sum(clips: list[dict[str, Any]]) -> int:
    return zlib.crc32(json.dumps(clips, sort_keys=True).encode())


class FrameCache:
    """Cached frames of a front end; `sound` identifies the preprocessing of the samples.

    Parameters
    ----------
    folder : str | Path
        Folder of the cache.
    front_end : FrontEnd
        Front end.
    sound : str
        Identifies the preprocessing of the samples.
    """

    def __init__(self, folder: str | Path, front_end: FrontEnd, sound: str = "") -> None:
        settings = json.dumps(front_end.identity(), sort_keys=True) + sound
        self.folder = Path(folder).absolute() / hashlib.sha256(settings.encode()).hexdigest()[:16]
        self.width = front_end.width
        self._settings = settings
        self._by_stamp: dict[tuple[Any, ...], tuple[np.ndarray, int]] = {}
        self._by_content: dict[tuple[Any, ...], tuple[np.ndarray, int]] = {}
        for index in sorted(self.folder.glob("*.json")):
            self._read(index)

    def __len__(self) -> int:
        return len(self._by_content)

    def _read(self, index: Path) -> None:
        """Map a pair of files; a damaged pair is skipped, its clips are computed again."""
        try:
            content = json.loads(index.read_text(encoding="utf-8"))
            if content["format"] != FORMAT or content["settings"] != self._settings:
                return
            if content["crc32"] != _sum(content["clips"]):
                raise ValueError("what it says of its clips was changed")
            frames = np.memmap(index.with_suffix(".f32"), dtype=np.float32, mode="r").reshape(-1, self.width)
            if len(frames) != content["frames"]:
                raise ValueError(f"{len(frames)} frames where {content['frames']} should be")
            clips = [_cached(clip) for clip in content["clips"]]
            if any(not 0 <= clip.first <= clip.end <= len(frames) for clip in clips):
                raise ValueError("it describes frames that are not there")
        except (OSError, ValueError, KeyError, TypeError, RecursionError) as error:
            logger.warning("%s is damaged and skipped (%s); its clips are computed again", index, error)
            return
        for clip in clips:
            own = (frames[clip.first : clip.end], clip.crc32)
            self._by_stamp[clip.file, clip.size, clip.changed_ns, clip.start_s, clip.end_s] = own
            self._by_content[clip.sha256, clip.start_s, clip.end_s] = own

    def find(self, excerpt: Excerpt) -> np.ndarray | None:
        """Return the frames of an excerpt as a read-only map, or None when they are not there.

        Parameters
        ----------
        excerpt : Excerpt
            Excerpt.

        Raises
        ------
        OSError
            If the file cannot be read.
        """
        times = (excerpt.start_s, excerpt.end_s)
        found = self._by_stamp.get((*excerpt.stamp(), *times))
        if found is None and self._by_content:
            found = self._by_content.get((excerpt.content(), *times))
        if found is None:
            return None
        rows, crc32 = found
        if zlib.crc32(np.ascontiguousarray(rows).data) != crc32:
            logger.warning("kept frames of %s are damaged; they are computed again", excerpt.file)
            return None
        return rows

    @contextmanager
    def adding(self) -> Iterator["Adding | None"]:
        """Yield an `Adding` to add frames to, excerpt by excerpt; None when the folder cannot be written.

        Added entries are visible after the block, and to other processes; when the disk is full, a warning is logged
        and nothing is kept.
        """
        name = self.folder / secrets.token_hex(8)
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            logger.warning("the cache %s cannot be used: %s", self.folder, error.strerror or error)
            yield None
            return
        try:
            with atomic_write(name.with_suffix(".f32")) as beside, beside.open("wb") as file:
                adding = Adding(file)
                yield adding
            if adding.clips:
                content = {
                    "format": FORMAT,
                    "settings": self._settings,
                    "frames": adding.frames,
                    "clips": adding.clips,
                    "crc32": _sum(adding.clips),
                }
                write_json(name.with_suffix(".json"), content, indent=None)
                self._read(name.with_suffix(".json"))
            else:
                name.with_suffix(".f32").unlink()
        except OutputError as error:
            logger.warning("the cache cannot be used: %s", error)
            name.with_suffix(".f32").unlink(missing_ok=True)


class Adding:
    """Frames on their way into the cache."""

    def __init__(self, file: Any) -> None:
        self._file = file
        self.frames = 0
        self.clips: list[dict[str, Any]] = []

    def add(self, excerpt: Excerpt, frames: np.ndarray | Iterable[np.ndarray], sha256: str) -> None:
        """Write the frames of an excerpt, whole or in blocks; `sha256` is that of its file, see `Excerpt.content`."""
        first, crc32 = self.frames, 0
        for block in [frames] if isinstance(frames, np.ndarray) else frames:
            content = np.ascontiguousarray(block, dtype=np.float32).data
            self._file.write(content)
            crc32 = zlib.crc32(content, crc32)
            self.frames += len(block)
        if self.frames == first:  # too short for a frame, so that there is nothing to keep
            return
        self.clips.append(
            {
                "stamp": excerpt.stamp(),
                "sha256": sha256,
                "start_s": excerpt.start_s,
                "end_s": excerpt.end_s,
                "first": first,
                "end": self.frames,
                "crc32": crc32,
            }
        )
