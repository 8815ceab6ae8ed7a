"""Custom features and embeddings: from frames to models, streams and files."""

import subprocess
import sys

import numpy as np
import onnx
import pytest
from hypothesis import given, settings, strategies as st
from onnx import TensorProto, helper

import barn_owl as owl
from barn_owl.errors import ModelError, PlanError
from barn_owl.features import CustomFeature
from barn_owl.features.custom import CustomStream
from helpers import able_plan, small_plan

RATE_HZ = 16_000


def noise(length_s, rate_hz):
    return np.random.default_rng(1).normal(scale=0.1, size=round(length_s * rate_hz)).astype(np.float32)


def _peaks(samples, rate_hz):
    """Peak of windows of 100 ms every 40 ms, and the number of the maximum."""
    windows = np.lib.stride_tricks.sliding_window_view(samples, round(0.1 * rate_hz))[:: round(0.04 * rate_hz)]
    return np.stack([np.abs(windows).max(axis=1), windows.argmax(axis=1)], axis=1)


def _feature(name="peaks", compute=_peaks, **changes):
    given = {"columns": ["peak", "place"], "window_s": 0.1, "hop_s": 0.04, "rows": 3} | changes
    return CustomFeature(name=name, compute=compute, **given)


@pytest.fixture(autouse=True)
def _forget(monkeypatch):
    monkeypatch.setattr("barn_owl.features.custom._registered", {})


def _nearest_rows(samples, front_end, window, hop, compute):
    """By brute force: all rows of the sound, and for each frame the row centered nearest to it."""
    padded = np.pad(samples, (0, max(0, window - len(samples))))
    starts = np.arange(0, len(padded) - window + 1, hop)
    rows = np.concatenate([compute(padded[start : start + window], RATE_HZ)[:1] for start in starts])
    centers = starts + window / 2
    frames = np.arange(front_end.count(len(samples))) * front_end.hop + front_end.frame / 2
    return rows[[len(centers) - 1 - np.abs(centers[::-1] - at).argmin() for at in frames]]


@given(
    length=st.integers(600, 30_000),
    cuts=st.lists(st.integers(0, 30_000), max_size=8),
    window=st.integers(1, 4000),
    hop=st.integers(1, 3000),
    rows=st.integers(1, 20),
    features=st.sampled_from([["log-mel", "own"], ["own"], ["own", "deltas"], ["level", "own", "flux"]]),
    buffered=st.booleans(),
)
@settings(max_examples=40, deadline=None)
def test_streams_equal_files_and_frames_take_the_nearest_row(length, cuts, window, hop, rows, features, buffered):
    def mean_and_first(samples, rate_hz):
        windows = np.lib.stride_tricks.sliding_window_view(samples, window)[::hop]
        return np.stack([windows[:, 0], windows[:, -1]], axis=1)

    own = CustomFeature(
        name="own", compute=mean_and_first, columns=["first", "last"], rows=rows,
        window_s=window / RATE_HZ, hop_s=hop / RATE_HZ, rate_hz=RATE_HZ,
    )  # fmt: skip
    owl.features.register_feature(own)
    front_end = owl.FrontEnd(features=features)
    samples = noise(2.0, RATE_HZ)[:length]
    whole = front_end.frames(samples)
    stream = front_end.stream(buffered=buffered)
    parts = [stream.push(part) for part in np.split(samples, sorted(cut for cut in cuts if cut < length))]
    streamed = np.concatenate([*parts, stream.finish()])
    np.testing.assert_array_equal(streamed, whole)
    assert len(whole) == front_end.count(length)
    at = front_end.columns.index("first")
    expected = _nearest_rows(samples, front_end, window, hop, mean_and_first)
    np.testing.assert_array_equal(whole[:, at : at + 2], expected.astype(np.float32))


