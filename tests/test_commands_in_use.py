"""Rare uses of commands: each ends well, or with a message."""

import json
from datetime import datetime

import numpy as np
import pandas as pd
import pytest

import barn_owl as owl
from barn_owl.cli.main import run
from helpers import RATE_HZ, small_plan, sound


@pytest.fixture
def command(capsys):
    """Run a command; return its exit code and the text of both streams."""

    def call(*words):
        code = run([str(word) for word in words])
        said = capsys.readouterr()
        return code, said.out + said.err

    return call


@pytest.fixture
def table(few_clips, tmp_path):
    owl.write_clip_table(few_clips, tmp_path / "clips.csv")
    return tmp_path / "clips.csv"


@pytest.fixture(scope="module")
def night(tmp_path_factory):
    """A recording of eight sounds over stillness, and the table of their times."""
    folder, rng = tmp_path_factory.mktemp("night"), np.random.default_rng(4)
    take = 0.01 * rng.standard_normal(34 * RATE_HZ).astype(np.float32)
    rows = []
    for number, kind in enumerate(["hum", "tick", "hiss", "hum", "tick", "hiss", "hum", "hiss"]):
        start, piece = 2 + 4 * number, sound(kind, rng)
        take[start * RATE_HZ : start * RATE_HZ + len(piece)] += piece
        rows.append(("night.wav", float(start), start + 1.2, kind))
    owl.write_audio(folder / "night.wav", take.clip(-1, 1), RATE_HZ)
    truth = pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label"])
    truth.to_csv(folder / "truth.csv", index=False)
    return folder


def test_labels_are_corrected_joined_and_limited_while_gathering(command, folder, table, tmp_path):
    first = owl.read_clip_table(table).iloc[:1][["file", "label"]]
    first.assign(correct_label="tick").to_csv(tmp_path / "corrections.csv", index=False)
    out = tmp_path / "out.csv"
    code, said = command("gather", table, "--corrections", tmp_path / "corrections.csv", "-o", out)
    assert (code, "Corrected 1 labels" in said) == (0, True)
    assert owl.read_clip_table(out)["label"].value_counts()["tick"] == 9
    code, said = command("gather", folder, "--keep-label", "hum", "--limit", 5, "-o", out, "--force")
    assert code == 0, said
    assert owl.read_clip_table(out)["label"].value_counts().to_dict() == {"hum": 5, "other": 5}


def test_what_cannot_be_gathered_is_named_up_to_a_few(command, tmp_path):
    owl.write_audio(tmp_path / "in" / "hum" / "good.wav", sound("hum", np.random.default_rng(0)), RATE_HZ)
    for number in range(20):
        (tmp_path / "in" / "hum" / f"bad{number}.wav").write_bytes(b"RIFF")
    code, said = command("gather", tmp_path / "in", "-o", tmp_path / "clips.csv")
    assert code == 0, said
    assert "bad0.wav" in said
    assert "more skipped" in said
    assert "20 skipped" in said


@pytest.mark.parametrize(("words", "code", "message"), [
    (["cut", "night.wav", "-o", "c.csv", "--length-s", "0"], 2, "must be greater than 0"),
    (["cut", "night.wav", "-o", "c.csv", "--windows", "--around-events"], 2, "are different ways to cut"),
    (["cut", "night.wav", "-o", "c.csv", "--false-alarms", "e.csv"], 2, "goes with --around-events"),
    (["record", "takes", "--label", "knock", "--length-s", "0"], 2, "length_s must be greater than 0"),
    (["review", "truth.csv", "--answers", "none.jsonl", "-o", "r.csv"], 2, "none.jsonl does not exist"),
    (["train", "truth.csv", "--run", "r", "--forget", "hum"], 2, "--forget needs --start-from"),
    (["train", "truth.csv", "--run", "r", "--subset", "1.5"], 2, "a share up to 1 or a whole number"),
    (["train", "truth.csv", "--run", "r", "--subset", "inf"], 2, "a share up to 1 or a whole number"),
    (["adjust", "nowhere", "truth.csv"], 2, "nowhere does not exist"),
])  # fmt: skip
def test_what_does_not_go_together_is_refused_before_anything_is_done(
    command, night, monkeypatch, words, code, message
):
    monkeypatch.chdir(night)
    there = sorted(night.iterdir())
    ended, said = command(*words)
    assert message in said
    assert ended == code, said
    assert sorted(night.iterdir()) == there


