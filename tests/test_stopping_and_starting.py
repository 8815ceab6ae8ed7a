"""Trainings that stop, continue, start from a model, or are several."""

import os
import re
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
import scipy

from barn_owl.cli.main import run as barn_owl
from barn_owl.clips import read_clip_table, write_clip_table
from barn_owl.errors import AudioError, ModelError, OutputError, PlanError, TableError
from barn_owl.learn import read_plan, write_plan
from barn_owl.learn.checkpoint import Checkpoint
from barn_owl.model import load_model
from barn_owl.runs import (
    Work,
    ensemble_of,
    open_run,
    plan_from_model,
    suggest_plan,
    train,
    train_classifiers,
    train_several,
    train_subsets,
)
from barn_owl.runs.history import read_training_history
from helpers import able_plan, assert_close, small_plan, sound


class Stopped(BaseException):
    """Simulates a power cut: nothing in the library may catch it."""


def stop_after(epoch: int):
    def watch(line):
        if line.epoch == epoch:
            raise Stopped

    return watch


@pytest.mark.parametrize("classifier", ["cnn", "mlp"])
@pytest.mark.parametrize("changed", [False, True], ids=["sound as it is", "sound changed"])
def test_a_resumed_training_ends_as_if_never_stopped(few_clips, tmp_path, classifier, changed):
    sound_settings = {"speed": 0.7, "renew": 0.3} if changed else {}
    plan = small_plan(classifier, sound=sound_settings).but(training={"epochs": 5})
    train(few_clips, tmp_path / "whole", plan)
    for epoch in (2, 4):
        with pytest.raises(Stopped):
            train(few_clips, tmp_path / "parts", plan, resume=epoch > 2, work=Work(watch=stop_after(epoch)))
        with pytest.raises(ModelError, match="unfinished training; resume the training"):
            open_run(tmp_path / "parts")
    run = train(few_clips, tmp_path / "parts", resume=True)
    assert (run.folder / "model.safetensors").read_bytes() == (tmp_path / "whole" / "model.safetensors").read_bytes()
    # All but the times is the same, in figures and tables as well.
    whole, parts = (pd.read_csv(tmp_path / name / "curves.csv", dtype=str) for name in ("whole", "parts"))
    times = ["seconds", "waiting"]
    pd.testing.assert_frame_equal(parts.drop(columns=times), whole.drop(columns=times))
    for name in ("predictions.csv", "scores.json", "confusion.csv", "plan.toml"):
        assert (tmp_path / "parts" / name).read_bytes() == (tmp_path / "whole" / name).read_bytes()
    assert len(run.curves) == 5
    assert not (run.folder / "checkpoint.safetensors").exists()
    # Nothing is left to do, and nothing is done.
    before = (run.folder / "predictions.csv").stat().st_mtime_ns
    train(few_clips, tmp_path / "parts", resume=True)
    assert (run.folder / "predictions.csv").stat().st_mtime_ns == before


def test_the_split_of_a_run_is_kept_when_clips_are_added(clips, few_clips, tmp_path, capsys):
    before = train(few_clips, tmp_path / "first", small_plan("nearest", rehearsal={"minutes": 0}))
    write_clip_table(clips, tmp_path / "more.csv")
    write_plan(small_plan("nearest", rehearsal={"minutes": 0}, seed=9), tmp_path / "plan.toml")
    command = ["train", str(tmp_path / "more.csv"), "--plan", str(tmp_path / "plan.toml")]
    command += ["--run", str(tmp_path / "next")]
    assert barn_owl([*command, "--split-from", str(before.folder), "--quiet"]) == 0
    splits = read_clip_table(tmp_path / "next" / "clips.csv").set_index("file")["split"]
    own = before.predictions.set_index("file")["split"]
    assert (splits[own.index] == own).all()
    assert len(splits) == len(clips) > len(own)
    assert splits.groupby(clips.set_index("file")["group"]).nunique().max() == 1
    assert barn_owl([*command[:-1], str(tmp_path / "other"), "--split-from", str(tmp_path)]) == 2
    assert "is no run" in capsys.readouterr().err


