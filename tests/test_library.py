"""The Python library: arguments are checked once, rows are positions, results fit into pipelines."""

import ast
import inspect
import re
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import HealthCheck, given, settings, strategies as st

import barn_owl as owl
from barn_owl.cli.main import COMMANDS
from barn_owl.cli.remedies import REMEDIES, with_remedies
from barn_owl.errors import AudioError, BarnOwlError, OutputError, PlanError, TableError
from helpers import RATE_HZ, small_plan, sound

SOURCE = Path(owl.__file__).parent
TABLE_ARGUMENTS = {
    "annotation.estimate_quality": {"answers": {}},
    "annotation.item_keys": {},
    "annotation.recordings_at": {"folder": None},
    "annotation.review_items": {"stretches": 0, "listens": False},
    "annotation.reviewed_clips": {"answers": {}},
    "archive.with_clock": {"starts": {}},
    "archive.hours_table": {"starts": {}, "seconds": {}},
    "clips.check_clips": {"audio": False},
    "clips.find_leaks": {},
    "clips.fold_clips": {"folds": 3},
    "clips.join_multilabel": {},
    "clips.limit_clips": {"most": 3},
    "clips.other_label": {"keep": ["hum"]},
    "clips.relabel": {"becomes": {"hum": "buzz"}},
    "clips.split_by_time": {},
    "clips.split_clips": {},
    "evaluate.score_events": {},
    "evaluate.score_segments": {},
    "runs.suggest_plan": {},
}
"""Public functions with a clip table as first argument, and their further arguments."""


def function(name):
    package, _, attribute = name.partition(".")
    return getattr(getattr(owl, package), attribute)


def called(name, table):
    """Call a public function with a table; twice, where it compares two."""
    others = dict(TABLE_ARGUMENTS[name])
    if name.startswith("evaluate.score"):
        others["truth"] = table
    return function(name)(table, **others)


def as_text(result):
    """Tables in a result, without their index, as text."""
    if isinstance(result, pd.DataFrame):
        return result.reset_index(drop=True).to_csv()
    if isinstance(result, tuple):
        return [as_text(part) for part in result]
    named = getattr(result, "__dict__", {})
    return [as_text(part) for part in named.values() if isinstance(part, pd.DataFrame)] or str(result)


@pytest.fixture(scope="module")
def table(clips):
    """Events: clips with times, a score, and a column of the items of a review."""
    return clips.groupby(["label", "group"]).head(2).reset_index(drop=True).assign(
        start_s=0.0, end_s=1.0, score=0.5, kind="event", stratum="hum low", draw=1, of=8
    )  # fmt: skip


INDEXES = st.sampled_from(["shuffled", "repeated", "text", "times"])


def with_index(table, kind, rng):
    index = {
        "shuffled": rng.permutation(len(table)),
        "repeated": np.arange(len(table)) // 2,
        "text": [f"row {number}" for number in rng.permutation(len(table))],
        "times": pd.date_range("2026-05-01", periods=len(table)),
    }[kind]
    return table.set_axis(index)


