import json

import numpy as np
import pandas as pd
import pytest
import soundfile
from safetensors import safe_open
from safetensors.numpy import load_file, save_file

from barn_owl.clips import read_clip_table
from barn_owl.errors import AudioError, ModelError, OutputError, PlanError, TableError, TrainingError
from barn_owl.learn import Plan, read_plan, write_plan
from barn_owl.learn.fitted import evaluate_logits
from barn_owl.model import load_model
from barn_owl.model.file import FORMAT
from barn_owl.network import cross_entropy
from barn_owl.runs import Work, open_run, train
from barn_owl.sound import SoundSettings
from barn_owl.tag import tag_recording
from helpers import able_plan, assert_close, small_plan, sound


def test_a_model_file_may_be_read_by_whom_other_files_may(run):
    modes = {name: (run.folder / name).stat().st_mode for name in ("model.safetensors", "plan.toml")}
    assert modes["model.safetensors"] == modes["plan.toml"]


def test_easy_sounds_are_learnt_on_recorders_never_heard(any_run):
    run, evaluation = any_run, any_run.evaluate()
    # With independent labels and few clips, the pooled classifiers confuse two noises.
    assert evaluation.scores.balanced_accuracy >= (1.0 if run.model.classifier.name == "cnn" else 0.7)
    assert evaluation.scores.majority_balanced_accuracy == pytest.approx(1 / 4)
    splits = run.predictions.groupby("group")["split"].nunique()
    assert (splits == 1).all()


def test_a_run_holds_what_is_promised(run):
    for name in (
        "plan.toml",
        "model.safetensors",
        "curves.csv",
        "scores.json",
        "predictions.csv",
        "confusion.csv",
        "baseline.json",
    ):
        assert (run.folder / name).is_file()
    provenance = json.loads((run.folder / "provenance.json").read_text())
    assert {"seed", "data_fingerprint", "seconds", "peak_memory_mb", "versions"} <= set(provenance)
    assert read_plan(run.folder / "plan.toml") == run.plan
    assert list(run.curves) == [
        "epoch",
        "epochs",
        "train_loss",
        "validation_loss",
        "validation_recall",
        "validation_f1",
        "best",
        "seconds",
        "waiting",
        "refit",
    ]
    assert read_clip_table(run.folder / "predictions.csv")["score"].between(0, 1).all()


@pytest.mark.parametrize("classifier", ["cnn", "logistic"])
def test_same_plan_same_bytes_whatever_the_workers(few_clips, tmp_path, classifier):
    plan = small_plan(classifier).but(training={"epochs": 3})
    for name, workers in (("one", 1), ("two", 2)):
        train(few_clips, tmp_path / name, plan, work=Work(workers=workers))
    first, second = (load_file(tmp_path / name / "model.safetensors") for name in ("one", "two"))
    assert {name: array.tobytes() for name, array in first.items()} == {n: a.tobytes() for n, a in second.items()}


def test_permuted_labels_give_chance(clips, tmp_path, seed):
    mixed = clips.assign(label=np.random.default_rng(seed).permutation(clips["label"]), group="").drop(
        columns="group"
    )
    scores = [train(mixed, tmp_path / str(s), small_plan("logistic", seed=s)).evaluate().scores for s in range(4)]
    assert np.mean([score.balanced_accuracy for score in scores]) < 0.65


def test_a_step_scores_what_it_does_in_an_excerpt_cut_out_around_it(any_run, rng):
    model = any_run.model
    x = np.concatenate([sound(kind, rng) for kind in ("hum", "tick", "hiss")])
    said = model.frame_scores(model.front_end.frames(x))
    length = model.front_end.samples_for(model.classifier.window)
    for number in (0, 7, 20, len(said.activity) - 1):
        start = number * model.classifier.step * model.front_end.hop
        alone = model.frame_scores(model.front_end.frames(x[start : start + length]))
        assert alone.activity.shape == (1, 1 if model.classifies_segments else 4)
        # Products have different shapes, so the last bits may differ.
        assert_close(said.activity[number], alone.activity[0], rtol=1e-4, atol=1e-4)
        assert_close(said.onsets[number], alone.onsets[0], rtol=1e-4, atol=1e-4)