def test_a_function_of_log_mel_sees_the_frames_of_the_front_end():
    mel = CustomFeature(
        name="top", compute=lambda mel, rate_hz: np.stack([mel.max(axis=1), np.full(len(mel), rate_hz)], axis=1),
        columns=["top", "rate"], takes="log-mel", unit="dB",
    )  # fmt: skip
    owl.features.register_feature(mel)
    samples = noise(1.0, RATE_HZ)
    frames = owl.FrontEnd(features=["top"]).frames(samples)
    np.testing.assert_allclose(frames[:, 0], owl.FrontEnd().frames(samples).max(axis=1), rtol=1e-6)
    assert frames[0, 1] == pytest.approx(62.5)
    assert owl.FrontEnd(features=["log-mel", "top"]).units[-2:] == ["dB", "dB"]


@pytest.mark.parametrize(
    ("changes", "error", "words"),
    [
        ({"name": "pitch"}, ValueError, "name: "),
        ({"name": ""}, ValueError, "name: "),
        ({"columns": []}, ValueError, "columns: "),
        ({"columns": "peak"}, ValueError, "columns: "),
        ({"compute": 3}, TypeError, "compute: "),
        ({"takes": "words"}, ValueError, "takes: "),
        ({"window_s": 0}, ValueError, "window_s: "),
        ({"hop_s": float("nan")}, ValueError, "hop_s: "),
        ({"rows": 0}, ValueError, "rows: "),
    ],
)
def test_what_cannot_be_a_feature_is_refused(changes, error, words):
    with pytest.raises(error, match=words):
        _feature(**{"name": "peaks", "compute": _peaks, **changes})


def test_faults_of_the_function_and_of_the_settings_are_named():
    with pytest.raises(TypeError, match="feature must be CustomFeature"):
        owl.features.register_feature(_peaks)
    with pytest.raises(ValueError, match="embedding"):
        owl.features.register_feature(_feature("embedding"))
    with pytest.raises(PlanError, match="unknown feature 'peaks'"):
        owl.FrontEnd(features=["peaks"])
    owl.features.register_feature(_feature("needs8", rate_hz=8000))
    with pytest.raises(PlanError, match=r"'needs8' needs 8000, got 16000"):
        owl.FrontEnd(features=["needs8"])
    wrong = {"flat": np.float32(1), "words": np.full((3, 2), "a"), "nan": np.full((3, 2), np.nan)}
    for name, rows in wrong.items():
        owl.features.register_feature(_feature(name, lambda samples, rate_hz, rows=rows: rows))  # noqa: ARG005
        with pytest.raises(PlanError, match=f"feature {name!r} returned"):
            owl.FrontEnd(features=[name]).frames(noise(1.0, RATE_HZ))
    owl.features.register_feature(_feature("peaks"))
    owl.features.register_feature(
        _feature("peaks", columns=["a", "b"])
    )  # as in a cell of a notebook that is run again
    assert owl.FrontEnd(features=["peaks"]).columns == ["a", "b"]


