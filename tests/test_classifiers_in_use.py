"""Classifiers where people meet them: tagging, the command line on clips with several labels, plans, figures of
runs."""

import dataclasses
import io
import json

import numpy as np
import pandas as pd
import pytest
import soundfile

from barn_owl.cli.main import run as barn_owl
from barn_owl.clips import read_clip_table, write_clip_table
from barn_owl.errors import ModelError, PlanError
from barn_owl.evaluate import predict
from barn_owl.learn import Plan, read_plan
from barn_owl.learn.fitted import evaluate_logits
from barn_owl.learn.plan import PoolingSettings
from barn_owl.model import load_model
from barn_owl.runs import ensemble_of, open_run, suggest_plan, train, train_classifiers
from barn_owl.runs.data import with_splits
from barn_owl.tag import Tagger, tag_samples
from helpers import RATE_HZ, assert_close, small_plan, sound


@pytest.fixture(scope="module")
def take():
    """Ten seconds of near silence with a hum at 2 and a hiss at 6 seconds."""
    rng = np.random.default_rng(4)
    samples = 0.01 * rng.standard_normal(10 * RATE_HZ).astype(np.float32)
    for at, kind in ((2, "hum"), (6, "hiss")):
        piece = sound(kind, rng, seconds=1.5)
        samples[at * RATE_HZ : at * RATE_HZ + len(piece)] += piece
    return samples


def test_every_classifier_tags_and_a_stream_gives_the_same(any_run, take):
    model = any_run.model
    decoding = model.decoding.but(min_known_probability=0.4)  # it has learned for a second or two
    if model.classifies_segments:
        decoding = decoding.but(threshold=0.8, release_threshold=0.7)
    found = tag_samples(model, take, RATE_HZ, decoding=decoding)
    for at, kind in ((2, "hum"), (6, "hiss")):
        over = found[(found["start_s"] < at + 1.5) & (found["end_s"] > at)]
        assert kind in over["label"].tolist(), f"{model.classifier.name} misses the {kind}"
    tagger, events = Tagger(model, decoding), []
    for block in np.array_split(take, 7):
        events += tagger.push(block)
    events += tagger.finish()
    assert len(events) == len(found)
    assert_close(np.sort([event.start_s for event in events]), np.sort(found["start_s"].to_numpy()), atol=1e-3)


def test_an_ensemble_is_saved_and_tags(ranking, take, tmp_path):
    members = [load_model(ranking[0] / name) for name in ("logistic", "trees", "kernel")]
    model = ensemble_of(members)
    model.save(tmp_path / "together.safetensors")
    back = load_model(tmp_path / "together.safetensors")
    assert back.provenance["members"] == 3
    assert back.classifier.cost(0.01).weights == sum(member.classifier.cost(0.01).weights for member in members)
    pd.testing.assert_frame_equal(tag_samples(back, take, RATE_HZ), tag_samples(model, take, RATE_HZ))
    other = dataclasses.replace(members[0], front_end=members[0].front_end.but(bands=40))
    with pytest.raises(ModelError, match="their front_end differ"):
        ensemble_of([members[0], other])


def test_a_recording_has_no_columns_and_that_is_said(few_clips, tmp_path, take, caplog):
    told = few_clips.assign(depth_m=np.arange(len(few_clips)) * 1.0)
    run = train(told, tmp_path / "run", small_plan("logistic", columns=["depth_m"]))
    tag_samples(run.model, take, RATE_HZ)
    Tagger(run.model)
    assert "also looks at depth_m, which a recording does not tell: taken as average" in caplog.text
    with_column, _ = predict(run.model, told.head(4))
    without, _ = predict(run.model, told.head(4).drop(columns="depth_m"))
    assert not np.array_equal(with_column["score"], without["score"])
    assert "also looks at depth_m, which the table does not have: taken as average" in caplog.text


