"""Spectrograms of long recordings in tiles that are computed on demand, and an overview of each whole recording."""

import math
import threading
from collections.abc import Sequence
from contextlib import suppress
from functools import lru_cache
from pathlib import Path
from typing import Any, Literal

import numpy as np

from barn_owl.audio import audio_info, read_audio, stream_audio
from barn_owl.errors import AudioError
from barn_owl.features import FrontEnd
from barn_owl.features.mel import mel_edges
from barn_owl.show.sound import mel_places

Scale = Literal["mel", "linear"]
FEATURES: dict[Scale, str] = {"mel": "log-mel", "linear": "spectrogram"}
COLUMNS, ROWS = 512, 128
"""Size of a tile in pixels."""
LEVELS = range(-1, 6)
"""A tile of level n is 2 ** n seconds long."""
MAX_TILE_SAMPLES = 32 * 48_000
"""Samples of a tile: at higher rates, the longest tiles are left out."""
FRAME_S, MAX_HOP_S = 0.032, 0.032
"""Length of frames, and the longest step between them: no sound falls between the columns of a long tile."""
CACHED = 512
"""Tiles in memory, of 64 kB each."""
FLOOR_DB = -140.0
"""Level of a pixel of 0; 255 is 0 dB re a full-scale sine."""
LOW_HZ = 50.0
LINEAR_STEPS_HZ, MAX_TICKS = (50, 100, 200, 500, 1000, 2000, 5000, 10_000, 20_000, 50_000), 12
OVERVIEW_COLUMNS, OVERVIEW_ROWS, OVERVIEW_HOP_MS = 1600, 32, 64.0


class Tiles:
    """Spectrograms of recordings as tiles of ``ROWS`` x ``COLUMNS`` levels, the lowest frequency first.

    Parameters
    ----------
    recordings : Sequence[str | Path]
        Recordings.

    Raises
    ------
    AudioError
        If one of them cannot be read.

    Examples
    --------
    >>> tiles = barn_owl.show.Tiles(["night.wav"])
    >>> tiles.tile(0, "mel", 2, 0).shape
    (128, 512)
    """

    def __init__(self, recordings: Sequence[str | Path]) -> None:
        self._infos = [audio_info(recording) for recording in recordings]
        self._overviews = [_Overview(info.path, info.duration_s) for info in self._infos]
        self.tile = lru_cache(CACHED)(self._tile)

    def facts(self, number: int) -> dict[str, Any]:
        """Return length, rate, highest level of the tiles, and frequencies with their places, 0 to 1, of a recording.

        Parameters
        ----------
        number : int
            Number of the recording.
        """
        info = self._infos[number]
        fitting = [level for level in LEVELS if 2.0**level * info.rate_hz <= MAX_TILE_SAMPLES]
        half_hz = info.rate_hz / 2
        mel = mel_places(_front_end(info.rate_hz, "mel", MAX_HOP_S)).items()
        step_hz = next(step for step in LINEAR_STEPS_HZ if half_hz / step <= MAX_TICKS)
        linear = np.arange(step_hz, half_hz, step_hz)
        return {
            "seconds": info.duration_s, "rate_hz": info.rate_hz, "highest_level": max(fitting, default=LEVELS[0]),
            "overview_columns": self._overviews[number].shades.shape[1],
            "ticks": {
                "mel": [(hertz, (place + 0.5) / ROWS) for hertz, place in mel],
                "linear": [(int(hertz), float(hertz / half_hz)) for hertz in linear],
            },
        }  # fmt: skip

    def _tile(self, number: int, scale: Scale, level: int, index: int) -> np.ndarray:
        """Compute a tile: levels from `FLOOR_DB` to 0 dB as 0 to 255.

        Parameters
        ----------
        number : int
            Number of the recording.
        scale : Scale
            Frequency scale.
        level : int
            Length of the tile: 2 ** level seconds.
        index : int
            The tile begins at ``index * 2 ** level`` seconds.

        Returns
        -------
        np.ndarray
            Levels, uint8, ``(ROWS, COLUMNS)``, the lowest frequency first. Beyond the end, 0.

        Raises
        ------
        AudioError
            If the sound cannot be read, or there is no such tile.
        """
        info, length_s = self._infos[number], 2.0**level
        start_s = index * length_s
        if level not in LEVELS or level > self.facts(number)["highest_level"] or not 0 <= start_s < info.duration_s:
            raise AudioError(f"{info.path} has no tile {index} of level {level}")
        front_end = _front_end(info.rate_hz, scale, min(length_s / COLUMNS, MAX_HOP_S))
        half_s = front_end.frame / info.rate_hz / 2
        first_s, last_s = max(start_s - half_s, 0.0), min(start_s + length_s + half_s, info.duration_s)
        samples, _ = read_audio(info.path, start_s=first_s, end_s=last_s)
        lead = round((first_s - start_s + half_s) * info.rate_hz)  # frames are centered at their column
        samples = np.pad(samples, (lead, front_end.frame))
        frames = front_end.frames(samples)
        columns = _columns(frames, front_end.hop / info.rate_hz, length_s / COLUMNS)
        there = round(COLUMNS * min(1.0, (info.duration_s - start_s) / length_s))
        tile = np.zeros((ROWS, COLUMNS), dtype=np.uint8)
        tile[:, :there] = _shades(_rows(columns[:there]).T)
        return tile

    def overview(self, number: int) -> tuple[float, np.ndarray]:
        """Return how much of the overview of a recording is computed, 0 to 1, and its levels so far.

        The first call begins to compute it in the background.

        Parameters
        ----------
        number : int
            Number of the recording.

        Returns
        -------
        tuple[float, np.ndarray]
            Share, and levels as of a tile, ``(OVERVIEW_ROWS, columns)``.
        """
        overview = self._overviews[number]
        overview.start()
        return overview.done, overview.shades

    def close(self) -> None:
        """Stop the computation of overviews."""
        for overview in self._overviews:
            overview.stopped = True


