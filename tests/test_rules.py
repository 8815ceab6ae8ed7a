"""The rules of the event decoder: golden events by version, and what stores know them by."""

import json
from pathlib import Path

import numpy as np
import pytest
import soundfile

import barn_owl as owl
from barn_owl.archive.tagging import model_fingerprint
from barn_owl.model import DecodingSettings
from barn_owl.tag.decoding import EARLIER_RULES, RULES_VERSION, EventDecoder
from barn_owl.tag.scoring import ScoreBlock
from barn_owl.tag.tracks import Timing
from helpers import RATE_HZ, sound

GOLDEN = Path(__file__).with_name("golden") / f"events-of-rules-{RULES_VERSION}.json"
LABELS = ["hum", "hiss", "tick", "still"]
SETTINGS = [
    {}, {"smoothing_s": 0.2}, {"retrigger_threshold": 0.6, "max_gap_s": 0.0}, {"max_overlap": 0.0, "max_gap_s": 0.5},
    {"min_duration_s": 0.3, "refractory_s": 1.0},
    {"max_duration_s": 1.0, "onset_shift_s": 0.05, "offset_shift_s": -0.05},
    {"labels": {"hum": {"threshold": 0.8}, "hiss": {"min_duration_s": 0.5}}, "min_known_probability": 0.3},
]  # fmt: skip


def smooth(rng, shape, steps):
    """Random walks that move slowly, of deviation 1."""
    kernel = np.hanning(steps)[:, None]
    noise = rng.standard_normal((shape[0] + steps - 1, *shape[1:]))
    walk = np.stack([np.convolve(column, kernel[:, 0], "valid") for column in noise.T], axis=1)
    return walk / walk.std()


def decoded(multilabel):
    """Events of a synthetic score trace of 80 s, with each of the settings."""
    rng, steps = np.random.default_rng(5), 2000
    tracks = len(LABELS) if multilabel else 1
    sounds, begins = (1 / (1 + np.exp(-3 * smooth(rng, (steps, tracks), length))) for length in (40, 8))
    logits = 4 * smooth(rng, (steps, len(LABELS) + 2), 30)
    found = []
    for settings in SETTINGS:
        decoder = EventDecoder(
            LABELS,
            ["still"],
            Timing(step_s=0.04, first_s=0.016, window_s=1.2),
            DecodingSettings(**settings),
            names=not multilabel,
        )
        events = []
        for first in range(0, steps, 256):
            part = slice(first, first + 256)
            block = [array[part].astype(np.float32) for array in (sounds, begins, logits)]
            events += decoder.push(ScoreBlock(first, *block))
        events += decoder.finish()
        found.append([[round(e.start_s, 3), round(e.end_s, 3), e.label, round(e.score, 3)] for e in events])
    return found


@pytest.mark.parametrize("multilabel", [False, True])
def test_events_change_only_with_the_version_of_the_rules(multilabel):
    """After an intended change: raise RULES_VERSION, and add the new events to the old ones."""
    golden = json.loads(GOLDEN.read_text())[str(multilabel)]
    found = decoded(multilabel)
    assert sum(map(len, found)) > 100
    assert found == golden


def test_a_store_from_before_the_rules_had_a_version_is_continued(runs, rng, tmp_path, monkeypatch):
    model = runs["logistic"].model
    soundfile.write(tmp_path / "night.wav", np.tile(sound("hum", rng), 5), RATE_HZ)
    earlier = model_fingerprint(model, model.decoding, EARLIER_RULES[RULES_VERSION][1])
    monkeypatch.setattr("barn_owl.archive.tagging._known_as", lambda *_: earlier)
    before = owl.tag_archive(model, [tmp_path / "night.wav"], store=tmp_path / "s.sqlite", workers=1)
    monkeypatch.undo()
    after = owl.tag_archive(model, [tmp_path / "night.wav"], store=tmp_path / "s.sqlite", workers=1)
    assert (len(before.kept), len(after.kept)) == (0, 1)
    assert owl.archive.open_store(tmp_path / "s.sqlite").models() == [earlier[:12]]
    assert len(owl.read_events(tmp_path / "s.sqlite")) == len(before.events)  # of a single model
    fresh = owl.tag_archive(model, [tmp_path / "night.wav"], store=tmp_path / "new.sqlite", workers=1)
    assert fresh.model == model_fingerprint(model, model.decoding)[:12] != earlier[:12]
