"""Tagging recordings: from files to a table of events."""

import logging
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas as pd
from threadpoolctl import threadpool_limits

from barn_owl.audio import audio_info, resample
from barn_owl.audio.samples import as_mono
from barn_owl.classifiers.base import label_scores
from barn_owl.model import Model
from barn_owl.model.loading import ModelLike, as_model
from barn_owl.model.settings import DecodingLike, as_decoding
from barn_owl.tag.decoding import EventDecoder, decided
from barn_owl.tag.event_classifier import Event
from barn_owl.tag.scoring import ScoreStream, score_recording

logger = logging.getLogger(__name__)


class Tagger:
    """Streaming tagger: takes blocks of samples of any size and returns events as they are certain.

    Memory is bounded, and the events are the same however the samples are cut into blocks.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model, run, or the path of either.
    decoding : DecodingSettings | Mapping[str, Any] | None
        Decoding settings, or a mapping of the changes to those of the model.
    every_s : float | None
        How soon new sound is looked at; None for when there is enough that it takes least work, some ten
        seconds. The events are the same.

    Examples
    --------
    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> tagger = barn_owl.tag.Tagger(barn_owl.load_model("first"))
    >>> events = tagger.push(samples[:100000]) + tagger.push(samples[100000:]) + tagger.finish()
    >>> [event.label for event in events]
    ['hum', 'tick', 'hiss', 'hum']
    """

    def __init__(
        self, model: ModelLike, decoding: DecodingLike | None = None, *, every_s: float | None = None
    ) -> None:
        model = as_model(model)
        decoding = as_decoding(decoding, model.decoding)
        warn_of_clip_settings(model)
        self._trace, self._decider = ScoreStream(model, every_s=every_s), EventDecoder.of(model, decoding)
        self._rate_hz, self._samples = model.front_end.rate_hz, 0
        self.scores = np.zeros(len(model.labels), dtype=np.float32)
        """Score of each label at the last step that was looked at, 0 to 1, ``(labels,)``."""

    @property
    def latency_s(self) -> float:
        """Time after the end of an event by which it is returned, at most."""
        return self._trace.wait_s + self._decider.latency_s

    def push(self, samples: np.ndarray) -> list[Event]:
        """Take samples at the rate of the model's front end; types and shapes as for `barn_owl.FrontEnd.frames`.

        Parameters
        ----------
        samples : np.ndarray
            Next samples, ``(samples,)`` or ``(samples, channels)``.
        """
        samples = as_mono(samples)
        self._samples += len(samples)
        blocks = self._trace.push(samples)
        if blocks:
            self.scores = label_scores(blocks[-1].activity[-1], blocks[-1].label_logits[-1])
        return [event for block in blocks for event in self._decider.push(block)]

    def finish(self) -> list[Event]:
        """Return the last events; raises AudioError for less than a frame of sound."""
        events = list(decided(self._trace.finish(), self._decider))
        return within(events, self._samples / self._rate_hz)


def tag_samples(
    model: ModelLike, samples: np.ndarray, rate_hz: int, *, decoding: DecodingLike | None = None
) -> pd.DataFrame:
    """Detect events in `samples` at any rate; types and shapes as for `barn_owl.FrontEnd.frames`.

    Parameters
    ----------
    model : Model | Run | str | Path
        Model, run, or the path of either.
    samples : np.ndarray
        Types and shapes as for `barn_owl.FrontEnd.frames`.
    rate_hz : int
        Sample rate.
    decoding : DecodingSettings | Mapping[str, Any] | None
        Settings of the event decoder, or changes of the model's; None for the model's.

    Returns
    -------
    pd.DataFrame
        A clip table with ``start_s``, ``end_s``, ``label`` and ``score``; ``file`` is blank.

    Raises
    ------
    AudioError
        If the samples have an unsupported type or shape, are not finite or shorter than a frame.

    Examples
    --------
    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> events = barn_owl.tag_samples(barn_owl.load_model("first"), samples, rate_hz)
    >>> events["label"].tolist(), events["start_s"].round().tolist()
    (['hum', 'tick', 'hiss', 'hum'], [2.0, 5.0, 8.0, 11.0])
    """
    model = as_model(model)
    decoding = as_decoding(decoding, model.decoding)
    samples = as_mono(samples)
    tagger = Tagger(model, decoding)
    with threadpool_limits(limits=1, user_api="blas"):
        events = tagger.push(resample(samples, rate_hz, model.front_end.rate_hz)) + tagger.finish()
    return event_table(events, "", len(samples) / rate_hz)


