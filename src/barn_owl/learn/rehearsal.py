"""Rehearsal: a synthetic recording of validation clips, tagged to predict performance on recordings.

Sounds lie over background at known times and levels, partly overlapping; sounds of no label follow different recipes
than the synthetic sounds of training. Decoding settings are chosen on it, and it predicts scores on recordings.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from barn_owl.audio import excerpts, write_audio
from barn_owl.clips import labels_in, write_clip_table
from barn_owl.evaluate import EventScores, score_events
from barn_owl.features import FrontEnd
from barn_owl.features.activity import onset_frame, sounding
from barn_owl.files import write_json
from barn_owl.learn.plan import Plan
from barn_owl.model import Model
from barn_owl.sound import read_preprocessed, unknown_sound
from barn_owl.tag.adjusting import best_decoding
from barn_owl.tag.score_trace import tag_trace, trace_of_samples

STREAM = 43
EVENTS_PER_LABEL, MAX_USES, FEWEST_CLIPS = 18, 3, 2
"""Sounds of each label at most, and uses of a clip; a label with fewer clips on the split is skipped."""
UNKNOWN_SHARE, OVERLAP_SHARE = 0.12, 0.12
SNR_DB = (2.0, 25.0)
GAP_S = (0.4, 2.6)
"""Gap between sounds."""
REST_SHARE, REST_S = 0.1, (5.0, 10.0)
"""Share of the gaps that are longer, so that there is some quiet to listen to as well."""
NEAR_SOUND_S = 0.5
"""Time around a sound within which a false alarm is attributed to it."""
BED_DB, LOUDEST = -45.0, 0.7
"""Level of the background re full scale, and the peak that nothing goes beyond."""
FADE_S, CROSS_S = 0.01, 0.25
"""Fade time at ends of sounds and seams of background, so that no click looks like an onset."""
NEAR_ONSET_S, ATTACK_DB = 0.005, 20.0
"""A sound begins where its level, over 5 ms, first comes within 20 dB of its loudest."""
FILE, TRUTH, EVENTS = "rehearsal.flac", "rehearsal.csv", "rehearsal-events.csv"
EXPECTATION = "rehearsal.json"


@dataclass(frozen=True, kw_only=True, eq=False)
class Rehearsal:
    """A synthetic recording, mono float32 ``(samples,)``, and its truth table, whose ``unknown`` marks sounds of no
    label."""

    samples: np.ndarray
    rate_hz: int
    truth: pd.DataFrame

    @property
    def seconds(self) -> float:
        """Length in seconds."""
        return len(self.samples) / self.rate_hz


@dataclass(frozen=True, kw_only=True, eq=False)
class Rehearsed:
    """How a rehearsal went: the model with the settings found on it, the events, and their scores.

    events_per_minute : density of events in recordings that is reckoned with.
    """

    model: Model
    rehearsal: Rehearsal
    events: pd.DataFrame
    scores: EventScores
    events_per_minute: float

    def expectation(self) -> dict[str, Any]:
        """Predicted scores on recordings: event scores in the rehearsal, overall and by label, and for recordings
        with fewer events; see `scores_at_density`.
        """
        scores = self.scores
        return {
            "at_density": scores_at_density(scores, self.rehearsal.truth, self.events_per_minute),
            "minutes": round(self.rehearsal.seconds / 60, 2),
            "true_events": len(scores.truth),
            "events": len(scores.events),
            "event_f1": scores.f1,
            "precision": scores.precision,
            "recall": scores.recall,
            "false_alarms_per_hour": scores.false_alarms_per_hour,
            "onset_error_s": float(scores.matches["onset_error_s"].abs().mean()) if len(scores.matches) else None,
            "unknown": len(scores.unknown),
            "unknown_share": scores.unknown_share if len(scores.unknown) else None,
            "labels": {str(label): row.to_dict() for label, row in scores.by_label.iterrows()},
        }

    def write(self, folder: Path) -> None:
        """Write the recording, its truth, the events and the scores to the folder of a run."""
        write_audio(folder / FILE, self.rehearsal.samples, self.rehearsal.rate_hz, force=True)
        for table, name in ((self.rehearsal.truth, TRUTH), (self.events, EVENTS)):
            write_clip_table(table.assign(file=str(folder / FILE)), folder / name, force=True)
        write_json(folder / EXPECTATION, self.expectation())


def make_rehearsal(plan: Plan, clips: pd.DataFrame) -> Rehearsal | None:
    """Compose a recording from `clips`; None without two clips of a reported label."""
    rng = np.random.default_rng([plan.seed, STREAM])
    rate_hz = plan.front_end.rate_hz
    is_bed = clips["label"].isin(plan.background)
    sounds, beds = clips[~is_bed], clips[is_bed]
    placed = _drawn(plan, sounds, rng)
    if not placed:
        return None
    length = round(sum(len(sound.samples) / rate_hz + gap for sound, gap in placed) * rate_hz) + rate_hz
    bed = _bed(plan, beds, length, rng)
    samples, rows, at = bed.copy(), [], rate_hz // 2
    ends = dict.fromkeys((label for sound, _ in placed for label in sound.labels), 0)
    for number, (sound, gap) in enumerate(placed):
        if not sound.unknown:  # overlapping sounds of a label could be one event or two
            at = max(at, *(ends[label] + round(GAP_S[0] * rate_hz) for label in sound.labels))
        at = min(at, length - len(sound.samples) - 1)
        over = bed[at : at + len(sound.samples)]
        snr_db = rng.uniform(*SNR_DB)
        gain = np.sqrt(np.mean(over**2) / max(np.mean(sound.samples**2), 1e-20)) * 10 ** (snr_db / 20)
        gain = min(gain, LOUDEST / max(np.abs(sound.samples).max(), 1e-9))
        samples[at : at + len(sound.samples)] += np.float32(gain) * sound.samples
        begin, end = (at + sound.onset) / rate_hz, (at + len(sound.samples)) / rate_hz
        rows += [(FILE, round(begin, 3), round(end, 3), label, sound.unknown) for label in sound.labels]
        ends |= dict.fromkeys(sound.labels, at + len(sound.samples))
        # Some begin before the previous sound ends.
        others = number + 1 < len(placed) and placed[number + 1][0].labels != sound.labels
        if others and rng.random() < OVERLAP_SHARE:
            at += round(rng.uniform(0.2, 0.8) * len(sound.samples))
        else:
            at += len(sound.samples) + round(gap * rate_hz)
    length = min(length, max(at, *ends.values()) + rate_hz)  # a long sound may outlast the sounds over it
    columns = ["file", "start_s", "end_s", "label", "unknown"]
    truth = pd.DataFrame(rows, columns=columns).sort_values("start_s", ignore_index=True)
    truth.loc[truth["label"].isin(plan.ignored), "unknown"] = "yes"
    peak = max(float(np.abs(samples[:length]).max()), 1e-9)
    return Rehearsal(samples=samples[:length] * np.float32(min(1.0, 0.99 / peak)), rate_hz=rate_hz, truth=truth)


def rehearse(model: Model, plan: Plan, parts: Sequence[tuple[Model, Rehearsal]]) -> Rehearsed:
    """Tag rehearsals, after finding the decoding settings of `model` on them if the plan wants it so.

    parts : rehearsals, at least one, each with the model that has not trained on its clips.
    """
    traces = [trace_of_samples(own, one.samples, f"{number} {FILE}") for number, (own, one) in enumerate(parts)]
    if not model.classifier.has_onsets if plan.rehearsal.decide is None else plan.rehearsal.decide:
        truths = [one.truth.assign(file=trace.file) for trace, (_, one) in zip(traces, parts, strict=True)]
        model = replace(model, decoding=best_decoding(model, traces, pd.concat(truths, ignore_index=True)))
    rehearsal = joined([one for _, one in parts])
    tagged, begin_s = [], 0.0
    for trace, (_, one) in zip(traces, parts, strict=True):
        tagged.append(_later(tag_trace(model, trace), begin_s))
        begin_s += one.seconds
    events = pd.concat(tagged, ignore_index=True)
    scores = score_events(events, rehearsal.truth, seconds={FILE: rehearsal.seconds})
    return Rehearsed(
        model=model, rehearsal=rehearsal, events=events, scores=scores,
        events_per_minute=plan.rehearsal.events_per_minute,
    )  # fmt: skip


def scores_at_density(scores: EventScores, sounds: pd.DataFrame, events_per_minute: float) -> dict[str, float]:
    """Predict the scores of a recording with fewer events from a rehearsal, whose sounds are dense.

    sounds : all that sounds in the rehearsal, unknown sounds too. False alarms in quiet come with time; those within
    `NEAR_SOUND_S` of a sound scale with the events.

    Returns ``events_per_minute``; ``quiet_alarms_per_hour``, away from sounds; ``alarms_per_event``, near sounds; and
    for this density ``false_alarms_per_hour``, ``precision`` and ``event_f1``.
    """
    alarms = scores.false_alarms
    near = [
        ((sounds["start_s"] - NEAR_SOUND_S < alarm.end_s) & (sounds["end_s"] + NEAR_SOUND_S > alarm.start_s)).any()
        for alarm in alarms.itertuples()
    ]
    length_s = 3600 * scores.hours
    busy_s = _covered(
        sounds["start_s"].to_numpy() - NEAR_SOUND_S, sounds["end_s"].to_numpy() + NEAR_SOUND_S, length_s
    )
    quiet_s, count = max(length_s - busy_s, 1.0), max(len(scores.truth), 1)
    in_quiet, beside = (len(near) - sum(near)) / quiet_s, sum(near) / count
    events = 60 * events_per_minute
    quiet_share = max(0.0, 1 - events * (busy_s / count) / 3600)
    expected = 3600 * in_quiet * quiet_share + events * beside
    right = events * scores.recall
    return {
        "events_per_minute": events_per_minute,
        "quiet_alarms_per_hour": 3600 * in_quiet,
        "alarms_per_event": beside,
        "false_alarms_per_hour": expected,
        "precision": right / max(right + expected, 1e-9),
        "event_f1": 2 * right / max(right + expected + events, 1e-9),
    }


def _covered(begins: np.ndarray, ends: np.ndarray, length_s: float) -> float:
    """Seconds of a recording that any of some stretches covers."""
    total, reached = 0.0, 0.0
    for begin, end in sorted(zip(begins.clip(0), ends.clip(max=length_s), strict=True)):
        total += max(0.0, end - max(begin, reached))
        reached = max(reached, end)
    return total


def joined(rehearsals: Sequence[Rehearsal]) -> Rehearsal:
    """Concatenate rehearsals."""
    truths, begin_s = [], 0.0
    for one in rehearsals:
        truths.append(_later(one.truth, begin_s))
        begin_s += one.seconds
    samples = np.concatenate([one.samples for one in rehearsals])
    return Rehearsal(samples=samples, rate_hz=rehearsals[0].rate_hz, truth=pd.concat(truths, ignore_index=True))


def _later(table: pd.DataFrame, begin_s: float) -> pd.DataFrame:
    """Shift times of a part to times of the whole rehearsal."""
    times = {name: (table[name] + begin_s).round(3) for name in ("start_s", "end_s")}
    return table.assign(file=FILE, **times)


@dataclass(frozen=True)
class _PlacedSound:
    """Return the active part of a clip, its start, and its label."""

    samples: np.ndarray
    onset: int
    labels: list[str]
    unknown: str


def _drawn(plan: Plan, sounds: pd.DataFrame, rng: np.random.Generator) -> list[tuple[_PlacedSound, float]]:
    """Draw sounds in random order with gaps, up to the length of the plan: reported labels about equally often,
    ignored labels as often as all reported labels together, since recordings may be full of them."""
    rate_hz, chosen = plan.front_end.rate_hz, []
    names = sounds["label"].map(lambda text: labels_in(text)[0] if plan.multilabel else text)
    by_label = {label: own for label, own in sounds.groupby(names) if len(own) >= FEWEST_CLIPS}
    ignored = len(by_label.keys() & set(plan.ignored))
    for label, own in by_label.items():
        share = (len(by_label) - ignored) / ignored if label in plan.ignored else 1
        order = np.concatenate([rng.permutation(len(own)) for _ in range(MAX_USES)])
        chosen += [own.iloc[int(row)] for row in order[: round(EVENTS_PER_LABEL * share)]]
    placed: list[tuple[_PlacedSound, float]] = []
    seconds, most = 1.0, plan.rehearsal.minutes * 60
    cut: dict[Any, _PlacedSound] = {}
    for number in rng.permutation(len(chosen)):
        row = chosen[int(number)]
        if row.name not in cut:
            (excerpt,) = excerpts([row["file"]], [row["start_s"]], [row["end_s"]])
            labels = labels_in(row["label"]) if plan.multilabel else [row["label"]]
            cut[row.name] = _cut(read_preprocessed(excerpt, rate_hz, plan.clips), plan.front_end, labels)
        made = [cut[row.name]]
        if rng.random() < UNKNOWN_SHARE:
            samples = unknown_sound(rng, rate_hz)
            made.append(_PlacedSound(samples, 0, ["synthetic"], "yes"))
        for sound in made:
            rests = rng.random() < REST_SHARE and seconds + 3 * REST_S[1] < most  # not in a short recording
            gap = rng.uniform(*(REST_S if rests else GAP_S))
            seconds += len(sound.samples) / rate_hz + gap
            if seconds > most:
                return placed
            placed.append((sound, gap))
    return placed


def _cut(samples: np.ndarray, front_end: FrontEnd, labels: list[str]) -> _PlacedSound:
    """Keep the active part of a clip, faded out, and find its onset."""
    log_mel = front_end.but(features=["log-mel"], pad_short=True)
    levels = log_mel.frames(samples)
    active = sounding(levels, log_mel.hop_s)
    last = int(np.flatnonzero(active)[-1])
    first = max(0, min(onset_frame(levels, active), int(active.argmax())) - 1)
    kept = samples[first * front_end.hop : last * front_end.hop + front_end.frame].copy()
    fade = min(round(FADE_S * front_end.rate_hz), len(kept) // 4)
    if fade:
        kept[-fade:] *= np.linspace(1, 0, fade, dtype=np.float32)
    width = max(1, round(NEAR_ONSET_S * front_end.rate_hz))
    power = np.convolve(kept.astype(np.float64) ** 2, np.ones(width) / width, mode="same")
    onset = int(np.argmax(power >= power.max() * 10 ** (-ATTACK_DB / 10)))
    return _PlacedSound(np.asarray(kept, dtype=np.float32), onset, labels, "")


def _bed(plan: Plan, beds: pd.DataFrame, length: int, rng: np.random.Generator) -> np.ndarray:
    """Return background of this many samples: background clips in sequence or, without any, synthetic noise."""
    rate_hz = plan.front_end.rate_hz
    noise = _noise(length, rng)
    if not len(beds):
        return noise * np.float32(10 ** (BED_DB / 20))
    cross = round(CROSS_S * rate_hz)
    bed, at = np.zeros(length + cross, dtype=np.float32), 0
    sources = excerpts(beds["file"], beds["start_s"], beds["end_s"])
    while at < length:
        part = read_preprocessed(sources[int(rng.integers(len(sources)))], rate_hz, plan.clips)
        if len(part) < 3 * cross:
            part = np.concatenate([part] * (-(-3 * cross // len(part))))
        part = part[: length + cross - at]
        part /= np.float32(max(float(np.sqrt(np.mean(part**2))), 1e-9))
        rise = np.minimum(1, np.minimum(np.arange(len(part)), np.arange(len(part))[::-1]) / cross) ** 0.5
        bed[at : at + len(part)] += (part * rise).astype(np.float32)
        at += max(len(part) - cross, 1)
    return np.asarray((bed[:length] + np.float32(0.3) * noise) * np.float32(10 ** (BED_DB / 20)))


def _noise(length: int, rng: np.random.Generator) -> np.ndarray:
    """Noise with a mean square of 1 whose color changes slowly between white, pink and brown."""
    size = 1 << 15
    out = np.zeros(length + size, dtype=np.float32)
    window = np.sin(np.pi * (np.arange(size) + 0.5) / size).astype(np.float32)
    frequency = np.fft.rfftfreq(size)
    power = rng.uniform(0, 2)
    for at in range(0, length, size // 2):
        power = float(np.clip(power + rng.normal(0, 0.1), 0, 2))
        shape = np.maximum(frequency, 0.003) ** (-power / 2)
        part = np.fft.irfft(np.fft.rfft(rng.standard_normal(size)) * shape, size)
        out[at : at + size] += window * (part / part.std()).astype(np.float32)
    return out[:length]