def test_scores_do_not_depend_on_the_level(any_run, rng):
    x = sound("hum", rng, seconds=2.0)
    loud, quiet = (any_run.model.score(x * gain, 16_000) for gain in (1.0, 0.01))
    assert quiet == pytest.approx(loud, abs=0.05)  # the floor of the levels is 40 dB nearer


def test_model_scores_any_rate_and_length(run, rng):
    x = sound("hum", rng, seconds=3.0)
    assert next(iter(run.model.score(x, 16_000))) == "hum"
    assert next(iter(run.model.score(np.repeat(x, 3), 48_000))) == "hum"
    assert sum(run.model.score(x[:3_000], 16_000).values()) == pytest.approx(1, abs=1e-5)
    with pytest.raises(AudioError, match="too short for one frame"):
        run.model.score(x[:100], 16_000)
    with pytest.raises(AudioError, match="shape"):
        run.model.score(x[None, :], 16_000)
    assert run.model.score(x[:, None], 16_000) == run.model.score(x, 16_000)


def test_a_saved_model_is_the_same_model(any_run, tmp_path, rng):
    run = any_run
    run.model.save(tmp_path / "copy.safetensors")
    copy, x = load_model(tmp_path / "copy.safetensors"), sound("tick", rng)
    assert copy.score(x, 16_000) == run.model.score(x, 16_000)
    assert (copy.labels, copy.provenance) == (run.model.labels, run.model.provenance)


def spoiled(run, tmp_path, change):
    path = tmp_path / "spoiled.safetensors"
    arrays, content = load_file(run.folder / "model.safetensors"), (run.folder / "model.safetensors").read_bytes()
    if change == "cut":
        path.write_bytes(content[: len(content) // 2])
    elif change == "text":
        path.write_text("hello")
    elif change == "unknown":
        save_file(arrays, path)
    elif change in ("newer", "older"):
        with safe_open(run.folder / "model.safetensors", framework="numpy") as file:
            header = json.loads(file.metadata()["barn_owl"])
        header["format"] = FORMAT + 1 if change == "newer" else 1
        save_file(arrays, path, metadata={"barn_owl": json.dumps(header)})
    elif change == "mean":
        path.write_bytes(content.replace(rb"\"bands\": 48", rb"\"bands\": 47"))
    return path


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ("cut", "is not a model file, or is damaged"),
        ("text", "is not a model file, or is damaged"),
        ("unknown", "not those of a Barn Owl model"),
        ("newer", rf"written by a newer Barn Owl .model format {FORMAT + 1}, this one reads {FORMAT}"),
        ("older", "written by an older Barn Owl .model format 1.; train it again"),
        ("mean", "is damaged"),
        ("missing", "does not exist"),
    ],
)
def test_spoilt_models_are_refused(run, tmp_path, change, message):
    with pytest.raises(ModelError, match=message):
        load_model(spoiled(run, tmp_path, change))
    with pytest.raises(ModelError, match="not the folder of a finished run"):
        open_run(tmp_path)


def test_ctrl_c_keeps_the_best_so_far(few_clips, tmp_path):
    def stop(line):
        if line.epoch == 4:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        train(few_clips, tmp_path / "run", small_plan("cnn"), work=Work(watch=stop))
    run = open_run(tmp_path / "run")
    assert run.model.provenance["interrupted"]
    assert len(run.curves) == 4

    def at_once(done, total):
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        train(few_clips, tmp_path / "other", small_plan("cnn"), work=Work(reading=at_once))
    assert not (tmp_path / "other").exists()