def test_windows_are_cut_and_written(command, night, tmp_path):
    out, cuts = tmp_path / "cuts.csv", tmp_path / "cuts"
    code, said = command("cut", night / "night.wav", "--windows", "--length-s", 4, "-o", out, "--write", cuts)
    assert code == 0, said
    assert len(owl.read_clip_table(out)) == 8
    assert len(list(cuts.rglob("*.wav"))) == 8


def test_parts_of_the_clips_are_trained_on_one_after_the_other(command, table, tmp_path):
    owl.write_plan(small_plan("nearest"), tmp_path / "plan.toml")
    words = ["train", table, "--run", tmp_path / "parts", "--plan", tmp_path / "plan.toml"]
    code, said = command(*words, "--subset", 0.5)
    assert code == 0, said
    assert "by the number of training clips" in said
    assert len([path for path in (tmp_path / "parts").iterdir() if path.is_dir()]) == 2
    assert (tmp_path / "parts" / "subsets.png").is_file()


def test_a_table_without_a_test_side_trains_and_is_not_judged(command, few_clips, tmp_path):
    splits = np.where(few_clips["group"] == "rec0", "validation", "train")
    owl.write_clip_table(few_clips.assign(split=splits), tmp_path / "clips.csv")
    owl.write_plan(small_plan("nearest"), tmp_path / "plan.toml")
    words = ["train", tmp_path / "clips.csv", "--run", tmp_path / "run", "--plan", tmp_path / "plan.toml"]
    code, said = command(*words)
    assert code == 0, said
    assert "no test clips, so the run is not evaluated" in said


def test_effort_sets_the_epochs_unless_they_are_set(command, table, tmp_path):
    owl.write_plan(small_plan("nearest"), tmp_path / "plan.toml")
    for more, epochs in (([], 20), (["--set", "training.epochs=3"], 3)):
        words = ["train", table, "--run", tmp_path / "run", "--plan", tmp_path / "plan.toml", "--force"]
        code, said = command(*words, "--effort", "quick", *more)
        assert code == 0, said
        assert owl.read_plan(tmp_path / "run/plan.toml").training.epochs == epochs


def test_settings_are_found_told_and_written_to_another_file(command, runs, night, tmp_path):
    model, found = runs["logistic"].folder, tmp_path / "found.safetensors"
    before = (model / "model.safetensors").read_bytes()
    code, said = command("adjust", model, night / "truth.csv", "--false-alarms", 0, "--dry-run")
    assert code == 0, said
    code, said = command("adjust", model, night / "truth.csv", "-o", found)
    assert code == 0, said
    assert f"Wrote {found}" in said
    assert (model / "model.safetensors").read_bytes() == before
    labels = owl.load_model(found).labels
    assert labels == runs["logistic"].model.labels


def test_events_and_truth_the_wrong_way_round_are_noticed(command, runs, night, tmp_path):
    events = tmp_path / "events.csv"
    assert command("tag", runs["cnn"].folder, night / "night.wav", "-o", events)[0] == 0
    code, said = command("score", events, night / "truth.csv")
    assert code == 0, said
    assert "are the two swapped" not in said
    code, said = command("score", night / "truth.csv", events)
    assert (code, "are the two swapped" in said) == (0, True)


def test_labels_that_are_taken_for_each_other_are_told(command, night, tmp_path):
    truth = owl.read_clip_table(night / "truth.csv")
    owl.write_clip_table(truth.assign(label=truth["label"].replace("hiss", "hum"), score=0.9), tmp_path / "e.csv")
    code, said = command("score", tmp_path / "e.csv", night / "truth.csv")
    assert code == 0, said
    assert "3 hiss events tagged as hum" in said