@pytest.fixture(scope="module")
def mixtures(tmp_path_factory):
    """A table of clips with a label or two, written as ``hiss|hum``."""
    folder, rng, rows = tmp_path_factory.mktemp("mixtures"), np.random.default_rng(2), []
    for number in range(12):
        hum, hiss, still = (sound(kind, rng) for kind in ("hum", "hiss", "still"))
        for name, samples, label in (
            ("a", hum + still, "hum"),
            ("b", hiss + still, "hiss"),
            ("c", hum + hiss, "hum|hiss"),
        ):
            soundfile.write(folder / f"{name}{number}.wav", samples, RATE_HZ)
            rows.append((f"{name}{number}.wav", label, f"rec{number % 4}"))
    pd.DataFrame(rows, columns=["file", "label", "group"]).to_csv(folder / "clips.csv", index=False)
    (folder / "plan.toml").write_text(
        'multilabel = true\nclassifier = "logistic"\n[pooling]\nwindows = 600\n[mixtures]\nunknown = 0\n'
        "[rehearsal]\nminutes = 0.4\n"
    )
    return folder


def test_clips_with_several_labels_on_the_command_line(mixtures, tmp_path, capsys):
    table, plan, where = str(mixtures / "clips.csv"), str(mixtures / "plan.toml"), str(tmp_path / "run")
    assert barn_owl(["train", table, "--run", where, "--plan", plan]) == 0
    said = capsys.readouterr().out
    assert "all labels correct for" in said
    assert "Still getting better" not in said  # candidates are no epochs
    assert not (tmp_path / "run" / "confusion.csv").exists()
    assert barn_owl(["evaluate", where, "--split", "train", "--json"]) == 0
    scores = json.loads(capsys.readouterr().out)
    assert scores["clips"] + 0 == sum(open_run(where).predictions["split"] == "train")
    assert set(scores["labels"]) == {"hiss", "hum"}
    assert scores["exact"] > 0.6
    # Rows per label are combined for evaluation.
    rows = pd.read_csv(table)
    single = rows.assign(label=rows["label"].str.split("|")).explode("label")
    single.to_csv(mixtures / "single.csv", index=False)
    assert barn_owl(["evaluate", where, str(mixtures / "single.csv"), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["clips"] == len(rows)
    assert barn_owl(["evaluate", where, str(mixtures / "clips.csv"), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["exact"] > 0.7
    # An unknown label among several is named.
    rows.assign(label=["hum|gull", *rows["label"][1:]]).to_csv(mixtures / "gull.csv", index=False)
    assert barn_owl(["evaluate", where, str(mixtures / "gull.csv")]) == 2
    assert "the model does not know 'gull'; it knows hiss, hum" in capsys.readouterr().err


def test_the_plan_command_gives_json_and_refuses_to_overwrite(clips, tmp_path, capsys):
    write_clip_table(clips, tmp_path / "clips.csv")
    out = tmp_path / "plan.toml"
    assert barn_owl(["plan", str(tmp_path / "clips.csv"), "-o", str(out), "--json"]) == 0
    result = json.loads(capsys.readouterr().out)
    assert result["plan"]["pooling"]["window_s"] == read_plan(out).pooling.window_s
    assert result["plan"]["classifier"] == "cnn"
    assert sum(layer["weights"] for layer in result["layers"]) > 1000
    assert barn_owl(["plan", str(tmp_path / "clips.csv"), "-o", str(out)]) == 1
    assert "already exists" in capsys.readouterr().err
    assert barn_owl(["plan", str(out), "-o", str(tmp_path / "other.toml")]) == 2
    assert "is already a plan" in capsys.readouterr().err
    out.write_text("[[cnn.layers]]\nkind = 'convolution'\nchannels = 4\ntaps = [3, 60]\n")
    assert barn_owl(["plan", str(out)]) == 2
    assert "cnn.layers, layer 1: a convolution needs 60 bands and gets 48" in capsys.readouterr().err
    assert barn_owl(["plan", str(tmp_path / "none.toml")]) == 2
    assert "does not exist" in capsys.readouterr().err


def test_plans_and_tables_go_to_standard_output_and_nothing_is_called_a_dash(clips, tmp_path, capsys, monkeypatch):
    monkeypatch.chdir(tmp_path)
    write_clip_table(clips, "clips.csv")
    assert barn_owl(["plan", "clips.csv", "-o", "-"]) == 0
    (tmp_path / "piped.toml").write_text(capsys.readouterr().out)
    assert barn_owl(["plan", "clips.csv", "-o", "plan.toml", "--quiet"]) == 0
    assert read_plan("piped.toml") == read_plan("plan.toml")
    assert barn_owl(["check", "clips.csv", "--no-audio", "-o", "-"]) == 0
    assert capsys.readouterr().out.startswith("severity,finding,")
    events = clips.head(3).assign(start_s=0.0, end_s=0.5)
    write_clip_table(events, "truth.csv")
    write_clip_table(events.tail(2).assign(score=0.9), "events.csv")
    assert barn_owl(["score", "events.csv", "truth.csv", "-o", "-"]) == 0
    wrong = read_clip_table(io.StringIO(capsys.readouterr().out))
    assert wrong["mistake"].tolist() == ["missed"]
    assert barn_owl(["check", "clips.csv", "--figure", "-"]) == 1
    assert "cannot go to standard output" in capsys.readouterr().err
    assert barn_owl(["check", "clips.csv", "-o", "-", "--fix", "-"]) == 1
    assert "only one table can go to standard output" in capsys.readouterr().err
    assert not (tmp_path / "-").exists()


def written(folder, rng, rate_hz, clips, labels, high=False):
    """Clips of noise that fills the band, or of noise above 8 kHz, with a table."""
    rows = []
    for label in labels:
        for number in range(clips):
            x = rng.standard_normal(rate_hz).astype(np.float32)
            x = np.diff(np.diff(x, prepend=0), prepend=0) if high else x
            path = folder / f"{label}_{number}.wav"
            soundfile.write(path, 0.05 * x / np.abs(x).max(), rate_hz)
            rows.append((str(path), np.nan, np.nan, label))
    return pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label"])


def test_a_plan_takes_a_higher_rate_only_where_it_is_worth_it(tmp_path, rng):
    hissing = written(tmp_path, rng, 44_100, 6, ["silence", "gas"], high=True)
    found = suggest_plan(hissing)
    assert found.plan.front_end.rate_hz == 48_000
    assert found.plan.background == ["silence"]
    named = hissing.assign(label=hissing["label"].replace({"silence": "_Background_Noise_", "gas": "noise maker"}))
    assert suggest_plan(named).plan.background == ["_Background_Noise_"]
    assert "never reported as events" in found.reasons["background"]
    (tmp_path / "low").mkdir()
    assert suggest_plan(written(tmp_path / "low", rng, 16_000, 6, ["a", "b"])).plan.front_end.rate_hz == 16_000


def tones(folder, rng, rate_hz, seconds, low_hz, high_hz):
    """Clips of two labels, tones of half of their length between two frequencies, with little noise."""
    rows, t = [], np.arange(round(seconds * rate_hz)) / rate_hz
    for number in range(12):
        label, hz = ("low", low_hz) if number % 2 else ("high", high_hz)
        x = 0.3 * np.sin(2 * np.pi * hz * rng.uniform(0.95, 1.05) * t) * (t > seconds / 2)
        path = folder / f"{label}_{number}.wav"
        soundfile.write(path, x + 1e-4 * rng.standard_normal(len(x)), rate_hz)
        rows.append((str(path), label, f"site{number // 4}"))
    return pd.DataFrame(rows, columns=["file", "label", "group"])


def test_a_plan_reaches_ultrasound_and_warns_of_what_is_too_low(tmp_path, rng, caplog):
    for name in ("bats", "earth"):
        (tmp_path / name).mkdir()
    found = suggest_plan(tones(tmp_path / "bats", rng, 192_000, 0.3, 40e3, 60e3))
    assert found.plan.front_end.rate_hz >= 2 * 60e3
    assert 2_000 < found.plan.front_end.low_hz < 38e3
    assert "ultrasound" in found.reasons["front_end.low_hz"]
    assert not caplog.records
    found = suggest_plan(tones(tmp_path / "earth", rng, 1_000, 8.0, 6, 15))
    assert found.plan.front_end.low_hz == 0
    assert "below 100 Hz" in caplog.text


def test_a_model_at_the_lowest_rate_trains(tmp_path, rng):
    table = tones(tmp_path, rng, 1_000, 4.0, 100, 300)
    low = {"rate_hz": 1000, "frame_ms": 256, "hop_ms": 64, "low_hz": 5}
    run = train(table, tmp_path / "run", small_plan("cnn", background=[], front_end=low, training={"epochs": 1}))
    assert run.model.front_end.rate_hz == 1000


def test_what_is_tested_on_takes_no_part_in_the_plan(tmp_path, rng):
    hissing = written(tmp_path, rng, 44_100, 12, ["gas", "leak"], high=True)
    (tmp_path / "dull").mkdir()
    dull = written(tmp_path / "dull", rng, 16_000, 12, ["gas", "leak"])
    splits = ["train"] * 6 + ["validation"] * 6
    of_dull, of_hissing = dull.assign(split=splits * 2), hissing.assign(split="test")
    assert suggest_plan(pd.concat([of_dull, of_hissing])).plan == suggest_plan(of_dull).plan
    assert suggest_plan(pd.concat([of_dull.assign(split="test"), hissing.assign(split="train")])).plan != (
        suggest_plan(of_dull).plan
    )
    # Without splits, those of a training with this seed.
    table = pd.concat([dull, hissing], ignore_index=True)
    sided = with_splits(table, Plan(seed=4))
    assert suggest_plan(table, seed=4).plan == suggest_plan(sided).plan
    by_label = suggest_plan(table.assign(group=table["label"]))
    assert "one clip in ten reaches" in by_label.reasons["front_end.rate_hz"]


def test_mixtures_follow_from_the_seconds_of_clips(tmp_path, rng):
    few = written(tmp_path, rng, 8_000, 3, ["a", "b"])
    tables = [
        pd.concat([few.assign(start_s=n / 10_000) for n in range(count)], ignore_index=True)
        for count in (1, 150, 1000)
    ]
    assert [suggest_plan(table).plan.mixtures.count for table in tables] == [160, 186, 280]


def test_the_best_may_be_the_highest_f1(few_clips, tmp_path):
    plan = small_plan("cnn").but(training={"epochs": 20, "stop_on": "f1"})
    curves = train(few_clips, tmp_path / "run", plan).curves
    kept, late = curves[curves["best"]].iloc[-1], curves[curves["epoch"] > 18]  # until then the rate is still high
    assert kept["validation_f1"] == late["validation_f1"].max()
    assert kept["epoch"] == late["epoch"][late["validation_f1"].idxmax()]  # the first of equal candidates


def test_recall_and_f1_of_validation_by_hand():
    targets = np.eye(3, dtype=np.float32)[[0, 0, 0, 1]]  # the third label does not occur
    logits = np.array([[5, 0, 0], [5, 0, 0], [0, 5, 0], [0, 5, 0]], np.float32)
    loss, recall, f1 = evaluate_logits(logits, targets, multilabel=False)
    assert recall == pytest.approx((2 / 3 + 1) / 2)
    assert f1 == pytest.approx((4 / 5 + 2 / 3) / 2)
    large = 5 / 2 ** np.linspace(-1.5, 3.5, 11)  # at each temperature, the best of which counts
    right, wrong = np.log(np.exp(large) + 2) - large, np.log(np.exp(large) + 2)
    assert loss == pytest.approx((((2 * right + wrong) / 3 + right) / 2).min(), rel=1e-5)


def test_classifiers_need_columns_that_are_there(few_clips, tmp_path):
    told = few_clips.assign(weight_kg=np.arange(len(few_clips)) * 1.0)
    with pytest.raises(PlanError, match="uses frames only; use a pooled classifier"):
        small_plan("cnn", columns=["weight_kg"])
    table = train_classifiers(
        told, tmp_path / "runs", small_plan("nearest", columns=["weight_kg"]), classifiers=["cnn", "nearest"]
    )
    assert set(table["classifier"]) == {"cnn", "nearest"}  # the cnn goes without the column
    assert open_run(tmp_path / "runs" / "cnn").plan.columns == []
    with pytest.raises(PlanError, match="there is no statistic 'median'"):
        PoolingSettings(statistics=["median"])