def test_what_changed_is_said_when_a_training_cannot_be_resumed(few_clips, tmp_path):
    plan = small_plan("cnn").but(training={"epochs": 4})
    with pytest.raises(Stopped):
        train(few_clips, tmp_path / "run", plan, work=Work(watch=stop_after(1)))
    with pytest.raises(PlanError, match=r"training.learning_rate \(0.01 there, 0.1 now\)"):
        train(few_clips, tmp_path / "run", plan.but(training={"learning_rate": 0.1}), resume=True)
    splits = read_clip_table(tmp_path / "run" / "clips.csv")
    with pytest.raises(TableError, match=r"3 rows are gone or changed, 0 are new; the first: .*\.wav"):
        train(splits.iloc[3:], tmp_path / "run", plan, resume=True)
    with pytest.raises(TableError, match="another order"):
        train(splits.iloc[::-1], tmp_path / "run", plan, resume=True)
    (tmp_path / "run" / "checkpoint.safetensors").write_bytes(b"half")
    with pytest.raises(ModelError, match="is damaged .*train again from the start"):
        train(few_clips, tmp_path / "run", plan, resume=True)
    with pytest.raises(ModelError, match="has nothing to resume"):
        train(few_clips, tmp_path / "elsewhere", plan, resume=True)


def test_a_run_that_was_there_survives_until_there_is_something_better(few_clips, tmp_path):
    plan = small_plan("cnn").but(training={"epochs": 2})
    first = train(few_clips, tmp_path / "run", plan)
    with pytest.raises(TableError):
        train(few_clips.assign(label="one"), tmp_path / "run", plan, work=Work(force=True))
    assert open_run(first.folder).evaluate().scores.clips == len(
        first.predictions[first.predictions["split"] == "test"]
    )


def test_a_killed_command_can_be_resumed(few_clips, tmp_path):
    write_clip_table(few_clips, tmp_path / "clips.csv")
    (tmp_path / "plan.toml").write_text(
        'classifier = "cnn"\n[training]\nepochs = 400\nrefit = 0\n[cnn]\nsize = "tiny"\n'
        "[mixtures]\ncount = 16\nseconds = 1.5\nunknown = 0\n[rehearsal]\nminutes = 0\n"
    )
    command = ["train", str(tmp_path / "clips.csv"), "--run", str(tmp_path / "run"), "--quiet"]
    main = "from barn_owl.cli.main import main; main()"
    process = subprocess.Popen([sys.executable, "-c", main, *command, "--plan", str(tmp_path / "plan.toml")])
    checkpoint = tmp_path / "run" / "checkpoint.safetensors"
    for _ in range(2400):
        if checkpoint.exists():
            break
        time.sleep(0.05)
    time.sleep(0.3)
    beside = Path(f"/proc/{process.pid}/task/{process.pid}/children")
    started = beside.read_text().split() if beside.is_file() else []
    os.kill(process.pid, signal.SIGKILL)
    process.wait()
    for _ in range(1200):  # worker processes end, too
        if not any(Path(f"/proc/{child}/cmdline").is_file() for child in started):
            break
        time.sleep(0.05)
    else:
        pytest.fail(f"still there: {started}")
    assert not (tmp_path / "run" / "model.safetensors").exists()
    text = (tmp_path / "run" / "plan.toml").read_text()
    assert read_plan(tmp_path / "run" / "plan.toml").training.epochs == 400
    # Shortened for the test; the plan in the folder counts.
    done = len(load_checkpoint(checkpoint).curves)
    (tmp_path / "run" / "plan.toml").write_text(text.replace("epochs = 400", f"epochs = {done + 2}"))
    assert barn_owl([*command, "--resume"]) == 0
    assert len(open_run(tmp_path / "run").curves) == done + 2


def load_checkpoint(path):
    from barn_owl.learn.checkpoint import read_checkpoint

    return read_checkpoint(path)


def test_a_full_disk_costs_a_checkpoint_and_not_the_training(few_clips, tmp_path, monkeypatch, caplog):
    def full(self, path):
        raise OutputError(f"{path} cannot be written: no space left on device")

    monkeypatch.setattr(Checkpoint, "save", full)
    run = train(few_clips, tmp_path / "run", small_plan("cnn").but(training={"epochs": 3}))
    assert "no space left on device; training continues without this checkpoint" in caplog.text
    assert run.evaluate().scores.clips > 0


