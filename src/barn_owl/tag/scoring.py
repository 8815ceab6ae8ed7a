"""Scores over time from samples, block by block.

Steps are scored in chunks of fixed size at fixed positions, so the scores do not depend on how the samples
were cut into blocks, and memory does not grow with the recording.
"""

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from threadpoolctl import threadpool_limits

from barn_owl.audio import audio_info, prefetch, stream_audio
from barn_owl.audio.reading import report_flaws
from barn_owl.audio.samples import as_mono
from barn_owl.errors import AudioError
from barn_owl.features.products import CHUNK as ROWS
from barn_owl.model import Model
from barn_owl.model.loading import ModelLike, as_model
from barn_owl.network import sigmoid

SETTLE_S = 1.0
"""Sound before a chunk that is read with it, until resampling, deltas and loudness have forgotten where it began."""
CHUNK = 256
"""FrameScores scored at a time: neighbors share all but the first window's frames."""


@dataclass(frozen=True)
class ScoreBlock:
    """Scores over a stretch of a recording; step *i* describes frame ``(first + i) * classifier.step``.

    Attributes
    ----------
    first : int
        Number of the first step.
    sounds, onsets : np.ndarray
        Score that a label sounds, and that it begins there, 0 to 1, ``(steps, labels)``; that any does,
        ``(steps, 1)``, for a model whose `classifies_segments` is set.
    label_logits : np.ndarray
        Logits of the labels and attention, ``(steps, labels + 2)``; see `barn_owl.classifiers.base.segment_logits`.
    """

    first: int
    activity: np.ndarray
    onsets: np.ndarray
    label_logits: np.ndarray


class ScoreStream:
    """Streaming scorer: takes blocks of mono samples at the model's rate and returns scores as they are ready.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model, run, or the path of either.
    every_s : float | None
        See `Scorer`.
    """

    def __init__(self, model: ModelLike, *, every_s: float | None = None) -> None:
        model = as_model(model)
        self._frames = model.front_end.stream(buffered=every_s is None)
        self._scorer = Scorer(model, every_s=every_s)
        self._samples = 0

    @property
    def wait_s(self) -> float:
        """Longest wait of sound for a chunk, before that of an `EventDecoder`."""
        return self._frames.wait_s + self._scorer.wait_s

    def push(self, samples: np.ndarray) -> list[ScoreBlock]:
        """Take any number of samples, as `barn_owl.FrontEnd.frames`; return the blocks that became whole.

        Parameters
        ----------
        samples : np.ndarray
            Next samples, ``(samples,)`` or ``(samples, channels)``.
        """
        samples = as_mono(samples)
        self._samples += len(samples)
        return self._scorer.push(self._frames.push(samples))

    def finish(self) -> list[ScoreBlock]:
        """Return the scores of the rest.

        Raises
        ------
        AudioError
            If there is no frame.
        """
        blocks = self._scorer.push(self._frames.finish())
        if not self._frames.given:
            raise AudioError(
                f"{self._samples} samples are too short for one frame of {self._frames.front_end.frame_ms:g} ms"
            )
        return blocks + self._scorer.finish()


