import hashlib
from itertools import pairwise

import numpy as np
import pytest

from barn_owl.audio import audio_info, facts_table, read_audio
from barn_owl.clips import gather_folder, read_clip_table
from barn_owl.demo import write_harbor
from barn_owl.demo.recorders import RECORDERS, Tape
from barn_owl.demo.scenario import _write_clip
from barn_owl.demo.sounds import EVENTS, RATE_HZ, UNKNOWN, water
from barn_owl.runs import open_run


def test_the_harbour_is_varied_and_odd_as_promised(quay):
    gathered = gather_folder(quay.clips, names="{group}_{take}")
    clips = gathered.clips
    assert sorted(clips["label"].unique()) == sorted([*EVENTS, "water"])
    assert set(clips["group"]) == {recorder.name for recorder in RECORDERS}
    infos = [audio_info(file) for file in clips["file"]]
    assert len({info.rate_hz for info in infos}) >= 5
    assert {info.channels for info in infos} == {1, 2}
    assert {info.encoding.split()[0] for info in infos} == {"WAV", "FLAC"}
    assert all(1 <= info.duration_s <= 4.01 for info in infos)
    assert len(gathered.skipped) == 1
    assert not read_audio(next(file for file in clips["file"] if "bilge-pump/mooring_005" in file))[0].any()


def test_only_the_clips_that_are_meant_to_are_clipped_and_one_is_at_192_khz(quay, tmp_path):
    facts, _ = facts_table(sorted(quay.clips.rglob("halyard/*_0*")))
    assert (facts["clipped"] > 0).sum() == 0
    _write_clip(tmp_path, 0, 0, 24)
    _write_clip(tmp_path, 0, 1, 17)
    assert audio_info(tmp_path / "bell-buoy" / "boathouse_024.wav").rate_hz == 192_000
    assert facts_table(tmp_path.rglob("bilge-pump/*"))[0]["clipped"][0] > 10


def test_the_truth_says_when_it_sounds(quay):
    truth = read_clip_table(quay.truth)
    night, rate_hz = read_audio(quay.recording)
    assert len(night) == 60 * rate_hz
    assert ((truth["label"] == "") == (truth["unknown"] != "")).all()
    assert set(truth["unknown"]) <= {*UNKNOWN, ""}
    assert (truth["end_s"] <= 61).all()


def test_the_second_night_has_other_sounds_of_the_same_kinds(quay):
    first, second = read_clip_table(quay.truth), read_clip_table(quay.second_truth)
    assert audio_info(quay.second_recording).samples == audio_info(quay.recording).samples
    assert not set(first["start_s"]) & set(second["start_s"])
    assert set(second["label"]) <= {*EVENTS, ""}


def test_the_second_training_has_the_events_and_false_alarms_of_the_first_night(demo):
    said = (demo / "said.txt").read_text()
    assert "Checked the clips:" in said
    assert "the second night" in said
    trained = open_run(demo / "second").predictions
    night = trained[trained["file"].str.endswith("night.flac")]
    assert set(night["split"]) == {"train"}
    assert len(night[night["label"] != "water"]) > 3
    before = open_run(demo / "run").predictions
    both = before.merge(trained, on=["file", "label"], suffixes=("", "_then"))
    assert len(both) == len(before)
    assert (both["split"] == both["split_then"]).all()


def test_the_same_seed_gives_the_same_bytes(tmp_path):
    def digest(folder, seed, workers):
        write_harbor(folder, seed=seed, clips_per_label=1, minutes=0.2, workers=workers)
        return {
            path.relative_to(folder): hashlib.sha256(path.read_bytes()).hexdigest() for path in folder.rglob("*.*")
        }

    first, same = digest(tmp_path / "a", 1, 1), digest(tmp_path / "b", 1, 2)
    assert first == same
    assert first != digest(tmp_path / "c", 2, 2)


@pytest.mark.parametrize("name", [*EVENTS, *UNKNOWN])
def test_every_sound_is_finite_peaks_at_one_and_varies(name, rng):
    make = (EVENTS | UNKNOWN)[name]
    one, two = make(rng), make(rng)
    assert np.isfinite(one).all()
    assert np.abs(one).max() == pytest.approx(1)
    assert 0.2 < len(one) / RATE_HZ < 6
    assert len(one) != len(two) or not np.array_equal(one, two)


def test_a_tape_sounds_the_same_however_it_is_cut(rng):
    sound = water(rng, RATE_HZ)
    cuts, recorder = [0, 100, 900, 20_000, RATE_HZ], RECORDERS[2]
    whole = Tape(recorder, np.random.default_rng(0)).take(sound)
    tape = Tape(recorder, np.random.default_rng(0))
    parts = [tape.take(sound[a:b]) for a, b in pairwise(cuts)]
    np.testing.assert_allclose(np.concatenate(parts), whole, atol=1e-6)