def test_a_loss_that_is_no_number_is_told_and_the_best_is_kept(clips, tmp_path):
    # Decay times rate is 10: every step inverts the weights and multiplies them by nine.
    plan = able_plan("cnn").but(training={"learning_rate": 1.0, "epochs": 120, "weight_decay": 10.0})
    with (
        pytest.raises(TrainingError, match=r"epoch .*, batch \d+ of 16, .*; lower training.learning_rate .1."),
        np.errstate(all="ignore"),
    ):
        train(clips, tmp_path / "run", plan)
    kept = open_run(tmp_path / "run")
    assert kept.model.provenance["interrupted"]
    assert np.isfinite(kept.predictions["score"]).all()


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (lambda c: c[c["label"] == "hum"], "one label ('hum')"),
        (lambda c: pd.concat([c, c.head(1).assign(label="tick")]), "more than one label for the same excerpt"),
        (
            lambda c: c.assign(file="/nowhere/x.wav", start_s=np.arange(len(c)) * 1.0, end_s=np.nan),
            "none of the 48 clips",
        ),
        (lambda c: c.assign(label=""), "no label"),
    ],
)
def test_tables_that_cannot_be_learnt_leave_nothing_behind(clips, tmp_path, change, message):
    with pytest.raises(TableError) as error:
        train(change(clips), tmp_path / "run", small_plan("logistic"))
    assert message in str(error.value)
    assert not (tmp_path / "run").exists()


def test_unusable_clips_are_left_out_and_listed(clips, tmp_path):
    odd = {"silent": np.zeros(16_000), "short": np.ones(1)}
    rows = []
    for name, samples in odd.items():
        soundfile.write(tmp_path / f"{name}.wav", samples, 16_000)
        rows.append({"file": str(tmp_path / f"{name}.wav"), "label": "hum", "group": "rec0"})
    (tmp_path / "gone.wav").write_bytes(b"")
    rows.append({"file": str(tmp_path / "gone.wav"), "label": "hum", "group": "rec0"})
    train(pd.concat([clips, pd.DataFrame(rows)]), tmp_path / "run", small_plan("logistic"))
    reasons = pd.read_csv(tmp_path / "run" / "skipped.csv")["reason"].tolist()
    assert [reason.split(str(tmp_path))[1] for reason in reasons] == [
        "/silent.wav contains only zeros",
        "/short.wav: 1 samples (6.25e-05 s at 16000 Hz) are too short for one frame of 32 ms; "
        "pad_short fills them up with zeros",
        "/gone.wav is empty (0 bytes)",
    ]


def test_rows_without_a_label_are_left_out_and_told(clips, tmp_path, caplog):
    more = pd.concat([clips, clips.head(2).assign(label="", start_s=0.1, end_s=0.9)])
    run = train(more, tmp_path / "run", small_plan("logistic"))
    assert len(run.predictions) == len(clips)
    assert "2 of 50 rows have no label and are skipped" in caplog.text


def test_folders_that_are_in_use_are_not_overwritten(run, clips, tmp_path):
    with pytest.raises(OutputError, match="exists and is not empty"):
        train(clips, run.folder, small_plan("logistic"))
    (tmp_path / "file").write_text("x")
    with pytest.raises(OutputError, match="is a file"):
        train(clips, tmp_path / "file", small_plan("logistic"))


def test_plans_come_back_and_say_what_is_wrong(tmp_path):
    plan = Plan(seed=4, classifier="logistic", background=["water"], clips={"level": "peak"})
    write_plan(plan, tmp_path / "plan.toml")
    assert read_plan(tmp_path / "plan.toml") == plan
    for text, message in [
        ("sed = 1", "plan.toml, sed: unknown key; did you mean seed?"),
        ("[training]\nepoch = 3", "plan.toml, training.epoch: unknown key; did you mean epochs?"),
        ("[training]\nepochs = 0", "training.epochs: should be greater than or equal to 1, got 0"),
        (
            "[decoding]\nthreshold = 0.1\nrelease_threshold = 0.2",
            "decoding: release_threshold must be at most threshold=0.1, got 0.2",
        ),
        ("classifier = 'cnm'", "classifier: there is no classifier 'cnm'; did you mean cnn?"),
        ("classifier = 'int8'", "classifier: no training makes 'int8'; take one of majority, "),
        ("[tres]\ndepth = 1", "plan.toml, tres: unknown key; did you mean trees?"),
        ("[trees]\ndepth = 99", "plan.toml, trees.depth: should be less than or equal to 8, got 99"),
        ("seed = ", "is not a TOML file"),
    ]:
        (tmp_path / "plan.toml").write_text(text)
        with pytest.raises(PlanError) as error:
            read_plan(tmp_path / "plan.toml")
        assert message in str(error.value)
    with pytest.raises(PlanError, match="does not exist"):
        read_plan(tmp_path / "none.toml")