@settings(max_examples=4, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(kind=INDEXES, seed=st.integers(0, 9))
@pytest.mark.parametrize("name", TABLE_ARGUMENTS)
def test_rows_are_positions_whatever_the_index(name, table, kind, seed):
    assert as_text(called(name, with_index(table, kind, np.random.default_rng(seed)))) == as_text(called(name, table))


def test_frames_belong_to_their_rows_where_a_clip_is_skipped(clips, tmp_path):
    owl.write_audio(tmp_path / "silent.wav", np.zeros(RATE_HZ), RATE_HZ)
    three = clips[["file", "label", "group"]].iloc[[0, 15, 30]]
    silent = three.head(1).assign(file=str(tmp_path / "silent.wav"))
    joined = pd.concat([three, silent, three])  # the index repeats
    front_end = owl.FrontEnd(bands=8)
    frames, kept, skipped = owl.load_frames(joined, front_end)
    assert (len(frames), len(kept), list(skipped)) == (6, 6, [3])
    for part, file in zip(frames.parts, kept["file"], strict=True):
        samples, rate_hz = owl.read_audio(file)
        np.testing.assert_array_equal(part, front_end.frames(owl.audio.resample(samples, rate_hz, 16_000)))


def test_three_columns_are_enough_everywhere(clips, runs, tmp_path):
    plain = clips[["file", "label", "group"]].groupby("label").head(8).set_index(pd.Index(list("ab") * 16))
    model = runs["logistic"].model
    predictions, skipped = owl.predict(model, plain)
    assert (len(predictions), skipped) == (32, {})
    assert owl.check_clips(plain).by_label["clips"].sum() == 32
    assert len(runs["logistic"].evaluate(plain).predictions) == 32
    owl.show.gallery_figure(plain)
    numbers = plain.assign(label=pd.factorize(plain["label"])[0])
    run = owl.train(numbers, tmp_path / "run", small_plan("nearest", background=[]))
    assert run.model.labels == ["0", "1", "2", "3"]
    assert len(owl.predict(run, numbers)[0]) == 32


def test_paths_mappings_and_runs_are_accepted(folder, clips, runs, tmp_path, rng):
    owl.write_clip_table(clips, tmp_path / "clips.csv")
    run = owl.train(tmp_path / "clips.csv", tmp_path / "run", small_plan("nearest").model_dump(exclude_unset=True))
    assert run.evaluate("train").split == "train"
    compared = owl.compare_runs([runs["logistic"], str(runs["cnn"].folder)])
    assert compared.comparison.clips > 0
    samples = np.tile(sound("hum", rng), 3)
    wanted = owl.tag_samples(run.model, samples, RATE_HZ, decoding=run.model.decoding.but(threshold=0.8))
    for model in (run, run.folder, str(run.folder)):
        found = owl.tag_samples(model, samples, RATE_HZ, decoding={"threshold": 0.8})
        pd.testing.assert_frame_equal(found, wanted)
    for wrong, message in (
        (lambda: owl.train(5, tmp_path / "x"), "clips must be DataFrame, str or Path, got 5 (int)"),
        (lambda: owl.train(clips, tmp_path / "x", 5), "plan must be Plan, Mapping, str, Path or None, got 5 (int)"),
        (lambda: owl.predict(None, clips), "model must be Model, HasModel, str or Path, got NoneType"),
        (lambda: owl.compare_runs([run, 3]), "runs must be Sequence"),
        (lambda: owl.tag_samples(run, samples, RATE_HZ, decoding=0.8), "decoding must be DecodingSettings"),
    ):
        with pytest.raises(TypeError, match=re.escape(message)):
            wrong()
    with pytest.raises(TableError, match="has no clips in the night split; splits are train, validation, test"):
        run.evaluate(split="night")


# Samples


@pytest.mark.parametrize("kind", [np.int16, np.int32, np.uint8])
def test_integer_samples_are_those_of_a_file_of_that_type(kind, tmp_path, rng):
    import soundfile

    limits = np.iinfo(kind)
    samples = rng.integers(limits.min, limits.max, 8000, dtype=kind, endpoint=True)
    subtype = {np.int16: "PCM_16", np.int32: "PCM_32", np.uint8: "PCM_U8"}[kind]
    stored = samples if kind is not np.uint8 else (samples.astype(np.int16) - 128) * 256
    soundfile.write(tmp_path / "x.wav", stored, RATE_HZ, subtype=subtype)
    read = owl.read_audio(tmp_path / "x.wav")[0]
    front_end = owl.FrontEnd(features=["level"])
    np.testing.assert_allclose(front_end.frames(samples), front_end.frames(read), atol=1e-4)
    loudness = owl.audio.integrated_loudness
    assert loudness(samples, RATE_HZ) == pytest.approx(loudness(read, RATE_HZ), abs=1e-3)
    owl.write_audio(tmp_path / "y.wav", samples, RATE_HZ, encoding="FLOAT")
    np.testing.assert_allclose(owl.read_audio(tmp_path / "y.wav")[0], read, atol=1e-6)


@pytest.mark.parametrize("shape", [(8000,), (8000, 1), (8000, 2)])
def test_streams_take_any_number_of_channels(shape, runs, rng):
    samples = rng.standard_normal(shape).astype(np.float32) * 0.1
    mono = samples if len(shape) == 1 else samples.mean(axis=1)
    model, front_end = runs["logistic"].model, runs["logistic"].model.front_end
    stream = owl.features.FrameStream(front_end)
    frames = np.concatenate([stream.push(samples[:3000]), stream.push(samples[3000:]), stream.finish()])
    np.testing.assert_allclose(frames, front_end.frames(mono), atol=1e-3)
    tagger = owl.tag.Tagger(model)
    tagger.push(samples)
    tagger.finish()


@pytest.mark.parametrize(
    "samples",
    [np.zeros((2, 8000), np.float32), np.zeros((10, 10, 10), np.float32), np.zeros(10, bool), np.zeros(10, np.int64),
     np.zeros(10, complex), ["a"], np.array(3.0), None, {}],
)  # fmt: skip
def test_other_types_and_shapes_of_samples_are_refused(samples, runs, tmp_path):
    model = runs["logistic"].model
    for use in (
        owl.FrontEnd().frames, owl.features.FrameStream(owl.FrontEnd()).push, owl.tag.Tagger(model).push,
        lambda x: owl.tag_samples(model, x, RATE_HZ), lambda x: model.score(x, RATE_HZ),
        lambda x: owl.audio.integrated_loudness(x, RATE_HZ), lambda x: owl.audio.resample(x, 16_000, 8_000),
        lambda x: owl.audio.find_activity(x, RATE_HZ), lambda x: owl.audio.set_level(x, RATE_HZ, -20),
        lambda x: owl.write_audio(tmp_path / "x.wav", x, RATE_HZ),
    ):  # fmt: skip
        with pytest.raises(AudioError, match="samples must"):
            use(samples)


# Writing


def test_nothing_is_overwritten_without_force(clips, runs, tmp_path, rng):
    model, run = runs["cnn"].model, runs["cnn"]
    events = pd.DataFrame({"file": ["a.wav"], "start_s": [0.0], "end_s": [1.0], "label": ["hum"]})
    numbers = pd.DataFrame({"level": [1.0]})
    trace = owl.tag.score_trace.trace_of_samples(model, sound("hum", rng), "x.wav")
    front_end = owl.FrontEnd(bands=8)
    blocks = [front_end.frames(sound("hum", rng))]
    writers = {
        "a.csv": lambda path, **more: owl.write_clip_table(clips, path, **more),
        "b.csv": lambda path, **more: owl.write_events(events, path, **more),
        "c.csv": lambda path, **more: owl.features.write_features(numbers, path, **more),
        "d.csv": lambda path, **more: owl.features.write_frames(front_end, blocks, path, **more),
        "e.png": lambda path, **more: owl.save_figure(owl.show.filter_bank_figure(front_end), path, **more),
        "f.wav": lambda path, **more: owl.write_audio(path, np.zeros(100), RATE_HZ, **more),
        "g.toml": lambda path, **more: owl.write_plan(owl.Plan(), path, **more),
        "h.safetensors": lambda path, **more: model.save(path, **more),
        "i.npz": lambda path, **more: trace.save(path, **more),
        "j.c": lambda path, **more: owl.write_c(model, path, **more),
        "k.onnx": lambda path, **more: owl.write_onnx(model, path, **more),
        "l.npz": lambda path, **more: owl.device.write_weights(model, path, **more),
        "m.html": lambda path, **more: owl.show.write_report(run, run.evaluate(), path, **more),
        "n.html": lambda path, **more: owl.show.write_listening_page(model, run.predictions, path, **more),
    }
    for name, write in writers.items():
        write(tmp_path / name)
        before = (tmp_path / name).read_bytes()
        with pytest.raises(OutputError, match="already exists"):
            write(tmp_path / name)
        assert (tmp_path / name).read_bytes() == before, name
        write(tmp_path / name, force=True)


# Messages


def strings(path):
    """Yield the strings of a module except docstrings."""
    tree = ast.parse(path.read_text(encoding="utf-8"))
    documented = {
        node.body[0].value for node in ast.walk(tree)
        if isinstance(node, ast.Module | ast.FunctionDef | ast.ClassDef) and node.body
        and isinstance(node.body[0], ast.Expr) and isinstance(node.body[0].value, ast.Constant)
    }  # fmt: skip
    described = {node.value for node in ast.walk(tree) if isinstance(node, ast.Expr)}
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and node not in documented | described:
            yield node.value


LIBRARY = [path for path in SOURCE.rglob("*.py") if path.relative_to(SOURCE).parts[0] not in ("cli", "demo")]


def test_the_library_states_facts_and_the_command_line_adds_its_options():
    for path in LIBRARY:
        for text in strings(path):
            if path.name == "report.py" or "arrange a scheduler" in text:  # instructions on a page
                continue
            assert not re.search(r"(^|[\s(\"'])--[a-z]{3}|barn-owl (?!train\. Lines)[a-z]", text), f"{path}: {text}"
    written = " ".join(text for path in LIBRARY for text in strings(path))
    assert [words for words in REMEDIES if words not in written] == []
    assert with_remedies("x.csv exists; or overwrite it") == "x.csv exists; or overwrite it (--force)"


# Settings


def test_settings_show_their_own_names_and_copies_are_checked():
    foreign = {"dict", "json", "parse_obj", "construct", "schema", "validate", "from_orm", "model_construct"}
    for own in (owl.FrontEnd(), owl.Plan(), owl.DecodingSettings()):
        names = set(dir(own))
        assert not names & foreign
        assert {"but", *type(own).model_fields} <= names
        with pytest.raises(PlanError, match="unknown key"):
            own.copy(update={"nonsense": 1})
    assert owl.FrontEnd().copy(update={"bands": 8}).bands == 8
    with pytest.raises(PlanError, match="bands"):
        owl.FrontEnd().model_copy(update={"bands": -1})


# The reference


def test_every_command_has_its_functions_in_the_reference():
    page = (SOURCE.parents[1] / "docs" / "reference" / "commands-in-python.md").read_text(encoding="utf-8")
    rows = dict(re.findall(r"^\| `(\w+)` \| (.*) \|$", page, re.MULTILINE))
    assert list(rows) == list(COMMANDS)
    for functions in rows.values():
        for name in re.findall(r"`([\w.]+)`", functions):
            found = owl
            for part in name.split("."):
                found = getattr(found, part)


# Any argument

ODD = [None, 5, "no such file.csv", [], {}, np.zeros((3, 2)), pd.DataFrame(), pd.DataFrame({"file": [np.nan]}),
       pd.DataFrame({"file": ["a.wav"], "start_s": ["x"]}), pd.DataFrame({"file": ["a.wav"], "end_s": [np.inf]}),
       pd.DataFrame({"file": ["a.wav"], "label": [["a"]]}), float("nan"), b"x", object()]  # fmt: skip


@pytest.mark.parametrize("name", TABLE_ARGUMENTS)
def test_no_argument_ends_in_a_foreign_error(name):
    for odd in ODD:
        try:
            called(name, odd)
        except BarnOwlError:
            continue
        except (TypeError, ValueError) as error:
            message = str(error)
        else:
            continue
        first = next(iter(inspect.signature(function(name)).parameters))
        assert first in message, f"{name}({odd!r}): {message}"


@pytest.mark.parametrize(
    "path",
    sorted({*(SOURCE.parents[1] / "docs").rglob("*.md"), SOURCE.parents[1] / "README.md"}),
    ids=lambda path: path.stem,
)
def test_snippets_of_the_docs_are_valid_python(path):
    for snippet in re.findall(r"^```python\n(.*?)^```", path.read_text(encoding="utf-8"), re.DOTALL | re.MULTILINE):
        ast.parse(snippet)
