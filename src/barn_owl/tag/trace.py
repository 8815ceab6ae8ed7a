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
        self._frames, self._scorer = model.front_end.stream(patient=True), Scorer(model)
        self._samples = 0

    @property
    def wait_s(self) -> float:
        """Time that sound waits for more to be worked on with it, at most, beside what a `Decider` waits."""
        return self._frames.wait_s

    def push(self, samples: np.ndarray) -> list[TraceBlock]:
        """Take samples, shape ``(samples,)``, of any number; return the blocks that became whole."""
        self._samples += len(samples)
        return self._scorer.push(self._frames.push(samples))

    def finish(self) -> list[TraceBlock]:
        """Return the scores of what is left. A recording shorter than a window is filled up to one.

        Raises AudioError when there was not even one frame.
        """
        blocks = self._scorer.push(self._frames.finish())
        if not self._frames.given:
            raise AudioError(
                f"{self._samples} samples are too short for one frame of {self._frames.front_end.frame_ms:g} ms"
            )
        return blocks + self._scorer.finish()


class Scorer:
    """Takes frames of the model's front end, any number at a time, and gives scores as they are ready."""

    def __init__(self, model: Model) -> None:
        self.model = model
        self._kept = np.empty((0, model.front_end.width), dtype=np.float32)
        self._reported = [n for n, label in enumerate(model.labels) if label not in model.background]
        self._first = 0

    def push(self, frames: np.ndarray) -> list[TraceBlock]:
        """Take frames, ``(frames, width)``; return the blocks that became whole."""
        family, blocks = self.model.family, []
        self._kept = np.concatenate([self._kept, frames])
        needed = (CHUNK - 1) * family.step + family.window
        while len(self._kept) >= needed:
            blocks.append(self._block(self._kept[:needed], steps=CHUNK))
            self._kept = self._kept[CHUNK * family.step :]
        return blocks

    def finish(self) -> list[TraceBlock]:
        """Return the scores of what is left; frames fewer than a window are filled up to one, if there are any."""
        family, front_end = self.model.family, self.model.front_end
        if self._first == 0 and len(self._kept):
            self._kept = fill_up(self._kept, family.window, self.model.clips.fill, front_end.silence)
        return [self._block(self._kept, steps=None)] if len(self._kept) >= family.window else []

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

    ahead : whether decoding and features go on in other threads meanwhile; without it, this takes one core.

    Of a recording that breaks off, what can be read is scored; samples that are no numbers count as silence; both are
    told as warnings. Raises AudioError when nothing can be read or it is shorter than one frame.
    """
    front_end, scorer, begun = model.front_end, Scorer(model), False
    sound = stream_audio(path, rate_hz=front_end.rate_hz, channel=model.clips.channel)
    # The matrices are small: a second thread inside a product costs more than it brings.
    with threadpool_limits(limits=1, user_api="blas"):
        blocks = front_end.frame_blocks(read_ahead(sound) if ahead else sound)
        for frames in read_ahead(blocks) if ahead else blocks:
            begun = begun or len(frames) > 0
            yield from scorer.push(frames)
        if not begun:
            raise AudioError(
                f"{path} ({audio_info(path).duration_s:.4g} s) is too short for one frame of "
                f"{front_end.frame_ms:g} ms"
            )
        yield from scorer.finish()