def test_clips_that_cannot_be_named_are_passed_over(command, runs, folder, tmp_path):
    (tmp_path / "broken.wav").write_bytes(b"RIFF")
    good = next((folder / "hum").iterdir())
    out = tmp_path / "named.csv"
    code, said = command("classify", runs["logistic"].folder, good, tmp_path / "broken.wav", "-o", out)
    assert code == 0, said
    assert "broken.wav" in said
    assert len(pd.read_csv(out)) == 1
    code, said = command("classify", runs["logistic"].folder, tmp_path / "broken.wav", "-o", tmp_path / "none.csv")
    assert code == 2
    assert "broken.wav" in said
    assert not (tmp_path / "none.csv").exists()


def test_runs_are_compared_in_a_figure(command, ranking, tmp_path):
    names = [ranking[0] / classifier for classifier in ("cnn", "logistic")]
    code, said = command("evaluate", *names, "-o", tmp_path / "both.png")
    assert code == 0, said
    assert (tmp_path / "both.png").is_file()


def test_answers_to_other_cases_are_noticed(command, night, tmp_path):
    truth = owl.read_clip_table(night / "truth.csv").assign(score=0.9)
    truth["file"] = str(night / "night.wav")
    owl.write_clip_table(truth, tmp_path / "e.csv")
    answers = tmp_path / "answers.jsonl"
    owl.annotation.add_answer(
        answers, owl.annotation.ReviewAnswer(item="night.wav 99.000 100.000 hum", verdict="wrong")
    )
    for row in truth.to_dict("records"):
        case = f"night.wav {row['start_s']:.3f} {row['end_s']:.3f} {row['label']}"
        owl.annotation.add_answer(
            answers,
            owl.annotation.ReviewAnswer(
                item=case, verdict="right", sounds=[(row["label"], row["start_s"], row["end_s"])]
            ),
        )
    code, said = command("review", tmp_path / "e.csv", "--answers", answers, "--stretches", 0)
    assert code == 0, said
    assert "1 answers are to items that are not in EVENTS" in said
    assert "Recall is not known" in said


def test_what_is_heard_live_is_added_to_a_table_kept_and_told(command, runs, night, tmp_path):
    out, kept = tmp_path / "heard.jsonl", tmp_path / "kept"
    words = ["listen", runs["cnn"].folder, "--microphone", f"simulated:{night / 'night.wav'}", "--speed", "inf"]
    code, said = command(*words, "-o", out, "--excerpts", kept, "--run-command", "false {label}")
    assert code == 0, said
    lines = [json.loads(line) for line in out.read_text().splitlines()]
    assert 4 <= len(lines) <= 12
    assert all(datetime.fromisoformat(line["begins"]) for line in lines)
    assert f"Detected {len(lines)} events" in said
    assert "false ended with exit code 1" in said
    assert len(list(kept.rglob("*.flac"))) == len(lines)
    tagged = owl.tag_recording(runs["cnn"].model, night / "night.wav")
    assert sorted(line["label"] for line in lines) == sorted(tagged["label"])
    code, said = command(*words, "--json", "--stop-after-s", 10)
    assert code == 0, said
    assert len([line for line in said.splitlines() if line.startswith("{")]) < len(lines)
    assert command(*words, "-o", out)[0] == 0
    assert len(out.read_text().splitlines()) == 2 * len(lines)


def test_a_long_recording_is_drawn_at_its_beginning(command, night, tmp_path, monkeypatch):
    monkeypatch.setattr("barn_owl.cli.features.SHOWN_S", 20.0)
    code, said = command("features", night / "night.wav", "-o", tmp_path / "f.csv", "--figures", tmp_path / "figures")
    assert code == 0, said
    assert "The figure shows the first 20 s" in said
    assert (tmp_path / "figures" / "tracks.png").is_file()