def test_training_further_keeps_what_is_known(clips, ranking, tmp_path):
    model = load_model(ranking[0] / "cnn")
    # The trained network has the labels hum and hiss; deep hums are added.
    more = clips.assign(label=clips["label"].replace({"hum": "deep-hum"}))
    plan = plan_from_model(small_plan("cnn").but(training={"epochs": 3}), model, str(ranking[0] / "cnn"))
    plan = plan.but(start={"frozen": 6, "forget": ["hum"]})
    run = train(more, tmp_path / "run", plan)
    before, after = model.classifier.state(), run.model.classifier.state()
    for name in before:
        if int(name.split(".")[1]) < 6:
            assert (before[name] == after[name]).all()
    assert any((before[name] != after[name]).any() for name in before if name.startswith("0.8."))
    assert_close(run.model.mean, model.mean)
    assert run.evaluate().scores.balanced_accuracy > 0.7
    with pytest.raises(PlanError, match="another front_end"):
        train(more, tmp_path / "other", plan.but(front_end={"bands": 40}))
    with pytest.raises(PlanError, match="is a logistic; only a cnn can be trained further"):
        plan_from_model(plan, load_model(ranking[0] / "logistic"), "first")
    with pytest.raises(PlanError, match="start.frozen must be less than"):
        train(more, tmp_path / "other", plan.but(start={"frozen": 99}))


def test_seeds_and_folds_spread_and_become_one_model(few_clips, tmp_path, rng):
    plan = small_plan("logistic")
    table = train_several(few_clips, tmp_path / "seeds", plan, seeds=2, ensemble=True)
    assert table["training"].tolist() == ["seed-0", "seed-1"]
    splits = [open_run(tmp_path / "seeds" / name).predictions["split"].tolist() for name in table["training"]]
    assert splits[0] == splits[1]
    model, x = load_model(tmp_path / "seeds"), sound("hum", rng)
    members = [load_model(tmp_path / "seeds" / name) for name in table["training"]]
    frames = model.front_end.frames(x)
    expected = np.mean([member.frame_scores(frames).activity for member in members], axis=0)
    assert_close(model.frame_scores(frames).activity, expected, rtol=1e-4, atol=1e-5)

    table = train_several(few_clips, tmp_path / "folds", plan, folds=3, ensemble=True)
    predictions = read_clip_table(tmp_path / "folds" / "predictions.csv")
    assert len(predictions) == len(few_clips)  # each clip is the test once
    assert open_run(tmp_path / "folds").evaluate().scores.clips == len(few_clips)
    spread = pd.read_json(tmp_path / "folds" / "spread.json")
    assert spread.loc["mean", "test_balanced_accuracy"] == pytest.approx(table["test_balanced_accuracy"].mean())
    with pytest.raises(TableError, match="there are 4 groups for 5 folds"):
        train_several(few_clips, tmp_path / "more", plan, folds=5)
    with pytest.raises(TableError, match="at least 3 folds"):
        train_several(few_clips, tmp_path / "more", plan, folds=2)
    other = load_model(tmp_path / "seeds" / "seed-0")
    import dataclasses

    with pytest.raises(ModelError, match="their labels differ"):
        ensemble_of([other, dataclasses.replace(other, labels=["a", "b", "c", "d"])])


def test_a_ranking_that_was_stopped_goes_on(few_clips, tmp_path):
    plan = small_plan("cnn").but(training={"epochs": 3}, trees={"rounds": 5})
    names = ["majority", "logistic", "cnn"]

    with pytest.raises(KeyboardInterrupt):
        train_classifiers(
            few_clips,
            tmp_path / "all",
            plan,
            classifiers=names,
            work=Work(on_start=lambda name, *_: name == "cnn" and interrupt()),
        )
    assert pd.read_csv(tmp_path / "all" / "classifiers.csv")["classifier"].tolist() == ["logistic", "majority"]
    before = (tmp_path / "all" / "logistic" / "predictions.csv").stat().st_mtime_ns
    ranking = train_classifiers(few_clips, tmp_path / "all", plan, classifiers=names, resume=True)
    assert set(ranking["classifier"]) == set(names)
    assert (tmp_path / "all" / "logistic" / "predictions.csv").stat().st_mtime_ns == before
    with pytest.raises(PlanError, match="the plan is not that of"):
        train_classifiers(few_clips, tmp_path / "all", plan.but(seed=5), classifiers=names, resume=True)


