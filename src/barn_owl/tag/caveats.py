"""Caveats of tagging: recordings unlike the training data, and implausible events."""

from pathlib import Path

import numpy as np
import pandas as pd

from barn_owl.audio import Channel, audio_info, file_facts
from barn_owl.errors import AudioError
from barn_owl.evaluate import EventScores
from barn_owl.model import Model

PLACES, STRETCH_S = 4, 3.0
"""Stretches of a recording that are listened to, and their length."""
NARROWER = 0.75
"""Minimum share of the model's band that a recording must cover."""
QUIET_DB, BITS = -75.0, ("PCM_16", "PCM_S8", "PCM_U8")
"""Mean level under which a recording in so few bits is mostly their rounding."""
LOW_RATE_HZ, SILENT_DB, BEYOND_DB = 4000, -90.0, 12.0
"""A recorder that is on, with its gain right down, is noisier than that; a quiet place is no silence."""
OPPOSITE, DEAD = 0.01, 1e-4
"""Share of the mean power that is left where channels cancel, and under which a channel is dead."""
MIN_BAND_S = 0.1
"""Length from which the bandwidth of a recording is known."""
LONG_S, MAX_EVENTS_PER_MINUTE = 120.0, 60.0
"""Two minutes without an event, or more than an event per second, are suspicious."""
POOR_F1 = 0.3
"""Precision below which hits are lost among false alarms."""


def recording_caveats_of(
    model: Model, path: str | Path, events: pd.DataFrame, processed_s: float | None = None
) -> list[str]:
    """Caveats about the events of a recording: sentences with advice.

    events : those of this recording. processed_s : readable seconds; None for all. Raises AudioError when it
    cannot be read.
    """
    info, name, found = audio_info(path), Path(path).name, []
    places = np.linspace(0, max(info.duration_s - STRETCH_S, 0), PLACES if info.duration_s > STRETCH_S else 1)
    bands, levels, peaks, channels = [], [], [], _Channels()
    for start in places:
        try:
            end = min(float(start) + STRETCH_S, info.duration_s)
            facts = file_facts(
                path, start_s=float(start), end_s=end, flaws=[], thorough=False, on_block=channels.on_block
            )
        except AudioError:
            continue  # a broken stretch is reported while tagging
        bands.append(facts.bandwidth_hz)
        levels.append(facts.rms_db)
        peaks.append(facts.peak_db)
    wanted = model.front_end.top_hz
    if info.rate_hz < LOW_RATE_HZ:
        found.append(
            f"{name} has a sample rate of {info.rate_hz} Hz, so it contains nothing above "
            f"{info.rate_hz / 2000:.1f} kHz: most sounds are higher. Is the rate in its header right?"
        )
    silent = sum(level < SILENT_DB for level in levels)
    if levels and silent >= len(levels) / 2:
        found.append(
            f"{name} is silent (below {SILENT_DB:.0f} dB) at {silent} of {len(levels)} sampled positions: was the "
            "recorder on, and the microphone connected?"
        )
    if peaks and max(peaks) > BEYOND_DB:
        found.append(
            f"{name} exceeds full scale by {max(peaks):.0f} dB, as if integers had been written as floats. The gain "
            "does not matter for tagging, but the sound may be distorted"
        )
    found += channels.caveats(name, model.clips.channel)
    if levels and max(levels) > -119 and info.duration_s >= MIN_BAND_S and max(bands) < NARROWER * wanted:
        found.append(
            f"{name} contains nothing above {max(bands) / 1000:.1f} kHz, but the model uses up to "
            f"{wanted / 1000:.1f} kHz: expect misses and confusions. Better: train on its clips and these recordings"
        )
    if levels and silent < len(levels) and max(levels) < QUIET_DB and info.encoding.endswith(BITS):
        found.append(
            f"{name} is very quiet, {max(levels):.0f} dB re full scale in {info.encoding}: faint sounds are lost in "
            "quantization noise. Record with more gain, or in 24 bits"
        )
    processed_s = info.duration_s if processed_s is None else processed_s
    if not len(events) and processed_s >= LONG_S:
        found.append(
            f"no event in {processed_s / 60:.0f} minutes of {name}. If there are sounds in it, lower the threshold, "
            "look at the scores, or adjust the model on a recording with known events"
        )
    elif len(events) / max(processed_s, 1) * 60 > MAX_EVENTS_PER_MINUTE:
        found.append(
            f"{len(events)} events in {name}, more than one per second: the model confuses background with events. "
            "Train with unlabeled recordings or background clips, or raise the threshold"
        )
    return found


class _Channels:
    """Power of each channel, and of their mean, over the sampled positions."""

    def __init__(self) -> None:
        self._power: np.ndarray = np.zeros(0)
        self._mixed = 0.0

    def on_block(self, block: np.ndarray) -> None:
        """Take a block, ``(samples, channels)``."""
        power = np.einsum("sc,sc->c", block, block, dtype=np.float64)
        self._power = power if not len(self._power) else self._power + power
        self._mixed += float(np.square(block.mean(axis=1, dtype=np.float64)).sum())

    def caveats(self, name: str, channel: Channel) -> list[str]:
        """Warn about channels that cancel or are dead when all are mixed."""
        power = self._power
        if channel != "mix" or len(power) < 2 or not power.max():
            return []
        if self._mixed < OPPOSITE * power.mean():
            return [
                f"the channels of {name} cancel each other: they are the same sound with opposite signs, or nearly "
                'so. Train with clips.channel = 1, or "loudest", or correct the wiring'
            ]
        if (power > DEAD * power.max()).sum() == 1:
            lower_db = 20 * np.log10(len(power))
            return [
                f"only channel {int(power.argmax()) + 1} of {len(power)} of {name} is live: mixing it with the "
                f'others lowers it by {lower_db:.0f} dB, which does no harm; clips.channel = "loudest" avoids it'
            ]
        return []


def _labels_by_two_names(scores: EventScores) -> list[str]:
    """Warn about labels of the truth that no event has, while events have labels that the truth lacks."""
    true, found = set(scores.truth["label"]), set(scores.events["label"])
    if not (true - found and found - true):
        return []
    missing, spare = (", ".join(map(repr, sorted(labels))) for labels in (true - found, found - true))
    return [
        f"the truth table has {missing}, which no event has, and the events have {spare}, which the truth table "
        "lacks: if they are the same sound, rename the label; a label that the model lacks cannot be found"
    ]


def event_score_caveats(scores: EventScores) -> list[str]:
    """Return reasons for poor event scores, with remedies."""
    found = _labels_by_two_names(scores)
    if not len(scores.truth) or scores.f1 >= POOR_F1:
        return found
    on_time = int(scores.confusion().to_numpy().sum())
    if not len(scores.events):
        found.append(
            "no event: no score reaches the threshold. Lower the threshold, or train on clips that sound like the "
            "recording"
        )
    elif on_time > 2 * len(scores.matches):
        found.append(
            f"{on_time} events have the right onset, but only {len(scores.matches)} the right label: more clips "
            "of the confused labels, from more recorders, help"
        )
    else:
        found.append(
            f"F1 {scores.f1:.2f}: decoding settings cannot help if scores do not separate sounds from background. If "
            "not done yet, train with unlabeled recordings, with background clips, and with clips cut from recordings"
        )
    return found