def test_background_and_window_that_do_not_fit_are_told(clips, tmp_path):
    with pytest.raises(PlanError, match="no clip is labeled 'sea'; there are hiss, hum, still, tick"):
        train(clips, tmp_path / "a", small_plan("cnn", background=["sea"]))
    with pytest.raises(PlanError, match="pooling.window_s: must be at least one frame"):
        small_plan("logistic", pooling={"window_s": 0.02})


def test_what_is_said_of_validation_clips_is_said_before_they_are_learnt(clips, tmp_path):
    plan = small_plan("cnn").but(training={"epochs": 4, "refit": 0})
    before, after = (
        train(clips, tmp_path / name, plan.but(training={"refit": refit})) for name, refit in (("a", 0), ("b", 4))
    )
    columns = [f"score:{label}" for label in before.model.labels]
    said = [run.predictions[columns].to_numpy(dtype=float) for run in (before, after)]
    watched, tested = ((before.predictions["split"] == split).to_numpy() for split in ("validation", "test"))
    assert_close(said[0][watched], said[1][watched])
    assert not np.array_equal(said[0][tested], said[1][tested])
    assert len(after.curves) == 4  # of the training with an unbiased validation


@pytest.mark.parametrize("classifier", ["cnn", "logistic"])
def test_sound_is_changed_beside_the_training_and_again_the_same(few_clips, tmp_path, classifier):
    changes = SoundSettings.everything(0.6).but(renew=0.25)
    plan = small_plan(classifier, sound=changes).but(training={"epochs": 4})
    first = train(few_clips, tmp_path / "first", plan, work=Work(workers=1))
    second = train(few_clips, tmp_path / "second", plan, work=Work(workers=2))
    plain = train(few_clips, tmp_path / "plain", plan.but(sound=SoundSettings()))
    weights = [load_file(run.folder / "model.safetensors") for run in (first, second, plain)]
    assert all((weights[0][name] == weights[1][name]).all() for name in weights[0])
    assert any((weights[0][name] != weights[2][name]).any() for name in weights[0])
    assert first.curves["waiting"].between(0, 1).all()


def test_a_model_of_levelled_clips_says_so_when_it_tags(few_clips, tmp_path, caplog):
    plan = small_plan("logistic", clips={"level": "rms"})
    run = train(few_clips, tmp_path / "run", plan)
    tag_recording(run.model, few_clips["file"][0])
    assert "trained on clips brought to one level" in caplog.text


def test_confident_mistakes_do_not_make_the_least_trained_look_best(rng):
    numbers = np.repeat(np.arange(4), 25)
    targets = np.eye(4, dtype=np.float32)[numbers]
    said = np.where(rng.random(100) < 0.7, numbers, rng.integers(0, 4, 100))
    sure, flat = 30 * np.eye(4, dtype=np.float32)[said], 0.01 * rng.standard_normal((100, 4)).astype(np.float32)
    assert cross_entropy(sure, targets)[0] > cross_entropy(flat, targets)[0]
    loss, recall, _ = evaluate_logits(sure, targets, multilabel=False)
    assert loss < evaluate_logits(flat, targets, multilabel=False)[0]
    assert recall == pytest.approx((said == numbers).mean())
    best = min(cross_entropy(sure / np.float32(t), targets)[0] for t in np.geomspace(0.3, 12, 400))
    assert best - 1e-4 <= loss <= best + 0.02


def test_models_plans_and_runs_say_what_they_are(any_run):
    run, model = any_run, any_run.model
    assert repr(model).startswith(f"Model({model.classifier.name}, trained on ")
    assert "4 labels: hiss, hum, still, tick" in repr(model)
    assert "<td>4 labels: hiss, hum, still, tick</td>" in model._repr_html_()
    assert f"{run.plan.classifier}, 4 labels, balanced accuracy " in repr(run)
    assert repr(Plan()) == "Plan()"
    assert repr(Plan(seed=3, mixtures={"count": 200})) == "Plan(seed=3, mixtures.count=200)"
    assert run.plan.changed()["background"] == ["still"]
    assert max(map(len, map(repr, (run, model)))) < 400
