"""Training mixtures: short synthetic recordings with sounds of clips at random positions and levels over background.

They are combined from log-mel frames: independent sounds add in power, and a gain or a recorder's response is an
offset in dB, so samples are not needed. Frames of further features cannot be added; there, a sound replaces the
background.
"""

import json
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np

from barn_owl.arrays import power_of
from barn_owl.features.activity import clip_background
from barn_owl.learn.augment import Augment, hats
from barn_owl.learn.fitted import Examples
from barn_owl.learn.labeled import LabeledFrames
from barn_owl.learn.plan import Plan
from barn_owl.learn.sources import TINY, describe, synthetic_sounds, white_noise

MIN_BACKGROUND_S = 0.3
"""Shortest stretch of quiet that is used as background."""
SOUNDS_A_SECOND = 4 / 3
"""Largest number of sounds per second of a mixture; drawn uniformly up to it."""
APART_S = (0.06, 0.28)
"""Time between whole clips in sequence: short, since it costs as much as clips."""
CUT_SHARE = 0.3
"""Share of sounds that may begin before the mixture or continue after it."""
WHOLE = 4
"""Length in mixtures above which a sound is treated as a whole recording: any stretch of it is as
good."""
MIN_FRAMES = 3
"""Minimum number of frames of a sound in a window that contains it."""
SLOPE_DB = (-10.0, 30.0)
"""Fall of synthetic noise from the lowest band to the highest: from bluish to brown."""
STILL = 0.1
"""Share of mixtures with hardly any background, like denoised clips."""
DRIFTS, DRIFT_DB = (4, 12, 30), 5.0
"""Support points of the drifting noise level of a mixture, from slow to gusty, and largest drift."""
DITHER_DB = -90.0
"""Mean level of bands below which a clip's quiet is that of its encoding, 16 bits with dither for example."""


class Mixtures(NamedTuple):
    """A batch of mixtures, frame by frame.

    frames : ``(mixtures, frames, features)``, as from the front end. activity, onsets : 1 where a label is active,
    and in the frame of its onset, ``(mixtures, frames, labels)``; counts : 0 where a sound is too faint. events :
    mixture, first and last-plus-one frame and label of each audible sound, with the number after the last label for
    no label. clips : number of the clip of the last labeled sound of each mixture, else -1.
    """

    frames: np.ndarray
    activity: np.ndarray
    onsets: np.ndarray
    counts: np.ndarray
    events: list[tuple[int, int, int, int]]
    clips: np.ndarray


