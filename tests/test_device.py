"""Models for small devices: stages, int8, C, open graphs, pruning, devices, search; compared with the full model."""

import json
import shutil
import subprocess
from dataclasses import replace

import numpy as np
import pandas as pd
import pytest
import soundfile
from hypothesis import given, settings, strategies as st

import barn_owl as owl
from barn_owl.classifiers.cnn import split_outputs
from barn_owl.classifiers.stages import run as run_stages, stages_of
from barn_owl.cli.main import run as barn_owl
from barn_owl.clips import ClipFrames
from barn_owl.device import front, plain_model, quantize, quantize_run, shrink, write_c, write_onnx
from barn_owl.device.pruning import pruned
from barn_owl.errors import ModelError, OutputError, PlanError
from barn_owl.model import load_model
from barn_owl.network import sigmoid
from barn_owl.network.level import relative_level
from barn_owl.tag import EventDecoder, ScoreBlock
from helpers import RATE_HZ, small_plan, sound

MANY_KINDS = [
    {"kind": "convolution", "channels": 5, "taps": (3, 5), "stride": (2, 2), "padding": "bands"},
    {"kind": "norm"},
    {"kind": "relu"},
    {"kind": "convolution", "taps": (3, 3), "bias": True},
    {"kind": "max_pool", "taps": (1, 2)},
    {"kind": "convolution", "channels": 6, "taps": (2, 2), "stride": (1, 2)},
    {"kind": "norm"},
    {"kind": "mean_pool", "taps": (2, 1), "stride": (1, 1)},
    {"kind": "relu"},
    {"kind": "fold_bands"},
    {"kind": "dense", "channels": 9},
    {"kind": "relu"},
    {"kind": "residual", "layers": [
        {"kind": "convolution", "channels": 7, "taps": 3, "dilation": 2}, {"kind": "norm"}, {"kind": "relu"},
        {"kind": "residual", "layers": [{"kind": "convolution", "channels": 7, "taps": 2}, {"kind": "norm"}]},
        {"kind": "convolution", "channels": 9, "taps": 1}, {"kind": "norm"},
    ]},
    {"kind": "relu"},
]  # fmt: skip
"""Every kind of layer there is, with sizes that do not divide."""

needs_cc = pytest.mark.skipif(shutil.which("cc") is None, reason="there is no C compiler")


def random_model(seed: int = 0, **plan):
    """A model with random weights; two networks with all kinds of layers."""
    cnn = {"layers": [MANY_KINDS, MANY_KINDS]}
    model = plain_model(small_plan("cnn").but(cnn=cnn, **plan), labels=3)
    rng = np.random.default_rng(seed)
    for network in model.classifier.networks:
        network.vector[:] = rng.normal(0, 0.4, len(network.vector))
        for name, array in network.state().items():
            if name.endswith("variance"):
                array[...] = rng.uniform(0.5, 2, array.shape)
    model.classifier.load_state(model.classifier.state())
    return model


def outputs_of(steps):
    """All network outputs of steps, as an array."""
    return np.concatenate([steps.activity, steps.onsets, steps.label_logits], axis=1)


@pytest.fixture
def recording(tmp_path, rng):
    kinds = ["still", "hum", "still", "tick", "still", "hiss", "still", "hum", "still"]
    samples = np.concatenate([sound(kind, rng, 0.9) for kind in kinds])
    path = tmp_path / "take.wav"
    soundfile.write(path, samples, RATE_HZ, subtype="FLOAT")
    return path


def compiled(model, folder, *, flags="-O1 -fsanitize=undefined,address -fno-sanitize-recover=all"):
    """Write a model as C and compile it, with every warning an error."""
    write_c(model, folder / "model.c")
    command = f"cc {flags} -Wall -Wextra -Werror -std=c99 model.c model_main.c -lm -o tag"
    subprocess.run(command.split(), cwd=folder, check=True, capture_output=True)
    return folder / "tag"


