"""From samples to class scores over time, block by block.

Windows are scored in chunks of a fixed number at fixed places, so the scores do not depend on how the samples
were cut into blocks, and memory does not grow with the recording.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from threadpoolctl import threadpool_limits

from barn_owl.audio import audio_info, read_ahead, stream_audio
from barn_owl.classify import Model
from barn_owl.classify.dataset import fill_up
from barn_owl.errors import AudioError

CHUNK = 256
"""Windows scored at a time: they share all but the first window's frames."""
RISE_FRAMES = 3
ASKED = 0.2
"""Highest score from which on a window is held against the training clips."""


@dataclass(frozen=True)
class TraceBlock:
    """Scores over a stretch of a recording; step *i* begins ``(first + i) * step_s`` into it.

    windows : score of the window that begins at each step, ``(windows, labels)``; local : score of the short
    stretch that begins there, ``(steps, labels)``; rise : how steeply the level rises at each frame, mean over
    bands in dB, ``(frames,)``; alike : how much a window is like the training clips of each label, -1 to 1,
    ``(windows, labels)``, and 1 where no score is high enough to ask, or the model does not know. Only the last
    block of a recording has more steps than windows.
    """

    first: int
    windows: np.ndarray
    local: np.ndarray
    rise: np.ndarray
    alike: np.ndarray


class TraceStream:
    """Takes blocks of mono samples at the rate of the model's front end and gives scores as they are ready."""

    def __init__(self, model: Model) -> None:
        self.model = model
        self._frames = model.front_end.stream()
        self._kept = np.empty((0, model.front_end.width), dtype=np.float32)
        self._reported = [n for n, label in enumerate(model.labels) if label not in model.background]
        self._first = 0
        self._samples = 0

    def push(self, samples: np.ndarray) -> list[TraceBlock]:
        """Take samples, shape ``(samples,)``, of any number; return the blocks that became whole."""
        self._samples += len(samples)
        return self._take(self._frames.push(samples))

    def _take(self, new: np.ndarray) -> list[TraceBlock]:
        family, blocks = self.model.family, []
        if not len(new):
            return []
        self._kept = np.concatenate([self._kept, new])
        needed = (CHUNK - 1) * family.step + family.window
        while len(self._kept) >= needed:
            blocks.append(self._block(self._kept[:needed], steps=CHUNK))
            self._kept = self._kept[CHUNK * family.step :]
        return blocks

    def finish(self) -> list[TraceBlock]:
        """Return the scores of what is left. A recording shorter than a window is filled up to one.

        Raises AudioError when there was not even one frame.
        """
        blocks = self._take(self._frames.finish())
        if not self._frames.given:
            raise AudioError(
                f"{self._samples} samples are too short for one frame of {self.model.front_end.frame_ms:g} ms"
            )
        if self._first == 0:
            self._kept = fill_up(
                self._kept, self.model.family.window, self.model.clips.fill, self.model.front_end.silence
            )
        if len(self._kept) < self.model.family.window:
            return blocks
        return [*blocks, self._block(self._kept, steps=None)]

    def _block(self, frames: np.ndarray, steps: int | None) -> TraceBlock:
        judged = self.model.judge(frames)
        windows, local = self.model.scores(judged.windows), self.model.scores(judged.local)
        levels = frames[:, self.model.front_end.level_columns]
        rise = np.maximum(levels[RISE_FRAMES:] - levels[:-RISE_FRAMES], 0).mean(axis=1)
        if steps is not None:
            local, rise = local[:steps], rise[: steps * self.model.family.step]
        block = TraceBlock(self._first, windows, local, rise, self._alike(windows, judged.hidden))
        self._first += len(windows)
        return block

    def _alike(self, windows: np.ndarray, hidden: np.ndarray) -> np.ndarray:
        alike = np.ones_like(windows)
        if self.model.known is not None:
            asked = np.flatnonzero((windows[:, self._reported] >= ASKED).any(axis=1))
            alike[asked] = self.model.known.alike(hidden[asked])
        return alike


def trace_recording(model: Model, path: str | Path, *, ahead: bool = True) -> Iterator[TraceBlock]:
    """Score a sound file of any length, rate and number of channels, block by block.

    ahead : whether decoding goes on in another thread meanwhile; without it, this takes one core and no more.

    Of a recording that breaks off, what can be read is scored; samples that are no numbers count as silence; both are
    told as warnings. Raises AudioError when nothing can be read or it is shorter than one frame.
    """
    stream = TraceStream(model)
    sound = stream_audio(path, rate_hz=model.front_end.rate_hz, channel=model.clips.channel)
    # The matrices are small: a second thread inside a product costs more than it brings.
    with threadpool_limits(limits=1, user_api="blas"):
        for samples in read_ahead(sound) if ahead else sound:
            yield from stream.push(samples)
        try:
            yield from stream.finish()
        except AudioError as error:
            raise AudioError(f"{path} ({audio_info(path).duration_s:.4g} s): {error}") from error
