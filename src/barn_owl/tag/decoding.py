"""The event decoder: from scores over time to events.

Hysteresis on the smoothed score that any label is active: a candidate lasts while the score stays above
``release_threshold``, if it reaches ``threshold``. Its onset is the maximum of the onset score nearby; where the
onset score rises to ``retrigger_threshold``, a new event begins. A candidate is labeled as a whole, and candidates of
one label within ``max_gap_s`` are merged. In a multilabel task each label is decoded independently.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

import numpy as np

from barn_owl.errors import PlanError
from barn_owl.model import DecodingSettings, Model
from barn_owl.tag.event_classifier import Dropped, Event, EventClassifier, by_start
from barn_owl.tag.scoring import ScoreBlock
from barn_owl.tag.smoothing import Smoother
from barn_owl.tag.tracks import JOINED_S, Candidate, Timing, Track

RULES_VERSION = 1
"""Version of the rules that turn scores into events: this module, `tracks`, `event_classifier`, `smoothing`, the
blocks of `scoring`. Raised with every change of events, so that stores can tell them apart."""
EARLIER_RULES: dict[int, tuple[str, ...]] = {
    1: (
        "970b89b95880d2b296a2bcc0f5f052bcae4e11185cad9ce1cfee301cca5e481e",
        "ba55489dafa7a30da6f96c4eaf086cc739ce285e17696862857f01f89dfef7f4",
        "e07991ac5791b5e06ccf871f3521ebf55925d7da7d70df1d48efdb0a2ec05fb8",
    )
}
"""Hashes of the same rules in stores written before rules had a version, by Python 3.11, 3.12 and 3.13."""


class EventDecoder:
    """Streaming decoder: takes blocks of a score trace in order and returns events as they are certain.

    Activity is decoded step by step, and segments are classified as wholes (`classifiers.base.segment_logits`).
    Events of a label are in order of time and never overlap; events of different labels overlap as far as
    ``max_overlap`` allows.

    Parameters
    ----------
    labels : Sequence[str]
        Labels in the order of the scores.
    silent : Sequence[str]
        Labels that are never events.
    timing : Timing
        Times of steps and durations in steps.
    settings : DecodingSettings
        Decoding settings.
    dropped : list[Dropped] | None
        A list that rejected events are added to, with the reason.
    names : bool
        False where labels may overlap, or without onset scores: each label is tracked separately.
    """

    def __init__(
        self,
        labels: Sequence[str],
        silent: Sequence[str],
        timing: Timing,
        settings: DecodingSettings,
        dropped: list[Dropped] | None = None,
        *,
        names: bool = True,
    ) -> None:
        unknown = sorted(set(settings.labels) - set(labels))
        if unknown:
            raise PlanError(f"decoding.labels.{unknown[0]}: the model knows {', '.join(labels)}")
        self._timing = timing
        self._reported = np.array([number for number, label in enumerate(labels) if label not in silent], dtype=int)
        # A track for any label, classified later; a track per label where they overlap.
        self._any = names
        self._tracks = [Track(0, -1, timing, for_any(settings, [labels[number] for number in self._reported]))]
        if not names:
            self._tracks = [
                Track(place, int(number), timing, settings.of(labels[number]))
                for place, number in enumerate(self._reported)
            ]
        self._classifier = EventClassifier(labels, silent, settings, dropped, names=names)
        self._smoother = Smoother(round(settings.smoothing_s / timing.step_s))
        self._activity, self._onsets = (np.empty((0, len(self._tracks)), dtype=np.float32) for _ in range(2))
        self._label_logits = np.empty((0, len(labels) + 2), dtype=np.float32)
        self._base = self._done = 0  # step of the first row that is kept, and the first that is not decided

    @classmethod
    def of(
        cls,
        model: Model,
        settings: DecodingSettings | None = None,
        dropped: list[Dropped] | None = None,
        *,
        first_s: float | None = None,
    ) -> "EventDecoder":
        """Create the decoder of a model, with its decoding settings by default.

        Parameters
        ----------
        model : Model
            Model, run, or the path of either.
        settings : DecodingSettings | None
            Decoding settings.
        dropped : list[Dropped] | None
            A list that rejected events are added to.
        first_s : float | None
            Time that the first step describes. Default: the center of the first frame.
        """
        timing = Timing.of(model)
        return cls(
            model.labels,
            [*model.background, *model.ignored],
            timing if first_s is None else replace(timing, first_s=first_s),
            settings or model.decoding,
            dropped,
            names=model.classifies_segments,
        )

    @property
    def latency_s(self) -> float:
        """Time after which an event that is over is returned, at most.

        Longer if the event continues within the gap, or if an overlapping event could replace it.
        """
        near, gap = self._timing.near, max((track.gap for track in self._tracks), default=0)
        # A later candidate may continue the event or, with a track per label, overlap it.
        steps = self._smoother.half + near + max(gap + 3, near + 2)
        return self._timing.window_s / 2 + steps * self._timing.step_s + self._classifier.waits_s

    def push(self, block: ScoreBlock) -> list[Event]:
        """Take the next block and return the events that are certain now.

        Parameters
        ----------
        block : ScoreBlock
            Next block of scores.
        """
        self._activity = np.concatenate([self._activity, self._smoother.push(self._followed(block.activity))])
        self._onsets = np.concatenate([self._onsets, self._followed(block.onsets)])
        self._label_logits = np.concatenate([self._label_logits, block.label_logits])
        # Where an event begins is looked for a little further on.
        return self._decide(self._base + len(self._activity) - self._timing.near - 1)

    def _followed(self, scores: np.ndarray) -> np.ndarray:
        """Return the tracked scores, ``(steps, tracks)``: of any label, or of each label with events."""
        return scores if self._any else scores[:, self._reported]

    def finish(self) -> list[Event]:
        """Return the events that were still open at the end of the recording."""
        self._activity = np.concatenate([self._activity, self._smoother.finish(self._activity.shape[1])])
        events = self._decide(self._base + len(self._activity))
        rest = [found for track in self._tracks for found in track.close()]
        return sorted([*events, *self._classifier.push(rest, np.inf)], key=by_start)

    def _decide(self, until: int) -> list[Event]:
        """Continue to step `until`."""
        if until <= self._done:
            return []
        found: list[Candidate] = []
        for track in self._tracks:
            found += track.decode(self._activity, self._onsets, self._label_logits, self._base, self._done, until)
        self._done = until
        drop = max(0, until - self._timing.near - self._timing.peak - self._base)
        self._activity, self._onsets, self._label_logits = (
            self._activity[drop:],
            self._onsets[drop:],
            self._label_logits[drop:],
        )
        self._base += drop
        open_s = min((track.earliest_s for track in self._tracks), default=np.inf)
        to_come = self._timing.at(until - self._timing.near) + min(
            (track.settings.onset_shift_s for track in self._tracks), default=0.0
        )
        return self._classifier.push(found, min(open_s, to_come))


def for_any(settings: DecodingSettings, labels: Sequence[str]) -> DecodingSettings:
    """Return the settings to track any of several labels: their lowest thresholds."""
    lowest = min((settings.of(label).threshold for label in labels), default=settings.threshold)
    return settings.model_copy(update={"threshold": lowest, "max_gap_s": min(settings.max_gap_s, JOINED_S)})


def decided(blocks: Iterable[ScoreBlock], decoder: EventDecoder) -> Iterator[Event]:
    """Events of the blocks of a whole recording, as they are decided."""
    for block in blocks:
        yield from decoder.push(block)
    yield from decoder.finish()
