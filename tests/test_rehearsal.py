"""The rehearsal, what recordings sound like, and caveats in words."""

from pathlib import Path

import numpy as np
import pandas as pd
import pytest
import soundfile

from barn_owl.cli.main import run as call
from barn_owl.clips import read_clip_table
from barn_owl.errors import AudioError, TableError
from barn_owl.evaluate import score_events
from barn_owl.features.activity import total_db
from barn_owl.learn.rehearsal import make_rehearsal, scores_at_density
from barn_owl.runs import Work, train
from barn_owl.runs.caveats import rehearsal_caveats
from barn_owl.runs.recordings import quiet_frames, survey_recordings
from barn_owl.tag import tag_recording
from barn_owl.tag.caveats import event_score_caveats, recording_caveats_of
from helpers import RATE_HZ, able_plan, small_plan, sound


@pytest.mark.parametrize("background", [["still"], []])
def test_a_rehearsal_has_its_sounds_where_its_truth_says(clips, background):
    made = make_rehearsal(small_plan("cnn", background=background, rehearsal={"minutes": 0.4}), clips)
    truth, own = made.truth, made.truth[made.truth["unknown"] == ""]
    assert made.seconds < 31
    assert np.isfinite(made.samples).all()
    assert np.abs(made.samples).max() < 1
    assert set(own["label"]) <= {"hum", "hiss", "tick", "still"} - set(background)
    assert len(own) > 5
    level = 10 * np.log10(np.convolve(made.samples**2, np.ones(800) / 800, mode="same") + 1e-12)
    inside = np.zeros(len(level), dtype=bool)
    for row in truth.itertuples():
        inside[round(row.start_s * RATE_HZ) : round(row.end_s * RATE_HZ)] = True
    assert level[inside].mean() > level[~inside].mean() + 6
    again = make_rehearsal(small_plan("cnn", background=background, rehearsal={"minutes": 0.4}), clips)
    np.testing.assert_array_equal(made.samples, again.samples)


@pytest.mark.parametrize("multilabel", [False, True])
def test_no_two_events_of_one_label_sound_at_once_in_a_rehearsal(multilabel, tmp_path, rng):
    rows = []
    for number in range(24):
        label = ["long", "short", "long|short" if multilabel else "other"][number % 3]
        soundfile.write(tmp_path / f"{number}.wav", sound("hiss", rng, 0.2 if label == "short" else 6.0), RATE_HZ)
        rows.append((str(tmp_path / f"{number}.wav"), np.nan, np.nan, label))
    clips = pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label"])
    for seed in range(8):
        made = make_rehearsal(small_plan("cnn", seed=seed, multilabel=multilabel, rehearsal={"minutes": 3}), clips)
        assert (np.diff(made.truth["start_s"]) < 5.9).any()  # some do overlap
        for _, own in made.truth[made.truth["unknown"] == ""].groupby("label"):
            assert (own["start_s"].to_numpy()[1:] > own["end_s"].to_numpy()[:-1]).all()


def test_ignored_labels_sound_as_often_as_all_others_together(clips):
    plan = small_plan("cnn", background=["still"], rehearsal={"minutes": 5})
    count = make_rehearsal(plan, clips).truth["label"].value_counts()
    with_ignored = make_rehearsal(plan.but(ignored=["hum"]), clips).truth
    own = with_ignored["label"].value_counts()
    assert own["hum"] == own["hiss"] + own["tick"] > count["hum"]
    assert (with_ignored["unknown"] == "yes").sum() >= own["hum"]


def test_a_rehearsal_ends_after_the_last_of_its_sounds(tmp_path, rng, monkeypatch):
    monkeypatch.setattr("barn_owl.learn.rehearsal.OVERLAP_SHARE", 1.0)
    rows = []
    for number in range(8):
        label, seconds = ("long", 6.0) if number % 2 else ("short", 0.2)
        soundfile.write(tmp_path / f"{number}.wav", sound("hiss", rng, seconds), RATE_HZ)
        rows.append((str(tmp_path / f"{number}.wav"), np.nan, np.nan, label))
    clips = pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label"])
    for seed in range(12):
        made = make_rehearsal(small_plan("cnn", seed=seed, rehearsal={"minutes": 0.5}), clips)
        assert made.truth["end_s"].max() <= made.seconds