class Scorer:
    """Scores frames of the model's front end, in blocks of any size.

    Half a window of the quiet level of adjacent frames is padded at the start and the end, so that steps describe all
    frames.

    every_s : how soon steps are returned; None for a whole chunk at a time, which takes least work. The scores are
    the same to the last bit: a chunk that is not full yet is filled up to its size, as a matrix product may round a
    row differently when there are fewer rows.
    chunk : the one to begin with; the first frame that is given is then that of `first_frame_of`.
    """

    def __init__(self, model: Model, *, every_s: float | None = None, chunk: int = 0) -> None:
        self.model = model
        self._every = CHUNK if every_s is None else int(np.clip(round(every_s / model.step_s), 1, CHUNK))
        self._kept = np.empty((0, model.front_end.width), dtype=np.float32)
        self._last = self._kept  # source of the quiet level at the end
        self._first, self._begun = chunk * CHUNK, chunk > 0
        self._given = 0  # steps of the open chunk that were returned

    @property
    def wait_s(self) -> float:
        """Longest wait of a step for its chunk."""
        return self._every * self.model.step_s

    def push(self, frames: np.ndarray) -> list[ScoreBlock]:
        """Take frames, ``(frames, width)``; return the blocks that became whole."""
        classifier, blocks = self.model.classifier, []
        self._kept = np.concatenate([self._kept, frames])
        self._last = np.concatenate([self._last, frames[-classifier.window :]])[-classifier.window :]
        if not self._begun:
            if len(self._kept) < classifier.window:
                return []
            self._begin()
        while (ready := (len(self._kept) - classifier.window) // classifier.step + 1) >= CHUNK:
            blocks += self._scored(CHUNK)
        if ready - self._given >= self._every:
            blocks += self._scored(ready)
        return blocks

    def _begin(self) -> None:
        self._kept = np.concatenate([self.model.around(self._kept[: self.model.classifier.window]), self._kept])
        self._begun = True

    def finish(self) -> list[ScoreBlock]:
        """Return the scores of the rest, if there were any frames."""
        classifier = self.model.classifier
        if not len(self._kept):
            return []
        if not self._begun:
            self._begin()
        self._kept, blocks = np.concatenate([self._kept, self.model.around(self._last)]), []
        while len(self._kept) >= classifier.window:
            ready = min((len(self._kept) - classifier.window) // classifier.step + 1, CHUNK)
            blocks += self._scored(ready)
            if ready < CHUNK:
                break
        return blocks

    def _scored(self, ready: int) -> list[ScoreBlock]:
        """Score the first `ready` steps of the open chunk, and return the new steps."""
        classifier, given = self.model.classifier, self._given
        frames = self._kept[: (ready - 1) * classifier.step + classifier.window]
        lacking = (CHUNK - ready) * classifier.step
        self._given = ready
        if ready == CHUNK:
            self._kept, self._given = self._kept[CHUNK * classifier.step :], 0
        if ready == given:
            return []
        output = self.model.frame_scores(np.pad(frames, ((0, lacking), (0, 0)), mode="edge"))
        activity, onsets = (sigmoid(rows[given:ready]) for rows in (output.activity, output.onsets))
        block = ScoreBlock(self._first, activity, onsets, output.label_logits[given:ready])
        self._first += len(activity)
        return [block]


@dataclass
class StageTimes:
    """Where time went while a recording was scored, in seconds: decoding, features, network."""

    decode_s: float = 0.0
    features_s: float = 0.0
    network_s: float = 0.0


def chunk_s(model: Model) -> float:
    """Length of a chunk of steps in seconds."""
    return CHUNK * model.step_s


def first_frame_of(model: Model, chunk: int) -> int:
    """Return the number of the first frame that a chunk depends on, except for the first chunk."""
    return chunk * CHUNK * model.classifier.step - model.classifier.window // 2


def score_recording(
    model: ModelLike,
    path: str | Path,
    *,
    read_ahead: bool = True,
    progress: Callable[[float, float], None] | None = None,
    chunk: int = 0,
    until: int | None = None,
    spent: StageTimes | None = None,
    flaws: list[str] | None = None,
) -> Iterator[ScoreBlock]:
    """Score a sound file of any length, rate and number of channels, block by block.

    Truncated recordings are scored up to their end; samples that are not finite count as silence; sound shorter than
    a frame is padded. Each is reported as a warning.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model, run, or the path of either.
    path : str | Path
        Recording.
    read_ahead : bool
        Whether decoding and features run in separate threads; without it, a single core is used.
    progress : Callable[[float, float], None] | None
        Called with the seconds done and the seconds there are, and once at the end with all of them.
    chunk : int
        Number of the first chunk.
    until : int | None
        Number of the chunk to stop before. None: to the end.
    spent : StageTimes | None
        A record that is added to, without `read_ahead`.
    flaws : list[str] | None
        A list that faults of the recording are added to, instead of warnings in the log.

    Raises
    ------
    AudioError
        If nothing can be read.

    Examples
    --------
    >>> blocks = barn_owl.tag.score_recording(barn_owl.load_model("first"), "night.wav")
    >>> next(iter(blocks)).activity.shape[1]
    4
    """
    model = as_model(model)
    front_end, info = model.front_end, audio_info(path)
    scorer, begun, duration_s, spent = Scorer(model, chunk=chunk), False, info.duration_s, spent or StageTimes()
    start_s, skip_samples, skip_frames = _beginning(model, info.rate_hz, chunk)
    if 0 < duration_s < front_end.frame_ms / 1000:
        front_end = front_end.but(pad_short=True)
        report_flaws(path, [f"is shorter than a frame ({front_end.frame_ms:g} ms); filled up with silence"], flaws)
    sound = stream_audio(path, rate_hz=front_end.rate_hz, channel=model.clips.channel, start_s=start_s, flaws=flaws)
    # The matrices are small: a second thread inside a product costs more than it brings.
    with threadpool_limits(limits=1, user_api="blas"):
        sound = _without(_timed(sound, spent, "decode_s"), skip_samples)
        blocks = front_end.frame_blocks(prefetch(sound) if read_ahead else sound)
        blocks = _without(_timed(blocks, spent, "features_s"), skip_frames)
        for frames in prefetch(blocks) if read_ahead else blocks:
            begun = begun or len(frames) > 0
            begin = time.perf_counter()
            scored = scorer.push(frames)
            spent.network_s += time.perf_counter() - begin
            for block in scored:
                if until is not None and block.first >= until * CHUNK:
                    break
                yield block
                if progress:
                    progress(min((block.first + len(block.activity)) * model.step_s, duration_s), duration_s)
            if until is not None and scored and scored[-1].first >= (until - 1) * CHUNK:
                break
        else:
            if not begun:
                raise AudioError(
                    f"{path} ({duration_s:.4g} s) is too short for one frame of {front_end.frame_ms:g} ms"
                )
            begin = time.perf_counter()
            scored = scorer.finish()
            spent.network_s += time.perf_counter() - begin
            yield from scored
    spent.features_s = max(0.0, spent.features_s - spent.decode_s)  # features waited for decoding
    if progress:
        progress(duration_s, duration_s)


def _beginning(model: Model, rate_hz: int, chunk: int) -> tuple[float | None, int, int]:
    """Where to begin reading for a chunk: seconds, samples at the model's rate and frames that are skipped."""
    if not chunk:
        return None, 0, 0
    front_end = model.front_end
    wanted = first_frame_of(model, chunk)
    # Frames keep their rows within chunks; earlier frames settle recursive features.
    first = max(0, int(wanted - SETTLE_S / front_end.hop_s) // ROWS * ROWS)
    at = first * front_end.hop
    if rate_hz == front_end.rate_hz:
        return at / rate_hz, 0, wanted - first
    start_s = max(0, int(at / front_end.rate_hz - SETTLE_S))  # whole seconds are whole samples at both rates
    return float(start_s), at - start_s * front_end.rate_hz, wanted - first


def _without(blocks: Iterator[np.ndarray], count: int) -> Iterator[np.ndarray]:
    """skip the first `count` rows of a stream of blocks."""
    for block in blocks:
        dropped = min(count, len(block))
        count -= dropped
        yield block[dropped:]


def _timed(blocks: Iterator[np.ndarray], spent: StageTimes, name: str) -> Iterator[np.ndarray]:
    """Pass blocks on, and add to a record how long they took to come."""
    while True:
        begin = time.perf_counter()
        block = next(blocks, None)
        setattr(spent, name, getattr(spent, name) + time.perf_counter() - begin)
        if block is None:
            return
        yield block