def tag_recording(
    model: ModelLike,
    path: str | Path,
    *,
    decoding: DecodingLike | None = None,
    read_ahead: bool = True,
    progress: Callable[[float, float], None] | None = None,
) -> pd.DataFrame:
    """Detect events in a sound file of any length, rate and number of channels, in bounded memory.

    Parameters
    ----------
    model : Model | Run | str | Path
        Model, run, or the path of either.
    path : str | Path
        Sound file or URL.
    decoding : DecodingSettings | Mapping[str, Any] | None
        Settings of the event decoder, or changes of the model's; None for the model's.
    read_ahead : bool
        Whether the file is decoded in a separate thread; without it, a single core is used.
    progress : Callable[[float, float], None] | None
        Called with the seconds done and the seconds there are.

    Returns
    -------
    pd.DataFrame
        A clip table with ``file``, ``start_s``, ``end_s``, ``label`` and ``score``, in order of time.

    Raises
    ------
    AudioError
        If the file cannot be read or is shorter than a frame.

    Examples
    --------
    >>> events = barn_owl.tag_recording(barn_owl.load_model("first"), "night.wav")
    >>> list(events)[:4]
    ['file', 'start_s', 'end_s', 'label']
    """
    model = as_model(model)
    decoding = as_decoding(decoding, model.decoding)
    if not isinstance(model, Model):  # a run's folder, most likely
        raise TypeError(f"the first argument must be a model, got {model!r}: barn_owl.load_model({str(model)!r})")
    warn_of_clip_settings(model)
    duration_s = audio_info(path).duration_s
    blocks = score_recording(model, path, read_ahead=read_ahead, progress=progress)
    return event_table(list(decided(blocks, EventDecoder.of(model, decoding))), str(path), duration_s)


def warn_of_clip_settings(model: Model) -> None:
    """Log a warning about settings of clips that have no effect in recordings."""
    if model.clips.only_clips:
        logger.warning(
            "this model was trained on clips brought to one level or freed of silence, which a recording cannot be; "
            "scores may be off. Train with clips.level = kept and clips.remove_silence = false for tagging"
        )
    if model.extra_columns.columns:
        logger.warning(
            "this model also looks at %s, which a recording does not tell: taken as average",
            ", ".join(model.extra_columns.names),
        )


def within(events: list[Event], duration_s: float) -> list[Event]:
    """Return events cut at the end of the sound, without events that begin there."""
    end_s = round(duration_s, 3)
    return [replace(event, end_s=min(event.end_s, end_s)) for event in events if event.start_s < end_s]


def event_table(events: list[Event], file: str, duration_s: float) -> pd.DataFrame:
    """Events as a clip table, in order of time, none of them beyond the end of the recording.

    Events that would begin there, as decoding shifts onsets, are dropped.
    """
    events = within(events, duration_s)
    table = pd.DataFrame(
        {
            "file": [file] * len(events),
            "start_s": np.array([event.start_s for event in events], dtype=np.float64),
            "end_s": np.array([event.end_s for event in events], dtype=np.float64),
            "label": [event.label for event in events],
            "score": np.array([round(event.score, 4) for event in events], dtype=np.float64),
        }
    )
    return table.sort_values(["start_s", "label"], ignore_index=True)
