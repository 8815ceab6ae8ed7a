"""Short made-up recordings to learn from: sounds of clips at any place and level over background, and what is heard.

They are put together from log-mel frames: sounds that are independent of each other add in power, and a gain or a
recorder's response is an offset in dB, so that nothing needs to go back to the samples. Frames of other features
cannot be added up; of those, a sound takes the place of what is behind it.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from barn_owl.arrays import power_of
from barn_owl.features import FrontEnd
from barn_owl.features.activity import (
    FAINT,
    LEAST_QUIET,
    activity,
    around_clip,
    is_loud,
    onset_frame,
    quiet_level,
    sounding,
)
from barn_owl.learn.fitted import Examples
from barn_owl.learn.plan import Plan
from barn_owl.sound import made_up_sound

LEAD_FRAMES, TAIL_FRAMES = 3, 50
"""Frames before its onset, and at most behind its last one that is heard, that belong to a sound."""
MADE_UP = 240
"""Made-up sounds to choose from."""
UNLIKE = 240
"""Sounds that are made of those of labels, to be none of them."""
CHIMERAS, REVERSED = 0.5, 0.5
MADE_UP_STREAM, NOISE_STREAM, UNLIKE_STREAM = 23, 29, 37
"""Keep their random numbers apart from those of the training itself."""
NOISE_S = 20.0
SHORTEST_BED = 20
"""Frames that a stretch of quiet needs to be of use as background."""
SOUNDS_A_SECOND = 4 / 3
"""Sounds in a mixture at most, for each second of it; any number up to that is as likely."""
CUT_OFF = 0.3
"""Share of sounds that may begin before the scene or go on after it."""
WHOLE = 4
"""Scenes that a sound lasts from which on it is taken for a recording as a whole, any stretch of which is as good."""
AUDIBLE = 1.0
"""Power of a sound over all else in its clearest bands from which on it is heard."""
LEAST_FRAMES = 3
"""Frames of a sound in a window from which on the window is said to hold it."""
SLOPE_DB = (-10.0, 30.0)
"""Fall of made-up noise from the lowest band to the highest: from bluish to brown."""
BUMPS = 6
"""Points between which a random response is drawn."""
STILL = 0.1
"""Share of scenes with next to nothing behind the sounds, like clips that were cleaned."""
DRIFTS, DRIFT_DB = (4, 12, 30), 5.0
"""Points of a scene between which the level of noise drifts, slowly or in gusts, and by how much at most."""
SHIFTS_A_BAND = 20
"""Shifts along the bands are multiples of this part of a band, so that few have to be worked out."""
DITHER_DB = -90.0
"""Mean level of bands below which a clip's quiet is that of its encoding, 16 bits with dither for example."""
QUIET_TRIES, QUIET_FRAMES = 3, (6, 80)
"""Stretches in which nothing sounds that a mixture may have named, and how long they are."""
TINY = 1e-20
"""Power far below any sound, so that nothing is divided by 0."""


class Scenes(NamedTuple):
    """A batch of scenes, frame by frame.

    frames : ``(scenes, frames, features)``, as from the front end. sounds, begins : 1 where a label sounds, and in
    the frame in which it begins, ``(scenes, frames, labels)``; counts : 0 where it cannot be told whether it sounds,
    since it is too faint. events : scene, first and last-plus-one frame and label of each sound that is heard, the
    number behind the last label for one of no label. clips : number of the clip of the last sound of a label in each
    scene, -1 where there is none.
    """

    frames: np.ndarray
    sounds: np.ndarray
    begins: np.ndarray
    counts: np.ndarray
    events: list[tuple[int, int, int, int]]
    clips: np.ndarray


@dataclass(frozen=True)
class _Sound:
    """Which frames of a clip are its sound, and how loud that is: mean power of all bands together."""

    first: int
    last: int
    onset: int
    heard: np.ndarray
    power: float
    quiet: np.ndarray | None

    def of_clip(self, frames: np.ndarray) -> "_Sound":
        """The same within all frames of the clip."""
        heard = np.zeros(len(frames), dtype=bool)
        heard[self.first : self.last] = self.heard
        return replace(self, first=0, last=len(frames), onset=self.first + self.onset, heard=heard)


