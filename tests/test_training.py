import json
from types import SimpleNamespace

import numpy as np
import pandas as pd
import pytest
import soundfile
from safetensors.numpy import load_file, save_file

from barn_owl.classify import Plan, load_model, read_plan, write_plan
from barn_owl.classify.augment import add_power, augment
from barn_owl.classify.dataset import ClipFrames, WindowDrawer, chosen_windows, fill_up
from barn_owl.classify.fitted import balanced_order, judge_logits
from barn_owl.classify.network import cross_entropy
from barn_owl.classify.plan import AugmentSettings, ClipSettings
from barn_owl.clips import SoundSettings, read_clip_table, split_clips
from barn_owl.errors import AudioError, ModelError, OutputError, PlanError, TableError, TrainingError
from barn_owl.features import FrontEnd
from barn_owl.runs import open_run, train
from barn_owl.tag import tag_recording
from helpers import assert_close, small_plan, sound


def test_easy_sounds_are_learnt_on_recorders_never_heard(any_run):
    run, evaluation = any_run, any_run.evaluate()
    assert evaluation.scores.balanced_accuracy == 1.0
    assert evaluation.scores.majority_balanced_accuracy == pytest.approx(1 / 4)
    sides = run.predictions.groupby("group")["split"].nunique()
    assert (sides == 1).all()


def test_a_run_holds_what_is_promised(run):
    for name in ("plan.toml", "model.safetensors", "curves.csv", "scores.json", "predictions.csv", "confusion.csv"):
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
    ]
    assert read_clip_table(run.folder / "predictions.csv")["score"].between(0, 1).all()


@pytest.mark.parametrize("family", ["tcn", "logistic"])
def test_same_plan_same_bytes_whatever_the_workers(clips, tmp_path, family):
    plan = small_plan(family).but(training={"epochs": 3})
    for name, workers in (("one", 1), ("two", 2)):
        train(clips, tmp_path / name, plan, workers=workers)
    first, second = (load_file(tmp_path / name / "model.safetensors") for name in ("one", "two"))
    assert {name: array.tobytes() for name, array in first.items()} == {n: a.tobytes() for n, a in second.items()}


def test_permuted_labels_give_chance(clips, tmp_path, seed):
    mixed = clips.assign(label=np.random.default_rng(seed).permutation(clips["label"]), group="").drop(
        columns="group"
    )
    scores = [train(mixed, tmp_path / str(s), small_plan("logistic", seed=s)).evaluate().scores for s in range(4)]
    assert np.mean([score.balanced_accuracy for score in scores]) < 0.65


def test_a_window_scores_what_the_same_excerpt_scores_as_a_clip(any_run, rng):
    model = any_run.model
    x = np.concatenate([sound(kind, rng) for kind in ("hum", "tick", "hiss")])
    windows, _ = model.logits(model.front_end.frames(x))
    length = model.front_end.samples_for(model.family.window)
    for number in (0, 7, 20, len(windows) - 1):
        start = number * model.family.step * model.front_end.hop
        alone, _ = model.logits(model.front_end.frames(x[start : start + length]))
        assert alone.shape == (1, 4)
        # The products have other shapes, so the last bits may differ.
        assert_close(windows[number], alone[0], rtol=1e-4, atol=1e-4)


def test_model_scores_any_rate_and_length(run, rng):
    x = sound("hum", rng, seconds=3.0)
    assert next(iter(run.model.score(x, 16_000))) == "hum"
    assert next(iter(run.model.score(np.repeat(x, 3), 48_000))) == "hum"
    assert sum(run.model.score(x[:3_000], 16_000).values()) == pytest.approx(1, abs=1e-5)
    with pytest.raises(AudioError, match="too short for one frame"):
        run.model.score(x[:100], 16_000)
    with pytest.raises(AudioError, match="must be mono"):
        run.model.score(x[:, None], 16_000)


def test_a_saved_model_is_the_same_model(any_run, tmp_path, rng):
    run = any_run
    run.model.save(tmp_path / "copy.safetensors")
    copy, x = load_model(tmp_path / "copy.safetensors"), sound("tick", rng)
    assert copy.score(x, 16_000) == run.model.score(x, 16_000)
    assert (copy.labels, copy.provenance) == (run.model.labels, run.model.provenance)