class MixtureMaker:
    """Creates mixtures of the clips of a split.

    background : numbers of the background labels, whose clips are mixed under sounds, like `Examples.behind`.
    """

    def __init__(self, plan: Plan, examples: Examples, background: Sequence[int]) -> None:
        self._plan, self._front_end = plan, plan.front_end
        self._adds = plan.front_end.is_log_mel
        self._augment = Augment(plan.augment, plan.front_end)
        self._examples, self._background = examples, list(background)
        self._clips = list(examples.clips.parts)
        self._sounds = [describe(self._front_end, frames) for frames in self._clips]
        is_bed = examples.targets[:, self._background].any(axis=1)
        numbers = examples.numbers
        self._by_label = [
            np.flatnonzero((numbers == number) & ~is_bed)
            for number in range(examples.targets.shape[1])
            if number not in self._background and ((numbers == number) & ~is_bed).any()
        ]
        self._beds = np.flatnonzero(is_bed)
        self._row_kinds = [own for number in range(examples.targets.shape[1])
                           if len(own := np.flatnonzero(numbers == number))]  # fmt: skip
        self._quiet = list(examples.behind.parts)
        if not len(self._beds) and not self._quiet:
            self._quiet = self._quiet_parts()
        kind = json.dumps(plan.front_end.identity()), plan.seed
        self._unknown = synthetic_sounds(*kind) if self._adds and plan.mixtures.unknown else []
        self._noise = white_noise(*kind) if self._adds else np.empty((0, plan.front_end.width), dtype=np.float32)

    def replace(self, clip: int, frames: np.ndarray) -> None:
        """Replace the frames of a clip, for example by frames of its augmented sound."""
        self._clips[clip] = frames
        self._sounds[clip] = describe(self._front_end, frames)

    def make(
        self, count: int, frames: int, rng: np.random.Generator, *, most: int | None = None, margin: int = 0,
        whole: float | None = None,
    ) -> Mixtures:  # fmt: skip
        """Create `count` mixtures of `frames` frames with up to `most` sounds each, by default as many as suit their
        length.

        margin : masked frames at both ends: a sound begins there only if it reaches further in.
        whole : share of mixtures that hold whole clips, if not that of the plan.
        """
        whole = self._plan.mixtures.whole_clips if whole is None else whole
        most = most or max(1, round(SOUNDS_A_SECOND * frames * self._front_end.hop_s))
        made = [
            self._row(frames, rng, margin) if rng.random() < whole else self._mixture(frames, rng, most, margin)
            for _ in range(count)
        ]
        events = [(number, *event) for number, one in enumerate(made) for event in one.events]
        frames_, activity, onsets, counts = (
            np.stack([getattr(one, name) for one in made]) for name in ("frames", "activity", "onsets", "counts")
        )
        return Mixtures(frames_, activity, onsets, counts, events, np.array([one.clip for one in made]))

    def _quiet_parts(self) -> list[np.ndarray]:
        """Background of the clips, unless it is digital silence."""
        found = []
        least = max(self._front_end.floor_db + 10, DITHER_DB)
        for frames, sound in zip(self._clips, self._sounds, strict=True):
            parts = (frames[: sound.first], frames[sound.last :])
            found += [
                part
                for part in parts
                if len(part) * self._front_end.hop_s >= MIN_BACKGROUND_S
                and part[:, self._front_end.level_columns].mean() > least
            ]
        return found

    def _mixture(self, length: int, rng: np.random.Generator, most: int, margin: int) -> LabeledFrames:
        settings, mixture = self._plan.mixtures, LabeledFrames(*self._bed(length, rng), self._front_end.hop_s)
        if rng.random() >= settings.empty:
            for _ in range(int(rng.integers(1, most + 1))):
                self._put(mixture, length, rng, margin)
        if self._adds:
            mixture.add_up(power_of(self._augment.response_db(rng)))
            self._turn_into_levels(mixture.frames, rng)
        mixture.mark(self._background)
        mixture.name_quiet(self._background, rng)
        return mixture

    def _row(self, length: int, rng: np.random.Generator, margin: int) -> LabeledFrames:
        """Return whole clips in sequence, each in its quiet, as in the classification of clips."""
        labels = self._examples.targets.shape[1]
        bed_labels = np.zeros(labels, dtype=np.float32)
        bed_labels[self._background] = 1 if len(self._background) == 1 else np.nan
        mixture = LabeledFrames(
            np.empty((length, self._front_end.width), dtype=np.float32), bed_labels, self._front_end.hop_s
        )
        at = 0
        while True:
            kinds = len(self._row_kinds) + bool(self._unknown)
            kind = int(rng.integers(kinds))
            if kind == len(self._row_kinds):
                (frames, sound), targets = self._unknown[int(rng.integers(len(self._unknown)))], None
            else:
                own = self._row_kinds[kind]
                clip = int(own[rng.integers(len(own))])
                frames, sound, targets = self._clips[clip], self._sounds[clip], self._examples.targets[clip]
                mixture.clip = clip
            gap = round(rng.uniform(*APART_S) / self._front_end.hop_s) if at else margin
            space = length - at - gap - margin // 2
            pace = self._augment.pace(rng)
            if len(frames) * pace > space and at:
                break
            frames, active, onset = self._augment.warped(frames, sound.of_clip(frames), rng, pace)
            if len(frames) > space:
                first = int(rng.integers(len(frames) - space + 1))
                frames, active, onset = frames[first : first + space], active[first : first + space], onset - first
            around = frames.min(axis=0)
            if self._adds:
                around = clip_background(frames, self._front_end.hop_s, self._front_end.floor_db)
                change = self._augment.response_db(rng) + np.float32(rng.uniform(-8, 8) - 10 * np.log10(sound.power))
                frames, around = frames + change, around + change
            mixture.frames[at : at + gap] = around
            at += gap
            mixture.put_whole(frames, at, active, onset, targets)
            at += len(frames)
            mixture.frames[at:] = around
        if self._adds:
            mixture.frames = power_of(mixture.frames)
            self._turn_into_levels(mixture.frames, rng)
        mixture.mark(self._background)
        return mixture

    def _turn_into_levels(self, power: np.ndarray, rng: np.random.Generator) -> None:
        """Mask the highest bands of some mixtures, and convert power to levels like the front end, in place."""
        self._augment.narrow(power, rng)
        power += np.float32(10 ** (self._front_end.floor_db / 10))
        np.log10(power, out=power)
        power *= 10

    def _bed(self, length: int, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
        """Return the background of a mixture: power with mean 1 over all bands, and its labels."""
        labels = np.zeros(self._examples.targets.shape[1], dtype=np.float32)
        if not self._adds:
            return self._still_bed(length, labels, rng)
        synthetic = rng.random() < self._plan.mixtures.noise
        if synthetic or not (len(self._beds) or self._quiet):
            bed = self._colored(length, rng)
        else:
            bed = np.concatenate(list(self._parts_of_bed(length, labels, rng)))
            if rng.random() < self._plan.mixtures.noise:
                bed = np.float32(0.3) * bed + self._colored(length, rng)
        if not labels.any():
            labels[self._background] = 1 if len(self._background) == 1 else np.nan
        return bed * np.float32(10 ** -rng.uniform(3, 7) if rng.random() < STILL else 1), labels

    def _parts_of_bed(self, length: int, labels: np.ndarray, rng: np.random.Generator) -> Iterator[np.ndarray]:
        missing = length
        while missing > 0:
            number = int(rng.integers(len(self._beds) + len(self._quiet)))
            if number < len(self._beds):
                clip = int(self._beds[number])
                frames = self._clips[clip]
                np.maximum(labels, self._examples.targets[clip], out=labels)
            else:
                frames = self._quiet[number - len(self._beds)]
            size = min(len(frames), missing)
            start = int(rng.integers(len(frames) - size + 1))
            part = power_of(frames[start : start + size])
            yield part / np.float32(max(float(part.sum()) / size, TINY))
            missing -= size

    def _still_bed(self, length: int, labels: np.ndarray, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
        """Frames of a clip's quietest moment, or of background, for features that cannot be added up."""
        if len(self._beds):
            clip = int(self._beds[rng.integers(len(self._beds))])
            labels[:] = self._examples.targets[clip]
            frames = self._clips[clip]
            return np.resize(frames, (length, frames.shape[1])).astype(np.float32), labels
        labels[self._background] = 1
        frames = self._clips[int(rng.integers(len(self._clips)))]
        quietest = frames[:, self._front_end.level_columns].mean(axis=1).argmin()
        return np.repeat(frames[quietest : quietest + 1], length, axis=0).astype(np.float32), labels

    def _colored(self, length: int, rng: np.random.Generator) -> np.ndarray:
        """Noise of a random color whose level drifts."""
        starts = rng.integers(0, len(self._noise) - 64, size=-(-length // 64))
        noise = np.concatenate([self._noise[at : at + 64] for at in starts])[:length]
        color = self._augment.slope_db(rng.uniform(*SLOPE_DB)) + self._augment.bump_db(4.0, rng)
        points = DRIFTS[rng.integers(len(DRIFTS))]
        drift = rng.normal(0, rng.uniform(0, DRIFT_DB), points).astype(np.float32) @ hats(length, points)
        noise = noise * power_of(color)
        noise *= power_of(drift)[:, None]
        noise /= np.float32(noise.sum() / length)
        return noise

    def _put(self, mixture: LabeledFrames, length: int, rng: np.random.Generator, margin: int) -> None:
        """Add a labeled or synthetic sound to a mixture, at any place and level."""
        if self._adds and rng.random() < self._plan.mixtures.unknown:
            number = int(rng.integers(len(self._unknown)))
            (frames, sound), labels = self._unknown[number], None
        else:
            own = self._by_label[int(rng.integers(len(self._by_label)))]
            clip = int(own[rng.integers(len(own))])
            frames, sound, labels = self._clips[clip], self._sounds[clip], self._examples.targets[clip]
            mixture.clip = clip
        pace = self._augment.pace(rng)
        frames, active, onset = self._augment.warped(frames[sound.first : sound.last], sound, rng, pace)
        power = power_of(frames) if self._adds else frames
        if self._adds:
            if sound.quiet is not None:
                np.maximum(power - sound.quiet, np.float32(0.03) * power, out=power)
            power, active = self._augment.reverberated(power, active, rng)
        size = len(power)
        if size > WHOLE * length:
            first, last = length - margin - size, margin
        elif rng.random() < CUT_SHARE:
            first, last = margin - (2 * size) // 3, length - margin - 5
        else:
            first, last = margin, length - margin - min(size, length // 4)
        at = int(rng.integers(first, max(first + 1, last)))
        start, end = max(0, at), min(length, at + size)
        if end <= start:
            return
        part, active = power[start - at : end - at], active[start - at : end - at]
        if self._adds:
            snr_db = rng.uniform(self._plan.mixtures.snr_low_db, self._plan.mixtures.snr_high_db)
            part = part * power_of(self._augment.response_db(rng) + np.float32(snr_db)) / np.float32(sound.power)
        mixture.add(part, start, active, at + onset, labels, self._adds)