def test_parts_of_the_clips_and_stacks_of_features_are_set_side_by_side(few_clips, tmp_path):
    plan = small_plan("logistic")
    table = train_subsets(few_clips, tmp_path / "parts", plan, subsets=[0.3, 8])
    runs = [open_run(tmp_path / "parts" / name) for name in table["run"]]
    learned = [set(run.predictions.loc[run.predictions["split"] == "train", "file"]) for run in runs]
    assert [len(own) for own in learned] == table["training_clips"].tolist()
    assert learned[0] < learned[1] < learned[2]
    assert all(set(run.predictions.loc[run.predictions["split"] == "train", "label"]) == set(few_clips["label"])
               for run in runs)  # fmt: skip
    tested = [run.predictions.loc[run.predictions["split"] == "test", "file"].tolist() for run in runs]
    assert tested[0] == tested[1] == tested[2]
    with pytest.raises(TableError, match=r"a share up to 1 or a whole number of clips, got 1.5"):
        train_subsets(few_clips, tmp_path / "wrong", plan, subsets=[1.5])

    stacks = [["log-mel"], ["mfcc", "shape"]]
    classifiers = ["logistic", "nearest"]
    ranking = train_classifiers(
        few_clips, tmp_path / "sets", plan, classifiers=classifiers, front_ends=stacks
    ).set_index("run")
    assert set(ranking.index) == {f"{name}-{'+'.join(stack)}" for name in classifiers for stack in stacks}
    run, other = (open_run(tmp_path / "sets" / f"nearest-{'+'.join(stack)}") for stack in stacks[::-1])
    assert run.model.front_end.features[:2] == ["mfcc", "centroid"]
    assert ranking.loc["nearest-mfcc+shape", "classifier"] == "nearest"
    assert run.predictions["split"].tolist() == other.predictions["split"].tolist()


def interrupt():
    raise KeyboardInterrupt


def test_curves_in_words():
    def curves(train_loss, validation_loss, planned=0):
        epochs = range(1, len(train_loss) + 1)
        table = {"epoch": epochs, "train_loss": train_loss, "validation_loss": validation_loss}
        table["epochs"] = [planned or len(train_loss)] * (len(train_loss) - 1) + [len(train_loss)]
        return pd.DataFrame(table).assign(best=[epoch in (1, len(train_loss)) for epoch in epochs])

    splits = {"train": {"balanced_accuracy": 0.99}, "validation": {"balanced_accuracy": 0.7}}
    heart = read_training_history(curves([3, 2, 1, 0.5], [3, 2, 2.5, 3]), splits)
    held_out = splits | {"test": {"balanced_accuracy": splits["train"]["balanced_accuracy"] - 0.02}}
    assert heart.gap > 0.1
    assert read_training_history(curves([1], [1]), held_out, refitted=True).gap == pytest.approx(0.02)
    assert heart.overfits
    assert heart.rise == pytest.approx(0.375)  # mean of 2.5 and 3 over 2
    assert [sentence.split(",")[0] for sentence in heart.words] == [
        "The model has the weights of epoch 4 of 4.",
        "After epoch 2 the validation loss rose by 38% while the training loss fell: overfitting.",
        "Balanced accuracy is 0.29 higher on training clips than on others: more clips",
    ]
    found, lost, absent = ({"recall": recall, "count": 4 * (recall is not None)} for recall in (1.0, 0.0, None))
    labels = {"hum": lost, "hiss": found, "tick": absent}
    weak = {"train": None, "validation": {"balanced_accuracy": 0.5, "labels": labels}}
    assert (
        read_training_history(curves([1], [1]), weak)
        .words[0]
        .startswith("Hardly better than chance (balanced accuracy 0.50, chance 0.50)")
    )
    labels["bell"] = found
    weak["validation"]["balanced_accuracy"] = 0.67
    assert read_training_history(curves([1], [1]), weak, by_epoch=False).words == [
        "No validation clip of 'hum' is classified correctly."
    ]
    young = read_training_history(curves([3, 2, 1], [3, 2, 1]), {"train": None, "validation": None})
    assert young.words == ["Still improving at the last epoch, 3: more epochs may help."]
    early = read_training_history(curves([3, 2, 1], [3, 2, 1], planned=5), {"train": None, "validation": None})
    assert early.words == [
        "The model has the weights of epoch 3 of 3; training ended early, as the losses no longer improved."
    ]


