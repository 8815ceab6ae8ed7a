"""Doubts about tagging in words: recordings that are not like what a model was made for, and events that cannot
be."""

from pathlib import Path

import numpy as np
import pandas as pd

from barn_owl.audio import audio_info, file_facts
from barn_owl.errors import AudioError
from barn_owl.evaluate import EventScores
from barn_owl.model import Model

PLACES, STRETCH_S = 4, 3.0
"""Stretches of a recording that are listened to, and their length."""
NARROWER = 0.75
"""Share of the band that a model listens to from which on a recording is too narrow for it."""
QUIET_DB, BITS = -75.0, ("PCM_16", "PCM_S8", "PCM_U8")
"""Mean level under which a recording in so few bits is mostly their rounding."""
LONG_S, MANY_A_MINUTE = 120.0, 60.0
"""Nothing in two minutes is odd, as is more than an event a second."""
POOR_F1 = 0.3
"""Below, what is right is lost among what is not."""


def doubts_of_recording(model: Model, path: str | Path, events: pd.DataFrame) -> list[str]:
    """Say what speaks against the events that `model` found in a recording, a sentence each, with what to do.

    events : those of this recording. Raises AudioError when it cannot be read.
    """
    info, name, found = audio_info(path), Path(path).name, []
    places = np.linspace(0, max(info.duration_s - STRETCH_S, 0), PLACES if info.duration_s > STRETCH_S else 1)
    bands, levels = [], []
    for start in places:
        try:
            end = min(float(start) + STRETCH_S, info.duration_s)
            facts = file_facts(path, start_s=float(start), end_s=end, flaws=[], thorough=False)
        except AudioError:
            continue  # a broken stretch is told while tagging
        bands.append(facts.bandwidth_hz)
        levels.append(facts.rms_db)
    wanted = model.front_end.top_hz
    if levels and max(levels) > -119 and max(bands) < NARROWER * wanted:
        found.append(
            f"{name} holds nothing above {max(bands) / 1000:.1f} kHz, the model listens up to {wanted / 1000:.1f}: "
            f"sounds will be missed or mistaken. Train it again with --recordings {path}"
        )
    if levels and max(levels) < QUIET_DB and info.encoding.endswith(BITS):
        found.append(
            f"{name} is very quiet, {max(levels):.0f} dB re full scale in {info.encoding}: what is faint is lost in "
            "the rounding. Record with more gain, or in 24 bits"
        )
    if not len(events) and info.duration_s >= LONG_S:
        found.append(
            f"nothing was found in the {info.duration_s / 60:.0f} minutes of {name}. If something sounds in it, "
            "lower --on, look at the scores with --figure, or adjust the model on a recording with known events"
        )
    elif len(events) / max(info.duration_s, 1) * 60 > MANY_A_MINUTE:
        found.append(
            f"{len(events)} events in {name}, more than one a second: the model takes what is behind the sounds for "
            "them. Train it again with --recordings or clips of background, or raise --on"
        )
    return found


def doubts_of_scores(scores: EventScores) -> list[str]:
    """Say what is wrong with events that were judged against the truth."""
    if not len(scores.truth) or scores.f1 >= POOR_F1:
        return []
    if not len(scores.events):
        return [
            "nothing was found: no score reaches the threshold. Lower on, or train on clips that sound like the "
            "recording"
        ]
    right_time = int(scores.confusion().to_numpy().sum())
    if right_time > 2 * len(scores.matches):
        return [
            f"{right_time} events are at the right time, but only {len(scores.matches)} have the right label: "
            "more clips of the labels that are confused, from more recorders, help"
        ]
    return [
        f"F1 is {scores.f1:.2f}: settings cannot make up for scores that do not tell sounds from what is between "
        "them. Train with --recordings, with clips of background, and with clips cut from recordings (barn-owl cut)"
    ]