class _Overview:
    """The highest level in each column and band of a whole recording, computed in a thread."""

    def __init__(self, path: str | Path, duration_s: float) -> None:
        self._path, self._duration_s = path, duration_s
        columns = min(OVERVIEW_COLUMNS, max(1, int(1000 * duration_s / OVERVIEW_HOP_MS)))  # each holds a frame
        self.shades = np.zeros((OVERVIEW_ROWS, columns), dtype=np.uint8)
        self.done, self.stopped = 0.0, False
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None

    def start(self) -> None:
        with self._lock:
            if self._thread is None:
                self._thread = threading.Thread(target=self._compute, daemon=True)
                self._thread.start()

    def _compute(self) -> None:
        with suppress(AudioError):  # what could be read is shown; tiles name the reason
            rate_hz = min(audio_info(self._path).rate_hz, 16_000)
            front_end = FrontEnd(
                rate_hz=rate_hz, frame_ms=OVERVIEW_HOP_MS, hop_ms=OVERVIEW_HOP_MS, bands=OVERVIEW_ROWS,
                low_hz=min(LOW_HZ, rate_hz / 20), pad_short=True,
            )  # fmt: skip
            first, count = 0, self.shades.shape[1]
            for frames in front_end.frame_blocks(stream_audio(self._path, rate_hz=rate_hz)):
                if self.stopped:
                    return
                times_s = (first + np.arange(len(frames))) * front_end.hop_s
                columns = np.minimum((times_s / self._duration_s * count).astype(int), count - 1)
                np.maximum.at(self.shades.T, columns, _shades(frames))
                first += len(frames)
                self.done = min(1.0, first * front_end.hop_s / self._duration_s)
        self.done = 1.0


@lru_cache(64)
def _front_end(rate_hz: int, scale: Scale, hop_s: float) -> FrontEnd:
    if scale not in FEATURES:
        raise AudioError(f"there is no frequency scale {scale}")
    low_hz = min(LOW_HZ, rate_hz / 20)
    longest = rate_hz * FRAME_S
    if scale == "mel":  # each band needs a bin: bins closer than the narrowest triangle is wide
        edges = mel_edges(ROWS, low_hz, rate_hz / 2)
        longest = max(longest, rate_hz / (0.95 * (edges[2] - edges[0])))
    return FrontEnd(
        features=[FEATURES[scale]],
        rate_hz=rate_hz,
        frame_ms=1000 * FRAME_S,
        hop_ms=1000 * max(hop_s, 1 / rate_hz),
        fft=2 ** math.ceil(math.log2(longest)),
        bands=ROWS,
        low_hz=low_hz,
        floor_db=FLOOR_DB,
        pad_short=True,
    )


def _columns(frames: np.ndarray, hop_s: float, column_s: float) -> np.ndarray:
    """Return the highest level in each column, or the frame nearest to it where columns are closer than frames."""
    edges = np.minimum(np.round(np.arange(COLUMNS) * column_s / hop_s).astype(int), len(frames) - 1)
    if column_s <= hop_s:
        return frames[edges]
    return np.maximum.reduceat(frames[: edges[-1] + max(1, round(column_s / hop_s))], edges)


def _rows(columns: np.ndarray) -> np.ndarray:
    """Reduce the bins of a spectrum to the rows of a tile by their highest level; mel bands stay."""
    bins = columns.shape[1]
    if bins <= ROWS:
        return columns[:, np.arange(ROWS) * bins // ROWS]
    return np.maximum.reduceat(columns, np.arange(ROWS) * bins // ROWS, axis=1)


def _shades(levels_db: np.ndarray) -> np.ndarray:
    return np.clip((levels_db - FLOOR_DB) * (255 / -FLOOR_DB), 0, 255).astype(np.uint8)