def test_a_model_keeps_its_feature_by_name_and_version(few_clips, folder, tmp_path, monkeypatch):
    owl.features.register_feature(_feature())
    plan = small_plan("logistic", front_end={"features": ["log-mel", "peaks"]})
    run = owl.train(few_clips, tmp_path / "run", plan)  # the function goes into worker processes
    model, recording = owl.load_model(tmp_path / "run"), tmp_path / "night.wav"
    assert model.front_end.columns[-2:] == ["peak", "place"]
    samples = np.concatenate([owl.read_audio(file, rate_hz=RATE_HZ)[0] for file in few_clips["file"][:20]])
    owl.write_audio(recording, samples, RATE_HZ)
    tagged = owl.tag_recording(model, recording)
    tagger = owl.tag.Tagger(model)
    events = [event for at in range(0, len(samples), 5000) for event in tagger.push(samples[at : at + 5000])]
    events += tagger.finish()
    # the file has PCM of 16 bits
    kept = owl.read_audio(recording)[0]
    assert len(owl.tag_samples(model, kept, RATE_HZ)) == len(tagged)
    assert [event.label for event in events] == tagged["label"].tolist()
    with pytest.raises(ModelError, match=r"log-mel|cannot be exported"):
        owl.write_c(run, tmp_path / "model.c")
    ranking = owl.features.rank_features(
        np.stack([frames.mean(axis=0) for frames in map(run.model.front_end.frames, np.split(samples[:64_000], 4))]),
        run.model.front_end.columns, ["a", "a", "b", "b"],
    )  # fmt: skip
    assert {"peak", "place"} <= set(ranking["feature"])

    owl.features.register_feature(_feature(version="2"))
    with pytest.raises(ModelError, match=r"another version of the feature 'peaks': 1 with 2 columns, here is 2"):
        owl.load_model(tmp_path / "run")
    monkeypatch.setattr("barn_owl.features.custom._registered", {})
    with pytest.raises(ModelError, match=r"needs the feature 'peaks' \(version 1\), which is not registered: call"):
        owl.load_model(tmp_path / "run")
    ended = subprocess.run(
        [sys.executable, "-m", "barn_owl", "tag", tmp_path / "run", recording, "-o", tmp_path / "events.csv"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert ended.returncode == 2
    assert "needs the feature 'peaks'" in ended.stderr
    assert "Traceback" not in ended.stderr


def test_the_cache_knows_versions(few_clips, tmp_path):
    clips = few_clips.head(2)
    for version, factor in (("1", 1.0), ("2", 2.0), ("1", 3.0)):
        owl.features.register_feature(
            _feature(compute=lambda s, r, factor=factor: factor * _peaks(s, r), version=version)
        )
        frames = owl.load_frames(clips, owl.FrontEnd(features=["peaks"]), cache=tmp_path)[0]
        if version == "1" and factor == 1.0:
            first = frames[0]
        elif version == "2":
            np.testing.assert_allclose(frames[0], 2 * first, rtol=1e-6)
        else:
            np.testing.assert_array_equal(frames[0], first)


def _write_graph(path, *, shape, rows=1, columns=3, kernel=None):
    """Write a linear network: the input as a vector, times a matrix."""
    size = int(np.prod([one for one in shape if isinstance(one, int)]))
    kernel = np.random.default_rng(0).normal(size=(size, rows * columns)) if kernel is None else kernel
    nodes = [
        helper.make_node("Reshape", ["given", "flat"], ["vector"]),
        helper.make_node("MatMul", ["vector", "kernel"], ["product"]),
        helper.make_node("Reshape", ["product", "out_shape"], ["embedding"]),
        helper.make_node("Relu", ["embedding"], ["other"]),
    ]
    values = [
        helper.make_tensor("flat", TensorProto.INT64, [2], [1, -1]),
        helper.make_tensor("out_shape", TensorProto.INT64, [3], [1, rows, columns]),
        helper.make_tensor("kernel", TensorProto.FLOAT, kernel.shape, kernel.astype(np.float32).ravel()),
    ]
    graph = helper.make_graph(
        nodes, "g", [helper.make_tensor_value_info("given", TensorProto.FLOAT, shape)],
        [helper.make_tensor_value_info(one, TensorProto.FLOAT, [1, rows, columns]) for one in ("embedding", "other")],
        values,
    )  # fmt: skip
    onnx.save(helper.make_model(graph, opset_imports=[helper.make_opsetid("", 17)], ir_version=8), path)
    return kernel.astype(np.float32)


def test_embeddings_of_samples_are_those_of_the_graph(tmp_path):
    kernel = _write_graph(tmp_path / "net.onnx", shape=[1, 8000])
    front_end = owl.FrontEnd(features=["embedding"], embedding={"graph": str(tmp_path / "net.onnx")})
    samples = noise(2.0, RATE_HZ).astype(np.float32)
    frames = front_end.frames(samples)
    assert frames.shape == (front_end.count(len(samples)), 3)
    first = front_end.times(len(frames)).searchsorted(0.25 + 2 * 0.25)  # center of the third window
    np.testing.assert_allclose(frames[first], samples[8000:16_000] @ kernel, rtol=1e-3)
    other = owl.FrontEnd(
        features=["embedding"], embedding={"graph": str(tmp_path / "net.onnx"), "output": "other", "hop_s": 0.1}
    )
    assert (other.frames(samples) >= 0).all()
    stream = other.stream()
    parts = [stream.push(part) for part in np.array_split(samples, 7)] + [stream.finish()]
    np.testing.assert_array_equal(np.concatenate(parts), other.frames(samples))


@pytest.mark.parametrize("swapped", [False, True])
def test_embeddings_of_log_mel_frames_with_several_rows(tmp_path, swapped):
    shape = [1, 1, 48, 31] if swapped else [1, 31, 48]
    kernel = _write_graph(tmp_path / "net.onnx", shape=shape, rows=4)
    front_end = owl.FrontEnd(features=["log-mel", "embedding"], embedding={"graph": str(tmp_path / "net.onnx")})
    frames = front_end.frames(noise(1.5, RATE_HZ))
    mel = frames[:31, :48].T if swapped else frames[:31, :48]
    rows = (mel.ravel() @ kernel).reshape(4, 3)
    np.testing.assert_allclose(frames[[3, 10, 17], 48:], rows[:3], rtol=1e-3)


@pytest.mark.parametrize(
    ("given", "words"),
    [
        ({"graph": "missing.onnx"}, "does not exist"),
        ({"graph": "text.onnx"}, "not an ONNX file"),
        ({"graph": "https://example.org/net.onnx"}, "must be a file on this machine"),
        ({"graph": "net.onnx", "output": "nothing"}, "no output 'nothing'; its outputs are embedding, other"),
        ({"graph": "net.onnx", "window_s": 1.0}, "0.5 s.*states 1 s"),
        ({"graph": "net.onnx", "takes": "log-mel"}, "has the 48 mel bands"),
        ({"graph": "open.onnx"}, "state embedding.window_s"),
        ({"graph": "open.onnx", "window_s": 0.1}, "cannot be run"),
    ],
)
def test_graphs_that_do_not_fit_are_refused(tmp_path, monkeypatch, given, words):
    monkeypatch.chdir(tmp_path)
    _write_graph(tmp_path / "net.onnx", shape=[1, 8000])
    _write_graph(tmp_path / "open.onnx", shape=["samples"], kernel=np.ones((8000, 3)))
    (tmp_path / "text.onnx").write_text("no graph")
    with pytest.raises(PlanError, match=words):
        owl.FrontEnd(features=["embedding"], embedding=given)
    with pytest.raises(PlanError, match="needs this section"):
        owl.FrontEnd(features=["embedding"])


@pytest.mark.parametrize("classifier", ["logistic", "mlp", "cnn"])
def test_classifiers_on_embeddings(few_clips, tmp_path, classifier):
    """A graph of log-mel frames that separates the labels, in place of a pretrained network."""
    kernel = np.kron(np.ones((16, 1)) / 16, np.kron(np.eye(12), np.ones((4, 1)) / 4))
    _write_graph(tmp_path / "net.onnx", shape=[1, 16, 48], columns=12, kernel=kernel)
    plan = able_plan(
        classifier,
        front_end={"features": ["embedding"], "embedding": {"graph": str(tmp_path / "net.onnx"), "hop_s": 0.064}},
    )
    run = owl.train(few_clips, tmp_path / "run", plan)
    evaluation = run.evaluate("validation")
    assert evaluation.scores.balanced_accuracy > 0.6
    (tmp_path / "net.onnx").rename(tmp_path / "run" / "net.onnx")  # in the folder of the model
    model = owl.load_model(tmp_path / "run")
    owl.tag_recording(model, few_clips["file"].iloc[0])
    _write_graph(tmp_path / "run" / "net.onnx", shape=[1, 16, 48], columns=12)
    with pytest.raises(ModelError, match="another version of the feature 'embedding'"):
        owl.load_model(tmp_path / "run")
    (tmp_path / "run" / "net.onnx").unlink()
    with pytest.raises(ModelError, match=r"needs .*net.onnx, which does not exist; put it there, or into the folder"):
        owl.load_model(tmp_path / "run")


def test_a_row_waits_for_the_others_of_its_call():
    front_end = owl.FrontEnd()
    assert CustomStream(_feature(rows=4), front_end).wait_s == pytest.approx((0.1 - 0.032) / 2 + 4 * 0.04)
