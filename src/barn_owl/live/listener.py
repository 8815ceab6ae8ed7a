"""The listener: from a live source to events, without end."""

import threading
from collections import deque
from collections.abc import Iterator
from datetime import datetime, timedelta

import numpy as np
from threadpoolctl import threadpool_limits

from barn_owl.audio import Break, Source, incoming
from barn_owl.audio.reading import silence_invalid
from barn_owl.audio.resampling import Resampler
from barn_owl.audio.silence import decibel
from barn_owl.audio.sources import TICK_S
from barn_owl.errors import AudioError
from barn_owl.live.events import LiveEvent
from barn_owl.model.loading import ModelLike, as_model
from barn_owl.model.settings import DecodingLike, as_decoding
from barn_owl.tag import Event, Tagger

POLL_S = 0.4
"""Interval in which new sound is processed; half of it adds to the latency on average."""
BUFFER_S = 60.0
"""Length of the buffer for excerpts; of a longer event, the excerpt holds the last part."""
QUIET_S = 5.0
"""Time without samples after which a warning is given."""


class Listener:
    """Detects events in a live source; iterate over `events()`.

    The events are the same as those of `barn_owl.tag_recording` for the same samples. Where samples are missing,
    later sound is decoded like a new recording, and times continue with the lost seconds counted. Memory does not
    grow.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model, run, or the path of either.
    source : Source
        Live source.
    decoding : DecodingSettings | Mapping[str, Any] | None
        Decoding settings, or a mapping of the changes to those of the model.
    every_s : float
        Interval in which new sound is processed.
    lead_s : float | None
        Sound before and after an event in its excerpt; None for no excerpts.
    began : datetime | None
        The time that counts as the beginning. None: now, and no event is later than the time at which it arrived,
        where a source is faster than real time.

    Examples
    --------
    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> microphone = barn_owl.audio.SimulatedMicrophone(iter([samples]), rate_hz, speed=float("inf"))
    >>> listener = barn_owl.Listener(barn_owl.load_model("first"), microphone)
    >>> [event.label for event in listener.events()]
    ['hum', 'tick', 'hiss', 'hum']
    >>> listener.seconds
    14.0
    """

    def __init__(
        self,
        model: ModelLike,
        source: Source,
        *,
        decoding: DecodingLike | None = None,
        every_s: float = POLL_S,
        lead_s: float | None = None,
        began: datetime | None = None,
    ) -> None:
        model = as_model(model)
        decoding = as_decoding(decoding, model.decoding)
        self.model, self.decoding = model, decoding or model.decoding
        self._source, self._every_s, self._lead_s = source, every_s, lead_s
        self.began = began or datetime.now().astimezone()
        self._begin_is_given = began is not None
        self.seconds = 0.0
        """Seconds since the start, processed or lost."""
        self.lost_s = 0.0
        """Seconds of sound that were lost."""
        self.breaks = 0
        """Number of interruptions of the source."""
        self.level_db = -np.inf
        """Level of the sound that was processed last, dB re full scale."""
        self._warnings: deque[str] = deque(maxlen=100)
        self._last_warning = ""
        self._restart()
        self.latency_s = self._tagger.latency_s + (lead_s or 0.0)
        """Time after the end of an event by which it is returned, at most, and the time that computing takes."""

    def _restart(self) -> None:
        """Restart decoding, as at the beginning of a recording."""
        self._tagger = Tagger(self.model, self.decoding, every_s=self._every_s)
        self._resampler = Resampler(self._source.rate_hz, self.model.front_end.rate_hz)
        self._base_s, self._samples = self.seconds, 0
        self._kept: deque[np.ndarray] = deque()
        self._kept_samples = 0
        self._waiting: list[np.ndarray] = []
        self._undelivered: list[Event] = []  # wait for the sound after them

    @property
    def scores(self) -> np.ndarray:
        """Score of each label now, 0 to 1, ``(labels,)``."""
        return self._tagger.scores

    def warnings(self) -> list[str]:
        """Return problems of the source since the last call, in words."""
        lines = list(self._warnings)
        self._warnings.clear()
        return lines

    def events(self, stop: threading.Event | None = None) -> Iterator[LiveEvent]:
        """Listen until the source is over or `stop` is set, and yield events as they are decided.

        Parameters
        ----------
        stop : Event | None
            Set from another thread to end the source.
        """
        for found in self.steps(stop):
            yield from found

    def steps(self, stop: threading.Event | None = None) -> Iterator[list[LiveEvent]]:
        """As `events`, but yield a list after each processed block, and an empty list while nothing is received.

        Parameters
        ----------
        stop : Event | None
            Set from another thread to end the source.

        Raises
        ------
        AudioError
            If the source fails and cannot come back.
        """
        silent_s, step = 0.0, round(self._every_s * self._source.rate_hz)
        # The matrices are small: a second thread inside a product costs more than it brings.
        with threadpool_limits(limits=1, user_api="blas"):
            for received in incoming(self._source, stop=stop):
                if isinstance(received, np.ndarray):
                    silent_s, self._last_warning = 0.0, ""
                    self._waiting.append(received)
                    if sum(map(len, self._waiting)) >= step:
                        yield self._process()
                elif isinstance(received, Break):
                    yield self._interrupted(received)
                else:
                    silent_s += TICK_S
                    if silent_s >= QUIET_S:
                        self._warn(f"nothing received for {QUIET_S:g} s; still waiting")
                    yield []
            yield self._finish()

    def _warn(self, text: str) -> None:
        """Report a problem once, until sound arrives again."""
        if text and text != self._last_warning:
            self._last_warning = text
            self._warnings.append(text)

    def _process(self) -> list[LiveEvent]:
        """Score and decode the received blocks; return their events."""
        samples = np.concatenate(self._waiting)
        self._waiting = []
        if silence_invalid(samples):
            self._warn("replaced samples that are not finite or far above full scale with silence")
        self._samples += len(samples)
        self.seconds = self._base_s + self._samples / self._source.rate_hz
        self.level_db = float(decibel(np.sqrt(np.mean(np.square(samples), dtype=np.float64))))
        if self._lead_s is not None:
            self._keep(samples)
        return self._live_events(self._tagger.push(self._resampler.push(samples)), last=False)

    def _finish(self) -> list[LiveEvent]:
        """Process what is left; return the remaining events of an uninterrupted stretch of sound."""
        found = self._process() if self._waiting else []
        try:
            rest = self._tagger.push(self._resampler.finish()) + self._tagger.finish()
        except AudioError:  # shorter than a frame, thus without events
            rest = []
        length_s = round(self._samples / self._source.rate_hz, 3)
        inside = [
            Event(event.start_s, min(event.end_s, length_s), event.label, event.score)
            for event in rest
            if event.start_s < length_s
        ]
        return found + self._live_events(inside, last=True)

    def _interrupted(self, missing: Break) -> list[LiveEvent]:
        """Handle lost samples; return the remaining events before them."""
        found = self._finish()
        self.seconds += missing.lost_s
        self.lost_s += missing.lost_s
        self.breaks += bool(missing.why)
        self._warn(f"{missing.why}; {missing.lost_s:.1f} s lost" if missing.why and missing.lost_s else missing.why)
        self._restart()
        return found

    def _live_events(self, events: list[Event], *, last: bool) -> list[LiveEvent]:
        """Events with their time, and their sound once the audio after them has arrived."""
        if self._lead_s is None:
            return [self._live_event(event, None) for event in events]
        self._undelivered += events
        until_s = np.inf if last else self._samples / self._source.rate_hz - self._lead_s
        ready = [event for event in self._undelivered if event.end_s <= until_s]
        self._undelivered = [event for event in self._undelivered if event.end_s > until_s]
        return [self._live_event(event, self._excerpt(event)) for event in ready]

    def _live_event(self, event: Event, excerpt: np.ndarray | None) -> LiveEvent:
        start_s, end_s = round(self._base_s + event.start_s, 3), round(self._base_s + event.end_s, 3)
        begins = self.began + timedelta(seconds=start_s)
        if not self._begin_is_given:
            begins = min(begins, datetime.now().astimezone() - timedelta(seconds=self.seconds - start_s))
        return LiveEvent(start_s, end_s, event.label, event.score, begins, excerpt)

    def _keep(self, samples: np.ndarray) -> None:
        self._kept.append(samples)
        self._kept_samples += len(samples)
        while self._kept_samples - len(self._kept[0]) >= BUFFER_S * self._source.rate_hz:
            self._kept_samples -= len(self._kept.popleft())

    def _excerpt(self, event: Event) -> np.ndarray:
        kept, first = np.concatenate(self._kept), self._samples - self._kept_samples
        lead_s = self._lead_s or 0.0
        start, end = ((second * self._source.rate_hz) for second in (event.start_s - lead_s, event.end_s + lead_s))
        return kept[max(round(start) - first, 0) : max(round(end) - first, 1)]