def test_a_label_with_one_clip_gives_no_rehearsal_and_that_is_told(clips, tmp_path, capsys):
    few = clips.groupby("label").head(1)
    assert make_rehearsal(small_plan("cnn", rehearsal={"minutes": 0.4}), few) is None
    splits = np.where(clips.index.isin(few.index), "validation", np.where(clips["group"] == "rec3", "test", "train"))
    run = train(clips.assign(split=splits).drop(columns="group"), tmp_path / "run", small_plan("logistic"))
    assert run.expectation is None
    assert run.recording_caveats == []


def test_what_to_expect_is_what_the_files_of_the_run_say(runs):
    run = runs["cnn"]
    truth, events = (read_clip_table(run.folder / f"rehearsal{name}.csv") for name in ("", "-events"))
    expected = run.expectation
    scores = score_events(events, truth, seconds={truth["file"][0]: expected["minutes"] * 60})
    assert scores.f1 == pytest.approx(expected["event_f1"])
    assert soundfile.info(run.folder / "rehearsal.flac").duration == pytest.approx(expected["minutes"] * 60, abs=0.5)
    assert set(expected["labels"]) <= {"hum", "hiss", "tick"}


def test_what_a_density_brings_worked_by_hand():
    truth = pd.DataFrame({"file": "r.wav", "start_s": [10.0, 20.0], "end_s": [11.0, 21.0], "label": "hum"})
    events = pd.DataFrame(
        {"file": "r.wav", "start_s": [10.0, 21.3, 60.0], "end_s": [11.0, 21.8, 61.0], "label": "hum"}
    )
    scores = score_events(events, truth, seconds={"r.wav": 104.0})
    # 2 s around each sound are busy, 100 s are quiet and hold one false alarm; another is alongside a sound.
    found = scores_at_density(scores, truth, 1.0)
    assert found["quiet_alarms_per_hour"] == pytest.approx(36)
    assert found["alarms_per_event"] == 0.5
    alarms = 36 * (1 - 60 * 2 / 3600) + 60 * 0.5
    assert found["false_alarms_per_hour"] == pytest.approx(alarms)
    assert found["precision"] == pytest.approx(30 / (30 + alarms))
    assert found["event_f1"] == pytest.approx(2 * 30 / (30 + alarms + 60))
    nothing = scores_at_density(score_events(truth, truth, seconds={"r.wav": 104.0}), truth, 5.0)
    assert (nothing["false_alarms_per_hour"], nothing["event_f1"]) == (0, 1)


USUAL = {"events_per_minute": 10.0, "event_f1": 0.9, "false_alarms_per_hour": 20.0}
GOOD = {
    "at_density": USUAL, "unknown": 10, "unknown_share": 0.1,
    "labels": {"bell": {"true": 10, "recall": 0.9}},
}  # fmt: skip


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"at_density": USUAL | {"event_f1": 0.1}}, "event F1 0.10 with 10 events per minute"),
        ({"at_density": USUAL | {"event_f1": 0.5}}, "Expect many mistakes"),
        ({"at_density": USUAL | {"event_f1": 0.61}}, "much harder than clips: balanced accuracy 0.95"),
        ({"at_density": USUAL | {"false_alarms_per_hour": 500.0}}, "500 false alarms per hour"),
        ({"labels": {"bell": {"true": 10, "recall": 0.0}}}, "Hardly ever detected in rehearsal: bell"),
        ({"unknown_share": 0.8}, "80% of unknown sounds"),
    ],
)
def test_a_rehearsal_is_doubted_in_words(change, said):
    assert rehearsal_caveats(GOOD, 0.95) == []
    assert any(said in caveat for caveat in rehearsal_caveats({**GOOD, **change}, 0.95))


def test_recordings_that_are_not_like_the_model_are_doubted(runs, tmp_path, rng):
    model, nothing = runs["cnn"].model, pd.DataFrame(columns=["file", "start_s", "end_s", "label", "score"])
    noise = 0.02 * rng.standard_normal(130 * 4000)
    soundfile.write(tmp_path / "narrow.wav", noise, 4000)
    soundfile.write(tmp_path / "faint.wav", 1e-3 * rng.standard_normal(10 * RATE_HZ) * 0.05, RATE_HZ)
    soundfile.write(tmp_path / "fine.wav", 0.02 * rng.standard_normal(10 * RATE_HZ), RATE_HZ)
    narrow = " ".join(recording_caveats_of(model, tmp_path / "narrow.wav", nothing))
    assert "contains nothing above 2.0 kHz, but the model uses up to 8.0" in narrow
    assert "no event in 2 minutes" in narrow
    assert "very quiet, -8" in recording_caveats_of(model, tmp_path / "faint.wav", nothing)[0]
    assert recording_caveats_of(model, tmp_path / "fine.wav", nothing) == []
    many = pd.DataFrame({"start_s": np.arange(40) / 4})
    assert "more than one per second" in recording_caveats_of(model, tmp_path / "fine.wav", many)[0]