def spoilt(run, tmp_path, change):
    path = tmp_path / "spoilt.safetensors"
    arrays, content = load_file(run.folder / "model.safetensors"), (run.folder / "model.safetensors").read_bytes()
    if change == "cut":
        path.write_bytes(content[: len(content) // 2])
    elif change == "text":
        path.write_text("hello")
    elif change == "foreign":
        save_file(arrays, path)
    elif change == "newer":
        path.write_bytes(content.replace(rb"\"format\": 4", rb"\"format\": 9"))
    elif change == "older":
        path.write_bytes(content.replace(rb"\"format\": 4", rb"\"format\": 1"))
    elif change == "mean":
        path.write_bytes(content.replace(rb"\"bands\": 48", rb"\"bands\": 47"))
    return path


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ("cut", "is not a model file, or is damaged"),
        ("text", "is not a model file, or is damaged"),
        ("foreign", "not those of a Barn Owl model"),
        ("newer", "written by a newer Barn Owl .model format 9, this one reads 4"),
        ("older", "written by an older Barn Owl .model format 1.; train it again"),
        ("mean", "is damaged"),
        ("missing", "does not exist"),
    ],
)
def test_spoilt_models_are_refused(run, tmp_path, change, message):
    with pytest.raises(ModelError, match=message):
        load_model(spoilt(run, tmp_path, change))
    with pytest.raises(ModelError, match="not the folder of a finished run"):
        open_run(tmp_path)


def test_ctrl_c_keeps_the_best_so_far(clips, tmp_path):
    def stop(line):
        if line.epoch == 4:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        train(clips, tmp_path / "run", small_plan("tcn"), watch=stop)
    run = open_run(tmp_path / "run")
    assert run.model.provenance["interrupted"]
    assert len(run.curves) == 4

    def at_once(done, total):
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        train(clips, tmp_path / "other", small_plan("tcn"), reading=at_once)
    assert not (tmp_path / "other").exists()


def test_a_loss_that_is_no_number_is_told_and_the_best_is_kept(clips, tmp_path):
    # Decay times rate is 10: every step turns the weights over and makes them nine times larger.
    plan = small_plan("tcn").but(training={"rate": 1.0, "epochs": 120, "decay": 10.0, "patience": 120})
    with (
        pytest.raises(TrainingError, match=r"epoch .*, batch \d of 8, .*rec\d_\d\d.wav; lower training.rate .now 1"),
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
        "/silent.wav holds nothing but zeros",
        "/short.wav: 1 samples (6.25e-05 s at 16000 Hz) are too short for one frame of 32 ms; "
        "pad_short fills them up with zeros",
        "/gone.wav is empty (0 bytes)",
    ]


def test_rows_without_a_label_are_left_out_and_told(clips, tmp_path, caplog):
    more = pd.concat([clips, clips.head(2).assign(label="", start_s=0.1, end_s=0.9)])
    run = train(more, tmp_path / "run", small_plan("logistic"))
    assert len(run.predictions) == len(clips)
    assert "2 of 50 rows have no label and are left out" in caplog.text


def test_folders_that_are_in_use_are_not_overwritten(run, clips, tmp_path):
    with pytest.raises(OutputError, match="exists and is not empty"):
        train(clips, run.folder, small_plan("logistic"))
    (tmp_path / "file").write_text("x")
    with pytest.raises(OutputError, match="is a file"):
        train(clips, tmp_path / "file", small_plan("logistic"))