def said(program, recording, option=""):
    with recording.open("rb") as file:
        done = subprocess.run([program, *([option] if option else [])], stdin=file, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    return done.stdout


def table_of(text):
    return np.array([[float(value) for value in line.split(",")] for line in text.splitlines()], dtype=np.float32)


def test_stages_say_what_the_network_says(rng):
    model = random_model()
    frames = rng.uniform(-80, -20, (300, 48)).astype(np.float32)
    expected = model.classifier.frame_scores(frames)
    levels = relative_level(frames[:, :, None], model.classifier.level.frames, model.classifier.level.range_db)
    logits = [run_stages(stages, levels, lambda *_: None)[:, 0] for stages in stages_of(model.classifier)]
    found = np.mean(logits, axis=0)
    np.testing.assert_allclose(found, outputs_of(expected), rtol=1e-4, atol=1e-4)


@needs_cc
@pytest.mark.parametrize("changes", [
    {}, {"multilabel": True, "front_end": {"frame_ms": 30.0, "fft": 600, "range_db": 40.0}, "level": {"span_s": 0}},
])  # fmt: skip
def test_c_gives_the_same_scores(changes, recording, tmp_path):
    model = random_model(**changes)
    program = compiled(model, tmp_path)
    trace = owl.tag.compute_trace(model, recording)
    logits = table_of(said(program, recording, "--logits"))
    activity, onsets, label_logits = split_outputs(logits, 3)
    np.testing.assert_allclose(sigmoid(activity), trace.activity, atol=1e-4)
    np.testing.assert_allclose(sigmoid(onsets), trace.onsets, atol=1e-4)
    np.testing.assert_allclose(label_logits, trace.label_logits, rtol=1e-3, atol=1e-3)
    needed = int(said(program, recording, "--sizes").split()[1])
    size = owl.device.footprint(model, owl.device.read_device("core-256k"))
    assert needed == pytest.approx(size.ram_float, rel=0.1)


@needs_cc
def test_c_finds_the_same_events(runs, recording, tmp_path):
    run = runs["cnn"]
    program = compiled(run.model, tmp_path)
    events = owl.tag_recording(run.model, recording)
    assert len(events) >= 2
    lines = said(program, recording).splitlines()[1:]
    found = pd.DataFrame([line.split(",") for line in lines], columns=["start_s", "end_s", "label", "score"])
    assert found["label"].tolist() == events["label"].tolist()
    for column in ("start_s", "end_s", "score"):
        np.testing.assert_allclose(found[column].astype(float), events[column], atol=1.1e-3)
    soundfile.write(tmp_path / "other.wav", np.zeros(8000), 8000)
    with (tmp_path / "other.wav").open("rb") as file:
        skipped = subprocess.run([program], stdin=file, capture_output=True, text=True)
    assert skipped.returncode == 1
    assert "the recording has 8000 Hz, the model wants 16000" in skipped.stderr


@needs_cc
def test_c_ends_whatever_a_header_says(runs, tmp_path):
    """Sanitizers tell if it reads or writes where it may not, the time limit if it continues without end."""
    program, rng = compiled(runs["cnn"].model, tmp_path), np.random.default_rng(0)
    soundfile.write(tmp_path / "a.wav", 0.1 * rng.standard_normal(4000), 16_000, subtype="FLOAT")
    whole = (tmp_path / "a.wav").read_bytes()
    begin = whole.index(b"fmt ")
    assert subprocess.run([program], input=whole, capture_output=True, timeout=60).returncode == 0
    none = whole[: begin + 10] + b"\0\0" + whole[begin + 12 :]
    assert b"no channels" in subprocess.run([program], input=none, capture_output=True, timeout=60).stderr
    for _ in range(60):
        spoiled = bytearray(whole)
        for at in rng.integers(0, begin + 60, rng.integers(1, 4)):
            spoiled[at] = rng.integers(256)
        done = subprocess.run([program], input=bytes(spoiled), capture_output=True, timeout=60)
        assert done.returncode in (0, 1), done.stderr


@st.composite
def score_rows(draw, tracks, labels):
    """Scores that rise and fall, onsets, and names that change, as both decoders read them."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    steps = draw(st.integers(1, 400))
    pieces = rng.integers(1, 40, steps)
    activity = np.repeat(rng.choice([0, 0.1, 0.5, 0.65, 0.9], (steps, tracks)), pieces, axis=0)[:steps]
    onsets = np.where(rng.random((steps, tracks)) < 0.05, rng.random((steps, tracks)), 0.02)
    label_logits = np.repeat(rng.normal(0, 3, (steps, labels + 2)), pieces, axis=0)[:steps]
    return np.concatenate([activity, onsets, label_logits], axis=1).astype(np.float32)


@needs_cc
@pytest.mark.parametrize("multilabel", [False, True])
def test_both_decoders_make_the_same_events_of_any_scores(multilabel, tmp_path):
    settings_ = {
        "max_gap_s": 0.3,
        "refractory_s": 0.2,
        "max_duration_s": 8.0,
        "onset_shift_s": 0.03,
        "offset_shift_s": 0.05,
        "smoothing_s": 0.2,
    }
    labels = {"2": {"threshold": 0.8, "min_duration_s": 0.3}}
    model = replace(random_model(multilabel=multilabel), ignored=["1"])
    model = replace(model, decoding=owl.DecodingSettings(**settings_, min_known_probability=0.5, labels=labels))
    program, tracks = compiled(model, tmp_path), 3 if multilabel else 1

    @given(score_rows(tracks, 3))
    @settings(max_examples=60, deadline=None)
    def same(rows):
        decoder = EventDecoder.of(model)
        activity, onsets, label_logits = split_outputs(rows, 3)
        expected = decoder.push(ScoreBlock(0, activity, onsets, label_logits)) + decoder.finish()
        done = subprocess.run([program, "--decide"], input=rows.tobytes(), capture_output=True, check=True)
        found = [line.split(",") for line in done.stdout.decode().splitlines()[1:]]
        assert [(label, start, end) for start, end, label, _ in found] == [
            (event.label, f"{event.start_s:.3f}", f"{event.end_s:.3f}") for event in sorted(expected, key=by_start)
        ]
        np.testing.assert_allclose([float(row[3]) for row in found], [one.score for one in expected], atol=1e-3)

    same()


def by_start(event):
    return event.start_s, event.label


@needs_cc
@pytest.mark.parametrize("kind", ["trained", "every layer"])
def test_int8_in_c_is_the_same_bit_for_bit(kind, runs, recording, tmp_path, rng):
    model = runs["cnn"].model if kind == "trained" else random_model()
    clips = ClipFrames([model.front_end.frames(sound(name, rng)) for name in ("hum", "tick", "hiss", "still")])
    rounded = quantize(model, clips)
    rounded.save(tmp_path / "int8.safetensors")
    again = load_model(tmp_path / "int8.safetensors")
    program = compiled(again, tmp_path)
    levels = table_of(said(program, recording, "--levels")).astype(np.int8)
    steps = again.classifier.steps_of(levels)
    np.testing.assert_array_equal(table_of(said(program, recording, "--logits")), outputs_of(steps))
    # Outputs are close to those in float32.
    before, after = (owl.tag.compute_trace(one, recording).activity for one in (model, again))
    assert np.abs(before - after).mean() < 0.05


def test_an_open_graph_gives_the_same_scores(runs, recording, tmp_path):
    onnxruntime = pytest.importorskip("onnxruntime")
    samples, _ = owl.read_audio(recording)
    others = random_model(), random_model(multilabel=True, level={"span_s": 0}, front_end={"range_db": 30.0})
    for model in (runs["cnn"].model, *others):
        for takes_features in (False, True):
            write_onnx(model, tmp_path / "model.onnx", takes_features=takes_features, force=True)
            session = onnxruntime.InferenceSession(tmp_path / "model.onnx")
            for count in (len(samples), 3 * RATE_HZ + 17):
                frames = model.front_end.frames(samples[:count])
                given = {"frames": frames} if takes_features else {"samples": samples[:count]}
                activity, onsets, label_logits = session.run(["activity", "onsets", "label_logits"], given)
                steps = model.frame_scores(frames)
                np.testing.assert_allclose(label_logits, steps.label_logits, rtol=1e-3, atol=1e-3)
                np.testing.assert_allclose(activity, sigmoid(steps.activity), atol=1e-4)
                np.testing.assert_allclose(onsets, sigmoid(steps.onsets), atol=1e-4)
    properties = session.get_modelmeta().custom_metadata_map
    assert json.loads(properties["labels"]) == model.labels
    with pytest.raises(OutputError, match="already exists"):
        write_onnx(model, tmp_path / "model.onnx")


def test_a_pruned_network_keeps_what_counts_most(rng):
    model = random_model()
    frames = rng.uniform(-80, -20, (200, 48)).astype(np.float32)
    whole = pruned(model.classifier, 1.0)
    np.testing.assert_array_equal(whole.frame_scores(frames).activity, model.classifier.frame_scores(frames).activity)
    # Both kinds of network, with and without level normalization, shrink equally.
    for levels in (True, False):
        level = {} if levels else {"level": {"span_s": 0}}
        pair = plain_model(small_plan("cnn").but(cnn={"kinds": ["2d", "1d"]}, **level), labels=3).classifier
        third = pruned(pair, 0.33)
        shares = [len(a.vector) / len(b.vector) for a, b in zip(third.networks, pair.networks, strict=True)]
        assert all(0.25 < share <= 0.33 for share in shares)
        assert third.frame_scores(frames).activity.shape == pair.frame_scores(frames).activity.shape
    # Channels without effect are pruned first, which changes nothing but the size.
    plain = plain_model(small_plan("cnn").but(cnn={"size": "tiny", "kinds": ["2d"]}), labels=3).classifier
    arrays = {name: array.copy() for name, array in plain.state().items()}
    for name, array in arrays.items():
        layer = name.rpartition(".")[0]
        if name.endswith((".scale", ".shift")):
            array[::2] = 0
        elif name.endswith(".kernel") and f"{layer}.bias" not in arrays:
            array[:, ::2] = 0
    plain.load_state(arrays)
    half = pruned(plain, 0.3)
    assert half.cost(0.01).weights <= 0.3 * plain.cost(0.01).weights
    np.testing.assert_allclose(
        half.frame_scores(frames).activity, plain.frame_scores(frames).activity, rtol=1e-4, atol=1e-5
    )
    with pytest.raises(ModelError, match="no more than .* of the weights can be taken out"):
        pruned(plain, 0.01)


def copied(run, folder, splits=lambda table: table["split"]):
    """A copy of a run, with valid paths in its tables and different splits."""
    shutil.copytree(run.folder, folder)
    for name in ("clips.csv", "predictions.csv"):
        table = owl.read_clip_table(run.folder / name)
        owl.write_clip_table(table.assign(split=splits), folder / name, force=True)
    return owl.open_run(folder)


def test_shrunk_runs_are_runs_like_any_other(capsys, runs, tmp_path):
    run, small = copied(runs["cnn"], tmp_path / "cnn"), tmp_path / "small"
    owl.write_plan(
        run.plan.but(training={"epochs": 6}), run.folder / "plan.toml", force=True
    )  # the rest trains for as long
    assert barn_owl(["shrink", str(run.folder), "--share", "0.5", "--int8", "--run", str(small), "--quiet"]) == 0
    made, floats = owl.open_run(small), owl.open_run(small / "in-floats")
    assert (made.model.classifier.name, floats.model.classifier.name) == ("int8", "cnn")
    assert floats.model.classifier.cost(0.01).weights <= 0.5 * run.model.classifier.cost(0.01).weights
    assert made.expectation is not None
    assert {"shrink.png", "compared.html", "report.html"} <= {path.name for path in small.iterdir()}
    assert made.tested.scores.balanced_accuracy >= floats.tested.scores.balanced_accuracy - 0.1
    assert barn_owl(["export", str(small), "-o", str(tmp_path / "owl.c")]) == 0
    assert "Try it: cc" in capsys.readouterr().out
    assert barn_owl(["export", str(small), "-o", str(tmp_path / "owl.onnx")]) == 2
    assert "a model in int8 is handed over as C" in capsys.readouterr().err
    with pytest.raises(ModelError, match="brought to int8, this model is a logistic"):
        quantize_run(runs["logistic"], tmp_path / "other")
    with pytest.raises(ModelError, match="code and tables alone take"):
        shrink(run, tmp_path / "other", flash_kb=3)
    with pytest.raises(ModelError, match="no clips to find the ranges"):
        quantize(run.model, ClipFrames([]))


def test_a_run_without_a_test_side_is_made_smaller_too(capsys, runs, tmp_path):
    untested = copied(
        runs["cnn"], tmp_path / "untested", lambda table: table["split"].replace("test", "train")
    ).folder
    assert barn_owl(["shrink", str(untested), "--int8", "--run", str(tmp_path / "small")]) == 0
    said = capsys.readouterr()
    assert "no test clips" in said.err
    assert "side by side" not in said.out
    assert owl.load_model(tmp_path / "small").classifier.name == "int8"


@pytest.mark.parametrize(("arguments", "message"), [
    (["export", "RUN", "-o", "model.txt"], "the ending must be"),
    (["export", "OTHER", "-o", "model.c"], "cannot be exported as a graph"),
    (["export", "RUN", "-o", "model.c", "--feature-input"], "is for an ONNX graph"),
    (["shrink", "RUN", "--run", "x"], "give --share, --flash-kb or --int8"),
    (["shrink", "RUN", "--run", "x", "--share", "0.5", "--flash-kb", "40"], "exclude each other"),
    (["plan", "RUN/plan.toml", "--device", "core-65k"], "did you mean core-64k"),
])  # fmt: skip
def test_what_cannot_be_done_is_said(capsys, runs, tmp_path, monkeypatch, arguments, message):
    monkeypatch.chdir(tmp_path)
    places = {"RUN": str(runs["cnn"].folder), "OTHER": str(runs["logistic"].folder)}
    for name, place in places.items():
        arguments = [argument.replace(name, place) for argument in arguments]
    assert barn_owl(arguments) != 0
    assert message in " ".join(capsys.readouterr().err.split())
    assert not list(tmp_path.glob("model*"))


def test_plain_numbers_hold_all_that_is_needed(runs, tmp_path):
    model = runs["logistic"].model
    for name in ("numbers.npz", "numbers.json"):
        assert barn_owl(["export", str(runs["logistic"].folder), "-o", str(tmp_path / name), "--quiet"]) == 0
    archive = np.load(tmp_path / "numbers.npz")
    listed = json.loads((tmp_path / "numbers.json").read_text())
    for name, array in model.classifier.state().items():
        np.testing.assert_array_equal(archive[name], array)
        np.testing.assert_allclose(np.array(listed["arrays"][name]["values"]), array, rtol=1e-6)
    assert json.loads(str(archive["description"]))["labels"] == model.labels


def test_what_a_device_cannot_carry_is_named(tmp_path, capsys):
    model = plain_model(small_plan("cnn").but(cnn={"size": "medium"}), labels=6)
    assert next(iter(owl.device.footprint(model, owl.device.read_device("core-64k")).exceeded(int8=False))) == "time"
    assert owl.device.footprint(model, owl.device.read_device("core-512k")).exceeded(int8=True) == {}
    with pytest.raises(ModelError, match="this plan is of a trees"):
        plain_model(small_plan("trees"), labels=3)
    text = "\n".join(["name = 'board'", "clock = 3"])
    (tmp_path / "board.toml").write_text(text)
    with pytest.raises(PlanError, match="clock_mhz: is missing"):
        owl.device.read_device(tmp_path / "board.toml")
    owl.write_plan(small_plan("cnn"), tmp_path / "plan.toml")
    assert barn_owl(["plan", str(tmp_path / "plan.toml"), "--device", "core-256k", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["device"]["exceeds"] == {"float32": {}, "int8": {}}
    machine = owl.device.read_device("this-machine")
    assert machine.cycles_float > 0


def test_a_search_trains_only_what_fits_and_goes_on_where_it_stopped(capsys, few_clips, tmp_path, monkeypatch):
    monkeypatch.setattr("barn_owl.device.searching.FIRST", 2)
    owl.write_clip_table(few_clips, tmp_path / "clips.csv")
    owl.write_plan(small_plan("cnn").but(mixtures={"count": 8}, rehearsal={"minutes": 0}), tmp_path / "plan.toml")
    command = [
        "shrink", str(tmp_path / "clips.csv"), "--device", "core-256k", "--minutes", "0.02",
        "--run", str(tmp_path / "found"), "--plan", str(tmp_path / "plan.toml"), "--quiet",
    ]  # fmt: skip
    assert barn_owl(command) == 0
    found = owl.device.read_search(tmp_path / "found")
    assert (found.table["flash_kb"] <= 1024).all()
    assert (found.table["classifier"] == "cnn").all()
    assert 0 in found.table["candidate"].to_list()  # the initial plan
    first = (tmp_path / "found" / "tried.jsonl").read_text().splitlines()
    again = [*command, "--resume"]
    spent_s = sum(json.loads(line)["seconds"] for line in first)
    again[again.index("0.02")] = str((spent_s + 1) / 60)
    assert barn_owl(again) == 0
    lines = (tmp_path / "found" / "tried.jsonl").read_text().splitlines()
    assert lines[: len(first)] == first
    assert len(lines) > len(first)
    assert barn_owl(again) == 0  # the time is over: the result so far is returned
    assert owl.read_plan(tmp_path / "found" / "plan.toml").classifier == "cnn"
    tiny = found.device.model_dump() | {"flash_kb": 8.0}
    with pytest.raises(PlanError, match=r"nothing that was drawn fits core-256k: the nearest exceeds its flash"):
        owl.device.search(
            few_clips, tmp_path / "none", owl.device.Device(**tiny), minutes=0.01, plan=small_plan("cnn")
        )
    table = pd.DataFrame({"step": [3, 3, 3, 2], "score": [0.5, 0.6, 0.55, 0.9], "flash_kb": [10, 30, 40, 5]})
    assert front(table)["score"].tolist() == [0.5, 0.6]