def test_scores_near_nothing_are_doubted():
    columns = ["file", "start_s", "end_s", "label"]
    truth = pd.DataFrame([("x", float(n), n + 0.5, "a") for n in range(10)], columns=columns)
    none = truth.head(0).assign(score=0.0)
    assert "no score reaches the threshold" in event_score_caveats(score_events(none, truth, seconds={"x": 20}))[0]
    other = truth.assign(label="b", score=0.9)
    assert "the right label" in event_score_caveats(score_events(other, truth, seconds={"x": 20}))[-1]
    late = truth.assign(start_s=truth["start_s"] + 0.4, score=0.9)
    assert "decoding settings cannot help" in event_score_caveats(score_events(late, truth, seconds={"x": 20}))[0]
    assert event_score_caveats(score_events(truth.assign(score=0.9), truth, seconds={"x": 20})) == []


def test_recordings_are_listened_to_and_their_calm_parts_serve_as_background(clips, tmp_path, rng, capsys):
    bed = 0.05 * rng.standard_normal(60 * RATE_HZ)
    for at in range(5, 60, 12):
        bed[at * RATE_HZ : at * RATE_HZ + 19_200] += sound("hum", rng)
    soundfile.write(tmp_path / "bed.wav", bed, RATE_HZ)
    (tmp_path / "broken.wav").write_bytes(b"RIFF")
    heard = survey_recordings([tmp_path])
    assert heard.bandwidth_hz > 7000
    assert -30 < heard.level_db < -15
    assert 8 <= len(heard.stretches) <= 16
    calm = total_db(np.concatenate(quiet_frames(small_plan("cnn"), heard.stretches).parts))
    assert len(calm) * small_plan("cnn").front_end.hop_s > 30
    assert calm.max() < np.median(calm) + 3  # the hums are at least 5 dB above the bed
    plan, said = able_plan("cnn", background=[], recordings=[str(tmp_path / "bed.wav")]), []
    run = train(clips, tmp_path / "run", plan, work=Work(stage=said.append))
    assert "s of quiet from the recordings" in said[0]
    assert len(tag_recording(run.model, tmp_path / "bed.wav")) > 0
    with pytest.raises(AudioError, match="recordings: no usable sound in .*broken.wav"):
        survey_recordings([tmp_path / "broken.wav"])
    (tmp_path / "empty").mkdir()
    with pytest.raises(TableError, match="holds no sound files"):
        survey_recordings([tmp_path / "empty"])
    assert call(["plan", str(tmp_path / "none.csv"), "--recordings", str(tmp_path / "gone.wav")]) == 2
    assert "none.csv" in capsys.readouterr().err


def test_recordings_without_quiet_serve_no_background(few_clips, tmp_path, rng, caplog):
    on = np.arange(20 * RATE_HZ) % (RATE_HZ // 4) < RATE_HZ // 8
    soundfile.write(tmp_path / "busy.wav", on * 0.1 * rng.standard_normal(len(on)), RATE_HZ)
    train(few_clips, tmp_path / "run", small_plan("nearest", recordings=[str(tmp_path / "busy.wav")]))
    assert "recordings: none of what was listened to is quiet" in caplog.text


def test_recordings_that_are_too_short_to_learn_from_are_told(few_clips, tmp_path, rng, caplog):
    soundfile.write(tmp_path / "short.wav", 0.01 * rng.standard_normal(RATE_HZ), RATE_HZ)
    run = train(few_clips, tmp_path / "run", small_plan("cnn", recordings=[str(tmp_path / "short.wav")]))
    assert "recordings: none can be read for 2.5 s" in caplog.text
    assert not (run.folder / "unlabeled.csv").exists()


def test_of_many_recordings_some_are_listened_to(tmp_path, rng):
    for number in range(40):
        soundfile.write(tmp_path / f"{number:02d}.wav", 0.01 * rng.standard_normal(2 * RATE_HZ), RATE_HZ)
    heard = {Path(stretch.file).stem for stretch in survey_recordings([tmp_path]).stretches}
    assert len(heard) == 14  # every third, for 16 stretches
    assert {"00", "39"} <= heard