def test_plans_come_back_and_say_what_is_wrong(tmp_path):
    plan = Plan(seed=4, family="logistic", background=["water"], clips={"length_s": 0.5})
    write_plan(plan, tmp_path / "plan.toml")
    assert read_plan(tmp_path / "plan.toml") == plan
    for text, message in [
        ("sed = 1", "plan.toml, sed: unknown key; did you mean seed?"),
        ("[training]\nepoch = 3", "plan.toml, training.epoch: unknown key; did you mean epochs?"),
        ("[training]\nepochs = 0", "training.epochs: should be greater than or equal to 1, got 0"),
        ("[decision]\non = 0.2", "decision: off must be at most on=0.2, got 0.3"),
        ("family = 'forest'", "or 'cnn', got 'forest'"),
        ("seed = ", "is not a TOML file"),
    ]:
        (tmp_path / "plan.toml").write_text(text)
        with pytest.raises(PlanError) as error:
            read_plan(tmp_path / "plan.toml")
        assert message in str(error.value)
    with pytest.raises(PlanError, match="cannot be read"):
        read_plan(tmp_path / "none.toml")


def test_background_and_window_that_do_not_fit_are_told(clips, tmp_path):
    with pytest.raises(PlanError, match="no clip is labelled 'sea'; there are hiss, hum, still, tick"):
        train(clips, tmp_path / "a", small_plan("tcn", background=["sea"]))
    with pytest.raises(PlanError, match="a window of clips.length_s has 17 frames"):
        small_plan("tcn", clips={"length_s": 0.2})


def test_windows_hold_the_sound_and_short_clips_are_filled(rng):
    frames = np.full((400, 4), -60, np.float32)
    frames[300:330] = -20
    drawer = WindowDrawer(ClipFrames([frames]), 100, ClipSettings(), FrontEnd(bands=4))
    drawn = drawer.draw(np.zeros(50, int), rng)
    assert ((drawn == -20).any(axis=2).sum(axis=1) >= 18).all()  # at least 0.6 of the 30 frames
    short, silence = np.arange(6, dtype=np.float32).reshape(3, 2), np.full(2, -100, np.float32)
    assert_close(fill_up(short, 8, "reflect", silence, 1)[:, 0], np.float32([0, 0, 2, 4, 4, 2, 0, 0]))
    assert_close(fill_up(short, 5, "zeros", silence, 1)[:, 1], np.float32([-100, 1, 3, 5, -100]))
    assert_close(fill_up(short, 7, "repeat", silence, 1)[:, 0], np.float32([4, 0, 2, 4, 0, 2, 4]))
    quiet = fill_up(short, 5, "quiet", silence, 1)
    assert_close(quiet[1:4], short)
    assert (quiet[[0, 4]] == quiet[0]).all()
    assert (quiet[0] < 2).all()


def test_rare_labels_are_drawn_as_often_as_others(rng):
    numbers = np.array([0] * 90 + [1] * 10)
    drawn = numbers[balanced_order(numbers, 100, rng)]
    assert np.bincount(drawn).tolist() == [50, 50]


NO_CHANGE = AugmentSettings(gain_db=0, tilt_db=0, shift_bands=0, stretch_percent=0, background=0, mask_share=0)


def test_augmentation_shifts_along_bands_and_stretches_time(rng):
    bands, frames = np.arange(12, dtype=np.float32), np.arange(30, dtype=np.float32)
    ramp = np.broadcast_to(bands, (200, 30, 12)).copy()
    shifted = augment(ramp, NO_CHANGE.but(shift_bands=2.5), rng)[:, :, 3:-3] - bands[3:-3]
    shift = shifted[:, :1, :1]  # levels that rise by 1 dB a band rise by as much as they were shifted
    assert_close(shifted, np.broadcast_to(shift, shifted.shape).copy(), atol=1e-5)
    assert -2.5 <= shift.min() < -2
    assert 2 < shift.max() <= 2.5
    clock = np.broadcast_to(frames[:, None], (200, 30, 12)).copy()
    paced = augment(clock, NO_CHANGE.but(stretch_percent=25), rng)
    assert set(np.unique(paced)) <= set(frames)  # frames as they were
    within = (paced[:, :, 0] > 0) & (paced[:, :, 0] < 29)
    pace = np.array(
        [np.polyfit(frames[some], line[some], 1)[0] for line, some in zip(paced[:, :, 0], within, strict=True)]
    )
    assert 0.77 < pace.min() < 0.85
    assert 1.17 < pace.max() < 1.3