class SceneMaker:
    """Makes scenes of the clips of one side.

    background : numbers of the labels that mean nothing of interest: their clips are what sounds lie over, beside
    `Examples.behind`.
    """

    def __init__(self, plan: Plan, examples: Examples, background: Sequence[int]) -> None:
        self._plan, self._front_end = plan, plan.front_end
        self._adds = plan.front_end.is_log_mel
        self._examples, self._background = examples, list(background)
        self._clips = list(examples.clips.parts)
        self._sounds = [_described(self._front_end, frames) for frames in self._clips]
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
        kind = plan.front_end.model_dump_json(), plan.seed
        self._foreign: list[tuple[np.ndarray, _Sound]] = []
        if self._adds and plan.scenes.foreign:
            self._foreign = [*_made_up(*kind), *self._unlike(np.random.default_rng([plan.seed, UNLIKE_STREAM]))]
        # A random response is a mixture of a slope and of bumps.
        bands = plan.front_end.width
        self._slope = np.linspace(-0.5, 0.5, bands).astype(np.float32)
        self._bumps = _hats(bands, BUMPS)
        self._noise = _noise(*kind) if self._adds else np.empty((0, plan.front_end.width), dtype=np.float32)

    def replace(self, clip: int, frames: np.ndarray) -> None:
        """Put other frames in the place of a clip, such as those of the sound changed."""
        self._clips[clip] = frames
        self._sounds[clip] = _described(self._front_end, frames)

    def make(
        self, count: int, frames: int, rng: np.random.Generator, *, most: int | None = None, margin: int = 0,
        whole: float | None = None,
    ) -> Scenes:  # fmt: skip
        """Make `count` scenes of `frames` frames with up to `most` sounds each, or as many as suit their length.

        margin : frames at both ends of which nothing is asked: no sound begins there but to reach further in.
        whole : share of scenes that hold whole clips, if not that of the plan.
        """
        whole = self._plan.scenes.whole if whole is None else whole
        most = most or max(1, round(SOUNDS_A_SECOND * frames * self._front_end.hop_s))
        made = [
            self._row(frames, rng, margin) if rng.random() < whole else self._scene(frames, rng, most, margin)
            for _ in range(count)
        ]
        events = [(number, *event) for number, one in enumerate(made) for event in one.events]
        frames_, sounds, begins, counts = (
            np.stack([getattr(one, name) for one in made]) for name in ("frames", "sounds", "begins", "counts")
        )
        return Scenes(frames_, sounds, begins, counts, events, np.array([one.clip for one in made]))

    def _unlike(self, rng: np.random.Generator) -> list[tuple[np.ndarray, _Sound]]:
        """Sounds of no label, made of those of labels: the bands of one mirrored, or the low ones of one and the
        high ones of one of another label."""
        made = []
        for _ in range(UNLIKE):
            kinds = rng.permutation(len(self._by_label))
            one, *others = (
                self._clips[clip][self._sounds[clip].first : self._sounds[clip].last]
                for clip in (int(rng.choice(self._by_label[kind])) for kind in kinds[:2])
            )
            bands = one.shape[1]
            if others and rng.random() < CHIMERAS:
                length = min(len(one), len(others[0]))
                cut = int(rng.integers(bands // 4, bands - bands // 4 + 1))
                low, high = one[:length], others[0][:length]
                louder = low[:, :cut].max() - high[:, cut:].max()
                frames = np.concatenate([low[:, :cut], high[:, cut:] + louder], axis=1)
            else:
                frames = one[:, ::-1]
                if rng.random() < REVERSED:
                    frames = frames[::-1]
            made.append(np.ascontiguousarray(frames))
        return [(frames, _described(self._front_end, frames)) for frames in made]

    def _quiet_parts(self) -> list[np.ndarray]:
        """What is heard of the clips while their sound is not, if that is more than digital silence."""
        found = []
        least = max(self._front_end.floor_db + 10, DITHER_DB)
        for frames, sound in zip(self._clips, self._sounds, strict=True):
            parts = (frames[: sound.first], frames[sound.last :])
            found += [
                part
                for part in parts
                if len(part) >= SHORTEST_BED and part[:, self._front_end.level_columns].mean() > least
            ]
        return found

    def _scene(self, length: int, rng: np.random.Generator, most: int, margin: int) -> "_Scene":
        settings, scene = self._plan.scenes, _Scene(*self._bed(length, rng), self._examples.targets.shape[1])
        if rng.random() >= settings.empty:
            for _ in range(int(rng.integers(1, most + 1))):
                self._put(scene, length, rng, margin)
        if self._adds:
            scene.add_up(power_of(self._response_db(rng)))
            self._narrow(scene.frames, rng)
            scene.frames += np.float32(10 ** (self._front_end.floor_db / 10))
            np.log10(scene.frames, out=scene.frames)
            scene.frames *= 10
        scene.mark(self._background)
        scene.name_quiet(self._background, rng)
        return scene

    def _row(self, length: int, rng: np.random.Generator, margin: int) -> "_Scene":
        """Whole clips one after the other as they are, each in its own quiet, as a clip is named."""
        labels = self._examples.targets.shape[1]
        bed_labels = np.zeros(labels, dtype=np.float32)
        bed_labels[self._background] = 1 if len(self._background) == 1 else np.nan
        scene = _Scene(np.empty((length, self._front_end.width), dtype=np.float32), bed_labels, labels)
        at = 0
        while True:
            kinds = len(self._row_kinds) + bool(self._foreign)
            kind = int(rng.integers(kinds))
            if kind == len(self._row_kinds):
                (frames, sound), targets = self._foreign[int(rng.integers(len(self._foreign)))], None
            else:
                own = self._row_kinds[kind]
                clip = int(own[rng.integers(len(own))])
                frames, sound, targets = self._clips[clip], self._sounds[clip], self._examples.targets[clip]
                scene.clip = clip
            gap = int(rng.integers(margin // 3, margin + 1)) if at else margin
            space = length - at - gap - margin // 2
            pace = 1 + rng.uniform(-1, 1) * self._plan.augment.stretch_percent / 100
            if len(frames) * pace > space and at:
                break
            frames, heard, onset = self._warped(frames, sound.of_clip(frames), rng, pace)
            if len(frames) > space:
                first = int(rng.integers(len(frames) - space + 1))
                frames, heard, onset = frames[first : first + space], heard[first : first + space], onset - first
            around = frames.min(axis=0)
            if self._adds:
                around = around_clip(frames, self._front_end.floor_db)
                change = self._response_db(rng) + np.float32(rng.uniform(-8, 8) - 10 * np.log10(sound.power))
                frames, around = frames + change, around + change
            scene.frames[at : at + gap] = around
            at += gap
            scene.put_whole(frames, at, heard, onset, targets)
            at += len(frames)
            scene.frames[at:] = around
        if self._adds:
            power = power_of(scene.frames)
            self._narrow(power, rng)
            power += np.float32(10 ** (self._front_end.floor_db / 10))
            np.log10(power, out=power)
            power *= 10
            scene.frames = power
        scene.mark(self._background)
        return scene

    def _bed(self, length: int, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
        """What is behind the sounds: power with a mean of 1 over all bands together; and which labels it has."""
        labels = np.zeros(self._examples.targets.shape[1], dtype=np.float32)
        if not self._adds:
            return self._still_bed(length, labels, rng)
        made_up = rng.random() < self._plan.scenes.noise
        if made_up or not (len(self._beds) or self._quiet):
            bed = self._coloured(length, rng)
        else:
            bed = np.concatenate(list(self._parts_of_bed(length, labels, rng)))
            if rng.random() < self._plan.scenes.noise:
                bed = np.float32(0.3) * bed + self._coloured(length, rng)
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

    def _coloured(self, length: int, rng: np.random.Generator) -> np.ndarray:
        """Noise of a random colour whose level drifts."""
        starts = rng.integers(0, len(self._noise) - 64, size=-(-length // 64))
        noise = np.concatenate([self._noise[at : at + 64] for at in starts])[:length]
        colour = self._slope * np.float32(-rng.uniform(*SLOPE_DB)) + self._bump_db(4.0, rng)
        points = DRIFTS[rng.integers(len(DRIFTS))]
        drift = rng.normal(0, rng.uniform(0, DRIFT_DB), points).astype(np.float32) @ _hats(length, points)
        noise = noise * power_of(colour)
        noise *= power_of(drift)[:, None]
        noise /= np.float32(noise.sum() / length)
        return noise

    def _put(self, scene: "_Scene", length: int, rng: np.random.Generator, margin: int) -> None:
        """Put a sound into a scene, one of a label or a made-up one, at any place and level."""
        if self._adds and rng.random() < self._plan.scenes.foreign:
            number = int(rng.integers(len(self._foreign)))
            (frames, sound), labels = self._foreign[number], None
        else:
            own = self._by_label[int(rng.integers(len(self._by_label)))]
            clip = int(own[rng.integers(len(own))])
            frames, sound, labels = self._clips[clip], self._sounds[clip], self._examples.targets[clip]
            scene.clip = clip
        pace = 1 + rng.uniform(-1, 1) * self._plan.augment.stretch_percent / 100
        frames, heard, onset = self._warped(frames[sound.first : sound.last], sound, rng, pace)
        size = len(frames)
        if size > WHOLE * length:
            first, last = length - margin - size, margin
        elif rng.random() < CUT_OFF:
            first, last = margin - (2 * size) // 3, length - margin - 5
        else:
            first, last = margin, length - margin - min(size, length // 4)
        at = int(rng.integers(first, max(first + 1, last)))
        start, end = max(0, at), min(length, at + size)
        if end <= start:
            return
        part, heard = frames[start - at : end - at], heard[start - at : end - at]
        if self._adds:
            snr_db = rng.uniform(self._plan.scenes.snr_low_db, self._plan.scenes.snr_high_db)
            part = power_of(part)
            if sound.quiet is not None:
                np.maximum(part - sound.quiet, np.float32(0.03) * part, out=part)
            part *= power_of(self._response_db(rng) + np.float32(snr_db)) / np.float32(sound.power)
        scene.add(part, start, heard, at + onset, labels, self._adds)

    def _warped(
        self, frames: np.ndarray, sound: _Sound, rng: np.random.Generator, pace: float
    ) -> tuple[np.ndarray, np.ndarray, int]:
        """Play a sound faster or slower, and shift it along the bands; its frames, where it is heard, its onset."""
        if pace != 1:
            length = max(LEAST_FRAMES, round(len(frames) * pace))
            at = np.minimum(np.arange(length) / pace, len(frames) - 1)
            frames = _between(frames, at)
            heard = sound.heard[at.astype(int)]
        else:
            heard = sound.heard
        if self._adds and self._plan.augment.shift_bands:
            shift = rng.uniform(-1, 1) * self._plan.augment.shift_bands
            frames = frames @ _shift(frames.shape[1], round(shift * SHIFTS_A_BAND))
        return frames, heard, int(sound.onset * pace)

    def _response_db(self, rng: np.random.Generator) -> np.ndarray:
        """A smooth response in dB, ``(bands,)``: a slope and bumps, as of another microphone or place."""
        tilt = self._plan.augment.tilt_db
        return np.float32(rng.uniform(-1, 1) * tilt) * self._slope + self._bump_db(tilt / 4, rng)

    def _bump_db(self, deviation_db: float, rng: np.random.Generator) -> np.ndarray:
        return rng.normal(0, deviation_db, BUMPS).astype(np.float32) @ self._bumps

    def _narrow(self, power: np.ndarray, rng: np.random.Generator) -> None:
        """Take away the highest bands, or a few neighbouring ones, of some scenes, in place."""
        bands = power.shape[1]
        if rng.random() < self._plan.augment.low_pass:
            power[:, int(rng.uniform(0.45, 1) * bands) :] *= np.float32(10 ** -rng.uniform(3, 8))
        if rng.random() < self._plan.augment.mask and bands >= 12:
            width = int(rng.integers(1, bands // 6))
            low = int(rng.integers(bands - width))
            power[:, low : low + width] = power[:, low : low + width].mean() * np.float32(0.01)


class _Scene:
    """A scene in the making."""

    def __init__(self, bed: np.ndarray, bed_labels: np.ndarray, labels: int) -> None:
        self.frames, self._bed_labels = bed, bed_labels
        length = len(bed)
        self.sounds, self.begins = (np.zeros((length, labels), dtype=np.float32) for _ in range(2))
        self.counts = np.ones((length, labels), dtype=np.float32)
        self.events: list[tuple[int, int, int]] = []
        self.clip = -1
        self._parts: list[tuple[int, np.ndarray, np.ndarray, int, np.ndarray | None]] = []

    def add(
        self, part: np.ndarray, start: int, heard: np.ndarray, onset: int, labels: np.ndarray | None, adds: bool
    ) -> None:
        """Add a sound from frame `start` on, or put it in the place of what was there."""
        if adds:
            self.frames[start : start + len(part)] += part
            self._parts.append((start, part, heard, onset, labels))
        else:
            self.frames[start : start + len(part)] = part
            self._mark(start, heard, onset, labels, heard)

    def put_whole(
        self, frames: np.ndarray, start: int, heard: np.ndarray, onset: int, labels: np.ndarray | None
    ) -> None:
        """Put all frames of a clip in the place of what was there."""
        self.frames[start : start + len(frames)] = frames
        if labels is None:
            self.events.append((start, start + len(frames), self.sounds.shape[1]))
            return
        for number in np.flatnonzero(labels):
            self.sounds[start : start + len(frames), number] = heard
            if 0 <= onset < len(frames):
                self.begins[start + onset, number] = 1
            self.events.append((start, start + len(frames), int(number)))

    def add_up(self, response: np.ndarray) -> None:
        """Find out which sounds are heard beside all else, and colour the whole."""
        for start, part, heard, onset, labels in self._parts:
            over = self.frames[start : start + len(part)] - part
            np.maximum(over, np.float32(TINY), out=over)
            np.divide(part, over, out=over)
            # Three neighbouring bands, and three frames, must agree.
            clear = (over[:, :-2] + over[:, 1:-1] + over[:, 2:]).max(axis=1)
            around = np.concatenate([clear[:1], clear, clear[-1:]])
            audible = heard & (around[:-2] + clear + around[2:] > 9 * AUDIBLE)
            self._mark(start, heard, onset, labels, audible)
        self.frames *= response

    def _mark(
        self, start: int, heard: np.ndarray, onset: int, labels: np.ndarray | None, audible: np.ndarray
    ) -> None:
        """Say where a sound is heard; where it would be but for all else, nothing can be asked."""
        if not heard.any():
            return
        wanted, found = np.flatnonzero(heard) + start, np.flatnonzero(audible) + start
        if labels is None:
            if len(found):
                self.events.append((int(found[0]), int(found[-1]) + 1, self.sounds.shape[1]))
            return
        own = np.flatnonzero(labels)
        doubtful = slice(wanted[0], wanted[-1] + 1)
        for number in own:
            self.counts[doubtful, number] = np.where(
                self.sounds[doubtful, number] > 0, self.counts[doubtful, number], 0
            )
            if not len(found):
                continue
            first, last = found[0], found[-1] + 1
            self.counts[first:last, number] = self.sounds[first:last, number] = 1
            if 0 <= onset < len(self.begins) and onset >= start and (found < onset + 8).any():
                self.begins[onset, number] = 1
            self.events.append((int(first), int(last), int(number)))

    def mark(self, background: list[int]) -> None:
        """Background is where no label sounds."""
        named = [number for number in range(self.sounds.shape[1]) if number not in background]
        nothing = ~self.sounds[:, named].any(axis=1)
        sure = self.counts[:, named].all(axis=1)
        for number in background:
            is_known = not np.isnan(self._bed_labels[number])
            self.sounds[:, number] = nothing * (self._bed_labels[number] if is_known else 0)
            self.counts[:, number] = sure & (is_known | ~nothing)

    def name_quiet(self, background: list[int], rng: np.random.Generator) -> None:
        """Name stretches in which nothing sounds as what is behind, so that what is taken for a sound there is not
        named as one."""
        known = [number for number in background if self._bed_labels[number] == 1]
        label = known[0] if len(known) == 1 else self.sounds.shape[1]
        named = [number for number in range(self.sounds.shape[1]) if number not in background]
        taken = (self.sounds[:, named].any(axis=1) | (self.counts[:, named] == 0).any(axis=1)).tolist()
        for first, last, _ in self.events:
            taken[first:last] = [True] * (last - first)
        for _ in range(QUIET_TRIES):
            length = int(rng.integers(*QUIET_FRAMES))
            first = int(rng.integers(max(1, len(taken) - length)))
            if not any(taken[first : first + length]):
                self.events.append((first, first + length, label))
                taken[first : first + length] = [True] * length


def _described(front_end: FrontEnd, frames: np.ndarray) -> _Sound:
    levels = frames[:, front_end.level_columns]
    if "log-mel" in front_end.widths:
        heard, loud = sounding(levels), is_loud(levels)
        onset = onset_frame(levels, heard)
    else:  # no levels in dB: only what stands out can be told
        stands_out = activity(levels)
        heard = loud = stands_out >= FAINT * stands_out.max()
        onset = int(heard.argmax())
    at = np.flatnonzero(heard)
    first = max(0, min(onset, int(at[0])) - LEAD_FRAMES)
    # What dies away goes on for a while, though it cannot be told from what is behind it.
    last = min(int(np.flatnonzero(loud)[-1]), int(at[-1]) + TAIL_FRAMES) + 1
    power = float(power_of(levels[heard]).sum(axis=1, dtype=np.float64).mean()) if front_end.is_log_mel else 1.0
    quiet = levels[~heard]
    behind = power_of(quiet_level(quiet)) if front_end.is_log_mel and len(quiet) >= LEAST_QUIET else None
    return _Sound(first, last, onset - first, heard[first:last], max(power, TINY), behind)


@lru_cache(maxsize=64)
def _hats(size: int, points: int) -> np.ndarray:
    """Triangles over `size` places whose mixture goes by straight lines between `points` values, ``(points,
    size)``."""
    places = np.linspace(0, points - 1, size)
    return np.maximum(0, 1 - np.abs(places - np.arange(points)[:, None])).astype(np.float32)


def _between(frames: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Values at places between frames, by straight lines."""
    low = at.astype(int)
    here = frames.take(low, 0)
    step = frames.take(np.minimum(low + 1, len(frames) - 1), 0)
    step -= here
    step *= (at - low).astype(np.float32)[:, None]
    here += step
    return here


@lru_cache(maxsize=256)
def _shift(bands: int, steps: int) -> np.ndarray:
    """Matrix that moves frames up by so many steps of a band, by straight lines, ``(bands, bands)``."""
    from_ = np.clip(np.arange(bands) - steps / SHIFTS_A_BAND, 0, bands - 1)
    return np.maximum(0, 1 - np.abs(np.arange(bands)[:, None] - from_)).astype(np.float32)


@lru_cache(maxsize=2)
def _made_up(front_end_json: str, seed: int) -> list[tuple[np.ndarray, _Sound]]:
    """Frames of made-up sounds, and which of them are the sound."""
    front_end = FrontEnd.model_validate_json(front_end_json)
    rng = np.random.default_rng([seed, MADE_UP_STREAM])
    still = np.zeros(front_end.frame + 2 * front_end.hop, dtype=np.float32)
    sounds = (np.concatenate([still, made_up_sound(rng, front_end.rate_hz), still]) for _ in range(MADE_UP))
    all_frames = (front_end.frames(samples) for samples in sounds)
    return [(frames, _described(front_end, frames)) for frames in all_frames]


@lru_cache(maxsize=2)
def _noise(front_end_json: str, seed: int) -> np.ndarray:
    """Power of white noise, each band with a mean of 1, ``(frames, bands)``."""
    front_end = FrontEnd.model_validate_json(front_end_json)
    rng = np.random.default_rng([seed, NOISE_STREAM])
    levels = front_end.frames(rng.standard_normal(round(NOISE_S * front_end.rate_hz)).astype(np.float32))
    power = power_of(levels)
    return np.asarray(power / power.mean(axis=0))