def test_a_plan_is_fitted_to_the_clips_and_says_why(tmp_path, rng):
    import soundfile

    rows = []
    for group, rate_hz in (("old-phone", 8_000), ("studio", 44_100)):
        for label, frequency in (("high", 1500), ("low", 300)):
            for number in range(16):
                t = np.arange(3 * rate_hz) / rate_hz
                x = 0.01 * rng.standard_normal(len(t))
                x += 0.5 * np.sin(2 * np.pi * frequency * t) * ((t > 1) & (t < 1.3))
                path = tmp_path / f"{group}_{label}_{number}.wav"
                soundfile.write(path, x, rate_hz)
                rows.append((str(path), np.nan, np.nan, label, group))
    clips = pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label", "group"])
    found = suggest_plan(clips)
    # The sound of 0.3 s counts, not the 3 s of the clip; bands that the old phone lacks must not matter.
    assert found.plan.pooling.window_s == 0.4
    assert found.plan.front_end.rate_hz == 8_000
    assert found.plan.classifier == "cnn"
    found.write(tmp_path / "plan.toml")
    assert read_plan(tmp_path / "plan.toml") == found.plan
    assert "most of the activity of a clip takes 0.3 s" in (tmp_path / "plan.toml").read_text()
    # Bands that recordings lack are ignored in clips, too.
    dull = scipy.signal.sosfilt(scipy.signal.butter(20, 4000, fs=32_000, output="sos"), rng.standard_normal(160_000))
    soundfile.write(tmp_path / "dull.wav", 0.05 * dull, 32_000, subtype="FLOAT")
    studio = clips[clips["group"] == "studio"]
    narrow = suggest_plan(studio, recordings=[tmp_path / "dull.wav"])
    assert suggest_plan(studio).plan.front_end.rate_hz == 16_000
    assert narrow.plan.front_end.top_hz <= 5_600
    assert narrow.plan.recordings == [str(tmp_path / "dull.wav")]
    assert re.search(r"the recordings 5\.[56] kHz", narrow.reasons["front_end.rate_hz"])
    (tmp_path / "broken.wav").write_bytes(b"RIFF")
    with pytest.raises(AudioError, match="no usable sound"):
        suggest_plan(studio, recordings=[tmp_path / "broken.wav"])
    with pytest.raises(TableError, match="none of the clips can be used"):
        suggest_plan(clips.assign(file="/nowhere.wav"))


def test_the_command_trains_classifiers_seeds_and_from_a_model(few_clips, tmp_path, capsys, ranking):
    write_clip_table(few_clips, tmp_path / "clips.csv")
    table, plan = str(tmp_path / "clips.csv"), tmp_path / "plan.toml"
    plan.write_text(
        'background = ["still"]\n[training]\nepochs = 3\nrefit = 2\n'
        '[cnn]\nsize = "tiny"\nkinds = ["2d"]\n[mixtures]\ncount = 8\nunknown = 0\n'
        "[pooling]\nwindows = 60\n[rehearsal]\nminutes = 0\n[trees]\nrounds = 10\n[kernel]\nwidth = 1.2\n"
    )
    assert barn_owl(["train", table, "--run", str(tmp_path / "all"), "--plan", str(plan), "--classifier", "all"]) == 0
    said = capsys.readouterr().out
    assert "ranked on the validation clips" in said
    assert (tmp_path / "all" / "classifiers.png").is_file()
    options = ["--plan", str(plan), "--classifier", "nearest"]
    assert barn_owl(["train", table, "--run", str(tmp_path / "several"), *options, "--seeds", "2", "--ensemble"]) == 0
    assert "test balanced accuracy: " in capsys.readouterr().out
    shutil.rmtree(tmp_path / "several")
    start = ["--start-from", str(ranking[0] / "cnn"), "--frozen", "3", "--plan", str(plan)]
    assert barn_owl(["train", table, "--run", str(tmp_path / "further"), *start]) == 0
    assert (tmp_path / "further" / "figures" / "curves.png").is_file()
    assert barn_owl(["plan", table, "-o", str(tmp_path / "fitted.toml")]) == 0
    assert "front_end.rate_hz" in capsys.readouterr().out
    assert barn_owl(["plan", str(plan), "--labels", "4"]) == 0
    assert "multiply-adds per second" in capsys.readouterr().out