def test_augmentation_adds_power_and_keeps_the_floor(rng):
    a, b = rng.uniform(-90, 0, (2, 6, 5)).astype(np.float32)
    exact = 10 * np.log10(10 ** (a.astype(np.float64) / 10) + 10 ** (b.astype(np.float64) / 10))
    assert_close(add_power(a, b), exact.astype(np.float32), rtol=0, atol=1e-4)
    assert_close(add_power(a, np.full_like(a, -np.inf)), a, rtol=1e-6)
    windows = rng.uniform(-90, 0, (3, 20, 8)).astype(np.float32)
    assert_close(augment(windows, NO_CHANGE, rng), windows)
    changed = augment(windows, AugmentSettings(), rng, background=windows, floor_db=-80)
    assert changed.shape == windows.shape
    assert changed.min() >= -80
    assert not np.array_equal(changed, windows)


def test_no_validation_leak(run):
    table = split_clips(run.predictions.drop(columns=["split"]), seed=run.plan.seed)
    assert table["split"].tolist() == run.predictions["split"].tolist()


@pytest.mark.parametrize("family", ["tcn", "logistic"])
def test_sound_is_changed_beside_the_training_and_again_the_same(clips, tmp_path, family):
    changes = SoundSettings.everything(0.6).but(renew=0.25)
    plan = small_plan(family, sound=changes, augment={"mixing": 0.3}).but(training={"epochs": 4})
    first = train(clips, tmp_path / "first", plan, workers=1)
    second = train(clips, tmp_path / "second", plan, workers=2)
    plain = train(clips, tmp_path / "plain", plan.but(sound=SoundSettings()))
    weights = [load_file(run.folder / "model.safetensors") for run in (first, second, plain)]
    assert all((weights[0][name] == weights[1][name]).all() for name in weights[0])
    assert any((weights[0][name] != weights[2][name]).any() for name in weights[0])
    assert first.curves["waiting"].between(0, 1).all()


@pytest.mark.parametrize("balance", ["weight", "none"])
def test_other_ways_to_balance_and_to_crop_train_too(clips, tmp_path, balance):
    settings = {"level": "rms", "remove_silence": True, "crop": "loudest", "fill": "reflect", "shortest_s": 0.2}
    plan = small_plan("tcn", clips=settings).but(training={"epochs": 6, "balance": balance})
    run = train(clips, tmp_path / "run", plan)
    assert run.model.clips.crop == "loudest"
    assert run.evaluate().scores.as_dict()["balanced_accuracy"] > 0.5


@pytest.mark.parametrize(
    ("crop", "chosen"), [("start", [0]), ("centre", [3]), ("loudest", [6]), ("random", range(7))]
)
def test_windows_are_chosen_as_the_plan_says(crop, chosen):
    levels = np.full((100, 4), -60, np.float32)
    levels[70:] = -20
    assert np.flatnonzero(chosen_windows(levels, 40, 10, crop)).tolist() == list(chosen)


def test_a_model_of_levelled_clips_says_so_when_it_tags(clips, tmp_path, quay, caplog):
    plan = small_plan("logistic", clips={"level": "rms"})
    run = train(clips, tmp_path / "run", plan)
    tag_recording(run.model, quay.recording)
    assert "trained on clips brought to one level" in caplog.text


def test_confident_mistakes_do_not_make_the_least_trained_look_best(rng):
    numbers = np.repeat(np.arange(4), 25)
    targets = np.eye(4, dtype=np.float32)[numbers]
    said = np.where(rng.random(100) < 0.7, numbers, rng.integers(0, 4, 100))
    sure, flat = 30 * np.eye(4, dtype=np.float32)[said], 0.01 * rng.standard_normal((100, 4)).astype(np.float32)
    examples = SimpleNamespace(targets=targets, numbers=numbers, overlapping=False)
    assert cross_entropy(sure, targets)[0] > cross_entropy(flat, targets)[0]
    loss, recall, _ = judge_logits(sure, examples)
    assert loss < judge_logits(flat, examples)[0]
    assert recall == pytest.approx((said == numbers).mean())
    best = min(cross_entropy(sure / np.float32(t), targets)[0] for t in np.geomspace(0.3, 12, 400))
    assert best - 1e-4 <= loss <= best + 0.02