@pytest.mark.parametrize(
    ("options", "message"),
    [
        (["--seeds", "2", "--folds", "3"], "--seeds and --folds exclude each other"),
        (["--resume", "--seeds", "2"], "drop --seeds"),
        (["--ensemble"], "--ensemble needs --seeds or --folds"),
        (["--frozen", "2"], "--frozen needs --start-from"),
        (["--classifier", "forest"], "'forest' is not one of"),
        (["--start-from", "nowhere"], "nowhere does not exist"),
    ],
)
def test_options_that_contradict_each_other(clips, tmp_path, capsys, options, message):
    write_clip_table(clips, tmp_path / "clips.csv")
    assert barn_owl(["train", str(tmp_path / "clips.csv"), "--run", str(tmp_path / "run"), *options]) == 2
    assert message in capsys.readouterr().err
    assert not (tmp_path / "run").exists()


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("[[cnn.layers]]\nkind = 'convolution'\nchannels = 8\ntaps = [3, 200]", "needs 200 bands and gets 48"),
        ("[[cnn.layers]]\nkind = 'pool'\ntaps = 2", "'convolution', 'max_pool'"),
        ("[[cnn.layers]]\nkind = 'convolution'\nchannels = 8", "taps: is missing"),
        ("[[cnn.layers]]\nkind = 'relu'\nshare = 2", "share: unknown key"),
        ("[cnn]\nsize = 'huge'", "cnn.size: should be 'tiny', 'small' or 'medium'"),
        ("columns = ['depth_m']", "columns: the classifier 'cnn' uses frames only"),
        ("[pooling]\nstatistics = ['mode']", "there is no statistic 'mode'"),
        ("[mlp]\nhidden = [0]", "each layer has 1 to 4096 channels"),
        ("[trees]\ndepht = 3", "trees.depht: unknown key; did you mean depth?"),
        ("[pooling]\nwindow_s = 0.01", "pooling.window_s: must be at least one frame of 32 ms"),
    ],
)
def test_plans_are_checked_when_they_are_read(tmp_path, text, message):
    (tmp_path / "plan.toml").write_text(text)
    with pytest.raises(PlanError) as error:
        read_plan(tmp_path / "plan.toml")
    assert message in str(error.value)


def test_layers_of_ones_own_train_and_slide(clips, tmp_path, rng):
    layers = [
        {"kind": "convolution", "channels": 16, "taps": [5, 8], "stride": [4, 8], "padding": "bands"},
        {"kind": "norm"},
        {"kind": "relu"}, {"kind": "max_pool", "taps": [2, 1], "stride": 1}, {"kind": "fold_bands"},
        {"kind": "dense", "channels": 12}, {"kind": "relu"},
    ]  # fmt: skip
    run = train(clips, tmp_path / "own", able_plan("cnn").but(cnn={"layers": layers}))
    assert run.evaluate().scores.balanced_accuracy > 0.5
    frames = run.model.front_end.frames(np.concatenate([sound("hum", rng), sound("hiss", rng)]))
    classifier, said = run.model.classifier, run.model.frame_scores(frames)
    assert (classifier.step, classifier.window) == (4, 20 + 5 + 4)  # level, convolution, pool
    alone = run.model.frame_scores(frames[5 * classifier.step : 5 * classifier.step + classifier.window])
    assert_close(said.activity[5], alone.activity[0], rtol=1e-4, atol=1e-4)
