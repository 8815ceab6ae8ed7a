"""Hostile files, names, tables and models; signals, full disks and crashes."""

import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
import soundfile
from hypothesis import given, settings, strategies as st

import barn_owl as owl
import torture
from barn_owl.archive.recordings import trace_files_of
from barn_owl.classifiers.pooled import Pooled
from barn_owl.classifiers.trees import Trees
from barn_owl.cli.main import run as call
from barn_owl.clips import check_clip_table, read_clip_table, write_clip_table
from barn_owl.clips.any_table import read_any_table
from barn_owl.clips.writing import write_variants
from barn_owl.errors import AudioError, ModelError, OutputError, PlanError, TableError
from barn_owl.features.cache import FrameCache
from barn_owl.files import atomic_write, checked_target, claim_folder, temporary_folder
from barn_owl.names import as_text, from_text, printable
from barn_owl.tables import plain_cells, safe_cells
from barn_owl.tag.caveats import recording_caveats_of
from barn_owl.tag.score_trace import trace_of_samples
from helpers import RATE_HZ, sound, write_folder

BARN_OWL = [sys.executable, "-m", "barn_owl"]


# Names


@given(st.binary(min_size=1, max_size=30))
def test_any_name_comes_back_from_a_table_as_it_was(raw):
    name = os.fsdecode(raw)
    assert from_text(as_text(name)) == name
    as_text(name).encode("utf-8")
    assert printable(name).encode("utf-8", "backslashreplace")
    assert not any(ord(character) < 32 and character not in "\n\t" for character in printable(name))


@pytest.fixture
def strange(tmp_path, rng):
    """A folder of recordings with names that are no UTF-8, a loop of links, a pipe, a link to nothing."""
    folder = tmp_path / "strange"
    (folder / "hum").mkdir(parents=True)
    (folder / "hiss").mkdir()
    for number in range(4):
        for kind in ("hum", "hiss"):
            soundfile.write(folder / kind / f"take_{number}.wav", sound(kind, rng, seconds=2.0), RATE_HZ)
    bad = os.fsencode(folder / "hum") + b"/caf\xe9.wav"
    Path(os.fsdecode(bad)).write_bytes((folder / "hum" / "take_0.wav").read_bytes())
    os.mkfifo(folder / "hiss" / "pipe.wav")
    (folder / "hiss" / "loop.wav").symlink_to("loop.wav")
    (folder / "hiss" / "nothing.wav").symlink_to("not-there.wav")
    (folder / "round").symlink_to(".")
    return folder


def test_only_files_are_found_in_a_folder_and_the_rest_is_told(strange, caplog):
    found = owl.find_recordings([strange])
    assert len(found) == 9
    assert not {"pipe.wav", "loop.wav", "nothing.wav"} & {Path(path).name for path in found}
    assert caplog.text.count("skipped") == 3


def test_one_bad_name_never_stops_a_job(strange, tmp_path, runs, capsys):
    table = tmp_path / "clips.csv"
    assert call(["gather", str(strange), "-o", str(table)]) == 0
    said = capsys.readouterr()
    assert "is a pipe or a device" in said.err
    assert "caf\\udce9.wav" in table.read_text(encoding="utf-8")
    clips = read_clip_table(table)
    assert len(clips) == 9
    assert sum(file.endswith("caf\\udce9.wav") for file in clips["file"]) == 1
    tag = ["tag", str(runs["logistic"].folder), str(strange), "--threshold", "0.1", "--release-threshold", "0.05"]
    for command in (
        ["look", str(table)],
        ["check", str(table), "-o", str(tmp_path / "findings.csv"), "--fix", str(tmp_path / "fixed.csv")],
        [*tag, "-o", str(tmp_path / "events.csv"), "--store", str(tmp_path / "k")],
        [*tag, "-o", str(tmp_path / "e.jsonl"), "--store", str(tmp_path / "k.db")],
        [*tag, "-o", str(tmp_path / "e.parquet")],
        ["hours", str(tmp_path / "k")],
        ["features", str(table), "-o", str(tmp_path / "f.csv")],
        ["classify", str(runs["cnn"].folder), str(table), "-o", str(tmp_path / "named.csv")],
    ):
        assert call(command) in (0, 1 if command[0] == "check" else 0), command
        assert "Traceback" not in capsys.readouterr().err
    events = owl.read_events(tmp_path / "events.csv")
    assert any(file.endswith("caf\\udce9.wav") for file in events["file"])


def test_a_name_that_is_too_long_or_no_file_is_one_row_that_cannot_be_used(clips, tmp_path):
    long = pd.concat([clips.head(6), clips.head(3).assign(file=["x" * 300 + ".wav", "a\0b.wav", str(tmp_path)])])
    check = owl.check_clips(check_clip_table(long))
    assert (check.findings["finding"] == "no file").sum() == 3
    facts, skipped = owl.audio.facts_table(long["file"])
    assert (len(facts), len(skipped)) == (6, 3)
    frames, _, left_out = owl.load_frames(check_clip_table(long), owl.FrontEnd())
    assert (len(frames), len(left_out)) == (6, 3)
    with pytest.raises(AudioError, match="pipe or a device"):
        owl.audio_info("/dev/null")


@pytest.mark.parametrize("name", ["x" * 300, "/dev/null", "loop"])
def test_no_command_is_surprised_by_a_name_that_no_file_has(name, tmp_path, runs, capsys, monkeypatch):
    monkeypatch.chdir(tmp_path)
    Path("loop").symlink_to("loop")
    run, out = str(runs["cnn"].folder), str(tmp_path / "out.csv")
    commands = [
        ["adjust", run, name], ["check", name],
        ["look", name, "-o", "made", "--variants", "2", "--yes"],
        ["classify", run, name, "-o", out], ["evaluate", name, run], ["cut", name, "-o", out], ["evaluate", name],
        ["export", name, "-o", "m.npz"], ["export", run, "-o", f"{name}.npz"], ["features", name, "-o", out],
        ["find", name, "--in", name, "-o", out], ["gather", name, "-o", out], ["harvest", name, "-o", out],
        ["hours", name], ["look", name], ["tag", run, name, "--measure"], ["plan", name],
        ["propose", name, "-o", out],
        ["review", name, "--page", "r.html"], ["score", name, name],
        ["shrink", name, "--device", "core-256k", "--run", "found"],
        ["shrink", name, "--run", "s"], ["split", name, "-o", out], ["tag", run, name, "-o", out],
        ["tag", name, "x.wav", "-o", out], ["tag", run, "x.wav", "--store", name], ["train", name, "--run", "r"],
        ["tag", run, "x.wav", "-o", name],
    ]  # fmt: skip
    for command in commands:
        if len(name) < 255 and f"{name}.npz" in command:
            continue  # a file that can be written
        assert call(command) in (1, 2), command
        said = capsys.readouterr().err
        assert said.strip(), command
        assert "Traceback" not in said, command


# Writing


def test_only_a_regular_file_is_ever_replaced(tmp_path):
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "real.csv").write_text("old")
    (tmp_path / "link.csv").symlink_to("real.csv")
    (tmp_path / "dangling.csv").symlink_to("none.csv")
    for path in (
        "/dev/null",
        tmp_path / "pipe",
        tmp_path,
        tmp_path / "dangling.csv",
        tmp_path / "real.csv" / "x.csv",
    ):
        with pytest.raises(OutputError):
            checked_target(path)
    with pytest.raises(OutputError), atomic_write(tmp_path / "pipe") as beside:
        beside.write_text("new")
    assert (tmp_path / "pipe").is_fifo()
    with atomic_write(tmp_path / "link.csv") as beside:
        beside.write_text("new")
    assert (tmp_path / "link.csv").is_symlink()
    assert (tmp_path / "real.csv").read_text() == "new"
    assert Path("/dev/null").is_char_device()
    with pytest.raises(OutputError, match="here one of .csv, .png"):
        checked_target(tmp_path / "x.xlsx", endings=(".csv", ".png"))
    with pytest.raises(OutputError, match="link to nothing"):
        claim_folder(tmp_path / "dangling.csv")


def test_what_is_written_is_checked_before_the_work(tmp_path, runs, capsys, monkeypatch, rng):
    model = str(runs["cnn"].folder)
    for folder in ("a", "b"):
        (tmp_path / folder).mkdir()
        soundfile.write(tmp_path / folder / "night.wav", sound("hum", rng, seconds=3.0), RATE_HZ)
    both = [str(tmp_path / "a"), str(tmp_path / "b")]
    monkeypatch.setattr("barn_owl.archive.tagging.score_pieces", lambda *_, **__: pytest.fail("work was begun"))
    (tmp_path / "there.csv").touch()
    (tmp_path / "cut").mkdir()
    (tmp_path / "cut" / "x").touch()
    for more, said in (
        (["-o", "events.xlsx"], "the ending says"),
        (["-o", "events.vtt"], "events of one recording"),
        (["-o", "/dev/full/x.csv"], "cannot be written"),
        (["-o", "e.csv", "--figure", "f.doc"], "the ending says"),
        (["-o", "e.csv", "--hours", "h.xlsx"], "the ending says"),
        (["-o", "e.csv", "--cues", "c"], "recordings of the same name"),
        (["-o", "e.csv", "--excerpts", str(tmp_path / "cut")], "is not empty"),
        (["-o", "e.csv", "--store", "/dev/null"], "is a file"),
        ([], "give -o TABLE, --store STORE, or both"),
    ):
        assert call(["tag", model, *both, *more]) == 1
        assert said in capsys.readouterr().err
    monkeypatch.setattr("barn_owl.files.find_spec", lambda _name: None)
    assert call(["tag", model, *both, "-o", "e.parquet"]) == 1
    assert "needs pyarrow" in capsys.readouterr().err


def test_traces_of_recordings_with_one_name_are_kept_apart(tmp_path, runs, capsys, rng):
    for folder in ("a", "b"):
        (tmp_path / folder).mkdir()
        soundfile.write(tmp_path / folder / "night.wav", sound("hum", rng, seconds=3.0), RATE_HZ)
    command = [
        "tag",
        str(runs["cnn"].folder),
        str(tmp_path / "a"),
        str(tmp_path / "b"),
        "--score-traces",
        str(tmp_path / "t"),
    ]
    assert call([*command, "-o", str(tmp_path / "e.csv")]) == 0
    assert sorted(path.name for path in (tmp_path / "t").iterdir()) == ["a_night.npz", "b_night.npz"]
    assert call([*command, "-o", str(tmp_path / "f.csv")]) == 1
    assert "already exists" in capsys.readouterr().err
    assert call([*command, "-o", str(tmp_path / "f.csv"), "--force"]) == 0
    names = trace_files_of(["/x/a/n.wav", "/y/a/n.wav", "/x/a/n.flac", "/x/b.wav"], "t")
    assert len(set(names.values())) == 4


def test_what_a_killed_process_had_begun_to_write_goes_with_the_next(tmp_path):
    script = (
        "import os, sys, signal\nfrom barn_owl.files import atomic_write, temporary_folder\n"
        "with atomic_write(sys.argv[1]) as alongside, temporary_folder() as folder:\n"
        "    alongside.write_text('half'); print(folder, flush=True); os.kill(os.getpid(), signal.SIGKILL)\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", script, tmp_path / "x.csv"], capture_output=True, text=True, check=False
    )
    left = Path(done.stdout.strip())
    assert left.is_dir()
    assert [path.name[0] for path in tmp_path.iterdir()] == ["."]
    with atomic_write(tmp_path / "y.csv") as beside, temporary_folder():
        beside.write_text("whole")
    assert [path.name for path in tmp_path.iterdir()] == ["y.csv"]
    assert not left.exists()


def test_a_full_disk_is_told_and_leaves_the_old_file(tmp_path, monkeypatch, runs):
    owl.write_audio(tmp_path / "a.wav", np.zeros(100), 8000)
    before = (tmp_path / "a.wav").read_bytes()
    monkeypatch.setattr("barn_owl.files.FULL", 1 << 60)  # as if there were less than that
    monkeypatch.setattr("soundfile.SoundFile.write", lambda *_: (_ for _ in ()).throw(soundfile.LibsndfileError(2)))
    with pytest.raises(OutputError, match=r"a.wav cannot be written: no space is left"):
        owl.write_audio(tmp_path / "a.wav", np.ones(100), 8000, force=True)
    assert (tmp_path / "a.wav").read_bytes() == before
    from safetensors import SafetensorError

    monkeypatch.setattr("barn_owl.model.file.save_file", lambda *_, **__: (_ for _ in ()).throw(SafetensorError("x")))
    with pytest.raises(OutputError, match="no space is left"):
        runs["cnn"].model.save(tmp_path / "m.safetensors")
    assert [path.name for path in tmp_path.iterdir()] == ["a.wav"]


def test_what_the_disk_has_no_room_for_is_not_begun(tmp_path, clips, rng, monkeypatch):
    night = tmp_path / "night.wav"
    soundfile.write(night, sound("hum", rng, seconds=3.0), RATE_HZ)
    events = pd.DataFrame({"file": str(night), "start_s": [0.5], "end_s": [1.5], "label": "hum"})
    room = shutil.disk_usage(tmp_path)._replace(free=10_000)
    monkeypatch.setattr("shutil.disk_usage", lambda _path: room)
    for write in (
        lambda: owl.clips.write_excerpts(check_clip_table(events), tmp_path / "cut"),
        lambda: owl.archive.write_cues(night, events, tmp_path / "cues" / "night.wav"),
        lambda: write_variants(
            check_clip_table(clips.head(3)), tmp_path / "made", owl.sound.SoundSettings(), variants=2
        ),
    ):
        with pytest.raises(OutputError, match=r"would take about .* of space, and 10 kB are left"):
            write()
    assert [path.name for path in tmp_path.iterdir()] == ["night.wav"]


# Times beyond the end


def test_times_beyond_the_end_are_one_error_with_a_hint(tmp_path, rng, capsys, runs):
    file = str(tmp_path / "night.wav")
    soundfile.write(file, np.tile(sound("hum", rng), 10), RATE_HZ)
    truth = pd.DataFrame({"file": file, "start_s": [1000.0, 4000.0], "end_s": [2000.0, 5000.0], "label": "hum"})
    for cut in (
        lambda: owl.clips.clips_of_events(truth, 1.0),
        lambda: owl.clips.draw_background(truth, 1.0, 2),
        lambda: owl.clips.clips_of_false_alarms(truth, truth, 1.0),
        lambda: owl.score_events(truth, truth, seconds={file: 12.0}),
    ):
        with pytest.raises(TableError, match=r"row 1: .* is 12.00 s long(.|\n)*look like milliseconds"):
            cut()
    write_clip_table(truth, tmp_path / "truth.csv")
    with pytest.raises(TableError, match="look like milliseconds"):
        owl.adjust(runs["cnn"].model, truth)
    assert call(["score", str(tmp_path / "truth.csv"), str(tmp_path / "truth.csv")]) == 2
    assert "divide them by 1000" in capsys.readouterr().err
    for ends in ({"start_s": [1.0, 3e6], "end_s": [2.0, 4e6]}, {"start_s": [1.0, 11.0], "end_s": [2.0, 14.0]}):
        with pytest.raises(TableError, match="row 2") as error:
            owl.clips.clips_of_events(truth.assign(**ends), 1.0)
        assert "milliseconds" not in str(error.value)


# Tables


def test_an_encoding_is_told_and_never_guessed_in_silence(tmp_path, caplog):
    path = tmp_path / "t.csv"
    path.write_bytes("file,label\na.wav,Möwe\nb.wav,Glocke\n".encode("cp1252"))
    assert read_any_table(path)["label"].tolist() == ["Möwe", "Glocke"]
    assert "read as Windows-1252 (row 1 is the first" in caplog.text
    path.write_bytes("file,label\na.wav,Möwe\n".encode() + "b.wav,Möwe\n".encode("cp1252"))
    with pytest.raises(TableError, match=r"row 2: byte 0xf6 is not UTF-8, which the rest is"):
        read_any_table(path)
    assert read_any_table(path, encoding="cp1252")["label"][1] == "Möwe"
    with pytest.raises(TableError, match="there is no encoding 'klingon'"):
        read_any_table(path, encoding="klingon")
    with pytest.raises(TableError, match="not in ascii"):
        read_any_table(path, encoding="ascii")
    path.write_bytes(b"file,label\na\0.wav,x\n" + b"b.wav,y\n" * 1000)
    with pytest.raises(TableError, match="zero bytes"):
        read_any_table(path)


def test_a_column_twice_and_endless_columns_are_refused_at_once(tmp_path):
    path = tmp_path / "t.csv"
    path.write_text("file,label, label \na.wav,x,y\n")
    with pytest.raises(TableError, match=r"two columns 'label', the 2. and the 3."):
        read_any_table(path)
    for header in ("x," * 20_000, "," * 100_000):
        path.write_text(f"file,label,{header}\na.wav,x\n")
        begin = time.monotonic()
        with pytest.raises(TableError, match="columns; at most 2000"):
            read_any_table(path)
        assert time.monotonic() - begin < 60  # a hang takes minutes


@given(st.lists(st.text(max_size=12), min_size=1, max_size=5))
@settings(max_examples=60)
def test_cells_that_a_spreadsheet_would_compute_are_text_and_come_back(texts):
    table = pd.DataFrame({"note": pd.Series(texts, dtype=object)})
    safe = safe_cells(table)
    for cell in safe["note"]:
        assert not cell.startswith(("=", "@", "\t", "\r")) or not cell
    assert plain_cells(safe)["note"].tolist() == texts


def test_formulas_and_negative_numbers_come_back_from_a_file(tmp_path):
    rows = {
        "file": ["a.wav", "b.wav", "c.wav"],
        "label": ["=1+1", "-x", "'@y"],
        "note": ["-3.5", "+1e3", "=cmd|'/C'!A0"],
    }
    write_clip_table(pd.DataFrame(rows), tmp_path / "t.csv")
    text = (tmp_path / "t.csv").read_text()
    assert ",'=1+1," in text
    assert ",-3.5" in text
    again = read_clip_table(tmp_path / "t.csv")
    assert again["label"].tolist() == rows["label"]
    assert again["note"].tolist() == rows["note"]


def test_labels_in_two_unicode_forms_and_for_no_folder_are_found(tmp_path, clips, capsys):
    labels = ["Mo\u0308we", "M\u00f6we", "ä" * 150, "a/b", "fine", "fine"] * 3
    table = clips.head(18).assign(label=labels)
    found = owl.check_clips(check_clip_table(table), audio=False).findings
    assert "Unicode form" in found.loc[found["finding"] == "spelling", "detail"].iloc[0]
    assert set(found.loc[found["finding"] == "no folder name", "label"].str[:3]) == {"äää", "a/b"}
    gone = check_clip_table(pd.DataFrame({"file": [str(tmp_path / "no.wav")] * 2, "label": ["a", "b"]}))
    write_clip_table(gone, tmp_path / "gone.csv")
    assert call(["check", str(tmp_path / "gone.csv"), "--fix", str(tmp_path / "fixed.csv")]) == 2
    assert "no usable clip is left" in capsys.readouterr().err
    assert not (tmp_path / "fixed.csv").exists()


# Models, plans, caches


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"labels": ["a", "a", "b", "c"]}, "one is there twice"),
        ({"temperature": 1e-308}, "temperature"),
        ({"background": ["gull"]}, "'gull' is not a label"),
        ({"thresholds": {"hum": float("inf")}}, "no number"),
        ({"classifier": {"name": "ensemble", "members": []}}, "classifier"),
        ({"classifier": "cnn"}, "classifier"),
        ({"front_end": {"bands": 512, "fft": 1 << 20}}, "more than makes sense"),
        ({"decoding": {"labels": []}}, "decoding"),
        ({"exemplars": ["hum"] * 500}, "it lacks 'exemplars."),
    ],
)
def test_a_model_whose_header_is_hostile_is_refused(runs, tmp_path, change, said):
    content = (runs["cnn"].folder / "model.safetensors").read_bytes()
    size = int.from_bytes(content[:8], "little")
    outer = json.loads(content[8 : 8 + size])
    inner = json.loads(outer["__metadata__"]["barn_owl"]) | change
    outer["__metadata__"]["barn_owl"] = json.dumps(inner)
    header = json.dumps(outer).encode()
    path = tmp_path / "m.safetensors"
    path.write_bytes(len(header).to_bytes(8, "little") + header + content[8 + size :])
    with pytest.raises(ModelError, match="damaged") as error:
        owl.load_model(path)
    assert said in str(error.value)


def test_models_that_ask_for_more_than_they_hold_are_refused_before_it_is_taken(runs, tmp_path):
    content = (runs["cnn"].folder / "model.safetensors").read_bytes()
    size = int.from_bytes(content[:8], "little")
    outer = json.loads(content[8 : 8 + size])
    inner = json.loads(outer["__metadata__"]["barn_owl"])
    layers = [{"kind": "convolution", "channels": 4096, "taps": [4096, 1], "dilation": 1}] * 2
    for classifier in (
        inner["classifier"] | {"settings": {"layers": layers}},
        {
            "name": "mlp",
            "frames": 50,
            "statistics": ["mean"],
            "level": {"frames": 0, "range_db": 50},
            "settings": {"hidden": [4096] * 50},
        },
    ):
        outer["__metadata__"]["barn_owl"] = json.dumps(inner | {"classifier": classifier})
        header = json.dumps(outer).encode()
        (tmp_path / "m.safetensors").write_bytes(len(header).to_bytes(8, "little") + header + content[8 + size :])
        script = (
            "import sys, barn_owl\ntry:\n    barn_owl.load_model(sys.argv[1])\nexcept barn_owl.BarnOwlError as e:\n"
            "    print(open('/proc/self/status').read().split('VmHWM:')[1].split()[0])\n"
        )
        done = subprocess.run(
            [sys.executable, "-c", script, tmp_path / "m.safetensors"], capture_output=True, text=True, check=True
        )
        assert int(done.stdout) < 300_000


def test_a_window_that_is_longer_than_sensible_is_refused(runs, tmp_path):
    model = runs["logistic"].model
    own = model.classifier
    long = Pooled(own.name, 60_000, own.step, own.statistics, own.level, own.row_classifier, own.center, own.spread)
    replace(model, classifier=long).save(tmp_path / "m.safetensors")
    with pytest.raises(ModelError, match="a step would look at 60000 frames"):
        owl.load_model(tmp_path / "m.safetensors")


@pytest.mark.parametrize("value", [np.nan, np.inf, 0.0])
def test_weights_that_are_no_numbers_are_refused(runs, tmp_path, value):
    model = runs["cnn"].model
    wrong = replace(model, deviation=np.full_like(model.deviation, value))
    wrong.save(tmp_path / "m.safetensors")
    with pytest.raises(ModelError, match="damaged"):
        owl.load_model(tmp_path / "m.safetensors")


def test_deep_and_endless_plans_are_refused(tmp_path):
    (tmp_path / "deep.toml").write_text("x = " + "[" * 50_000 + "]" * 50_000)
    with pytest.raises(PlanError, match="not a TOML file"):
        owl.read_plan(tmp_path / "deep.toml")
    (tmp_path / "long.toml").write_text("# x\n" * 400_000)
    with pytest.raises(PlanError, match="bytes long, too long for a plan"):
        owl.read_plan(tmp_path / "long.toml")


def test_kept_frames_that_were_changed_are_computed_again(clips, tmp_path, caplog):
    front_end = owl.FrontEnd()
    plain = owl.load_frames(clips.head(3), front_end, cache=tmp_path)[0]
    wanted = [part.copy() for part in plain.parts]
    file = next(FrameCache(tmp_path, front_end).folder.glob("*.f32"))
    content = bytearray(file.read_bytes())
    content[100:104] = np.float32(np.nan).tobytes()
    file.unlink()
    file.write_bytes(content)
    again = owl.load_frames(clips.head(3), front_end, cache=tmp_path)[0]
    assert all(np.array_equal(a, b) for a, b in zip(again.parts, wanted, strict=True))
    assert "are damaged; they are computed again" in caplog.text


# Terminals and pages


def test_control_characters_are_written_out_in_a_terminal(tmp_path, capsys):
    folder = write_folder(tmp_path / "in", seed=1, clips=2, kinds=("hum", "hiss"))
    table = owl.gather_folder(folder).clips
    for row, column in enumerate(("label", "group")):
        odd = table.assign(group="g")
        odd[column] = odd[column].where(odd.index > 0, "a\x1b[2J")
        odd.to_csv(tmp_path / "t.csv", index=False)
        assert call(["split", str(tmp_path / "t.csv"), "-o", "-"] if row else ["look", str(tmp_path / "t.csv")]) in (
            0,
            2,
        )
        said = capsys.readouterr()
        assert "\x1b[2J" not in said.err
        assert row or "a\\x1b[2J" in said.err
    assert call(["look", "no\x1b]0;owned\x07.wav"]) == 2
    assert "\x07" not in capsys.readouterr().err


# Recordings that are odd


def test_what_is_odd_about_a_recording_is_told(tmp_path, runs, rng):
    model = runs["cnn"].model

    def told(samples, rate_hz=RATE_HZ, **how):
        soundfile.write(tmp_path / "odd.wav", samples, rate_hz, **how)
        return " ".join(recording_caveats_of(model, tmp_path / "odd.wav", pd.DataFrame({"file": ["x"]})))

    take = np.tile(sound("hum", rng), 10)
    assert "has a sample rate of 2000 Hz" in told(take, 2000)
    assert "silent (below -90 dB) at 4 of 4 sampled positions" in told(np.zeros_like(take) + 1e-6, subtype="FLOAT")
    assert "cancel each other" in told(np.stack([take, -take], axis=1))
    assert "only channel 2 of 4" in told(np.stack([0 * take, take, 0 * take, 0 * take], axis=1))
    assert "exceeds full scale by" in told(take * 3000, subtype="FLOAT")
    quiet = told(take * 1e-3, subtype="PCM_24")  # a quiet place is no silence
    assert "silent" not in quiet
    fine = told(np.stack([take, 0.5 * take], axis=1))
    assert "channel" not in fine
    assert "full scale" not in fine


def test_warnings_of_a_worker_are_told_here_with_the_file(tmp_path, runs, caplog):
    take = np.zeros(5 * RATE_HZ, dtype=np.float32)
    take[100] = np.nan
    soundfile.write(tmp_path / "nan.wav", take, RATE_HZ, subtype="FLOAT")
    owl.tag_archive(runs["cnn"].model, [tmp_path / "nan.wav"], workers=1)
    assert caplog.text.count("nan.wav: 1 samples are not finite") == 1


def test_features_of_a_recording_are_written_part_by_part(tmp_path, rng):
    take = np.tile(sound("hum", rng), 30)
    soundfile.write(tmp_path / "long.wav", take, RATE_HZ)
    front_end = owl.FrontEnd(features=["log-mel", "deltas", "flux"], bands=8)
    whole = owl.features.frame_table(front_end, front_end.frames(owl.read_audio(tmp_path / "long.wav")[0]))
    for ending in ("csv", "parquet", "npz"):
        blocks = front_end.frame_blocks(owl.audio.stream_audio(tmp_path / "long.wav"))
        assert owl.features.write_frames(front_end, blocks, tmp_path / f"f.{ending}") == len(whole)
        again = owl.features.read_features(tmp_path / f"f.{ending}")
        pd.testing.assert_frame_equal(again.astype(whole.dtypes.to_dict()), whole)
    out = str(tmp_path / "g.csv")
    assert call(["features", str(tmp_path / "long.wav"), "-o", out, "--features", "log-mel"]) == 0
    before = Path(out).read_bytes()
    soundfile.write(tmp_path / "short.wav", take[:100], RATE_HZ)
    assert call(["features", str(tmp_path / "short.wav"), "-o", out, "--force"]) == 2
    assert Path(out).read_bytes() == before


# Signals


def children_read_sound(group):
    """Whether a subprocess of the session has a recording open."""
    for process in torture.members(group):
        with suppress(OSError):
            if process.name != str(group) and any(
                str(one.readlink()).endswith(".wav") for one in process.glob("fd/*")
            ):
                return True
    return False


@pytest.mark.parametrize("how", [signal.SIGTERM, signal.SIGINT, signal.SIGKILL])
def test_a_signal_leaves_no_process_no_file_and_no_traceback(runs, tmp_path, rng, how):
    (tmp_path / "in").mkdir()
    soundfile.write(tmp_path / "in" / "night_0.wav", np.tile(sound("hum", rng), 500), RATE_HZ)
    for number in range(1, 12):
        os.link(tmp_path / "in" / "night_0.wav", tmp_path / "in" / f"night_{number}.wav")
    command = [*BARN_OWL, "tag", str(runs["cnn"].folder), "in", "-o", "e.csv", "--store", "k.sqlite"]
    process = subprocess.Popen(command, cwd=tmp_path, stderr=subprocess.PIPE, text=True, start_new_session=True)
    deadline = time.monotonic() + 120
    while not (at_work := children_read_sound(process.pid)) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert at_work
    process.send_signal(how)
    said = process.communicate(timeout=120)[1]
    if how != signal.SIGKILL:
        assert process.returncode == 130, said
        assert "Traceback" not in said
        assert "leaked" not in said
    deadline = time.monotonic() + 60
    while torture.members(process.pid) and time.monotonic() < deadline:
        time.sleep(0.1)
    assert not torture.members(process.pid)
    assert not [path for path in tmp_path.iterdir() if path.name.startswith(".")]


# The campaign, in short


def test_the_campaign_in_short_finds_no_defect(tmp_path, capfd):
    assert (
        torture.main(
            ["--inputs", "300", "--kills", "0", "--calls", "0", "--seed", "7", "--report", str(tmp_path / "r.json")]
        )
        == 0
    )
    found = json.loads((tmp_path / "r.json").read_text())
    assert len(found["readers"]) == 16 + (shutil.which("cc") is not None)
    for name, one in found["readers"].items():
        assert one["inputs"] == 300 // len(found["readers"]), name
        assert one["peak_mb"] < torture.MAX_MB
        assert one.get("skipped", 0) + one.get("read", 0) == one["inputs"]


def test_the_campaign_would_see_a_defect(tmp_path):
    def read(path):
        if b"x" not in path.read_bytes():
            raise KeyError("no x")

    reader = torture.Reader("odd", {"a.txt": b"x" * 10}, read)
    found = torture.campaign(reader, 50, 0, 0, 60)
    assert found["defect"] > 0
    assert "KeyError at test_hostile.py" in next(iter(found["defects"]))
    died = torture.campaign(torture.Reader("dead", {"a.txt": b"x"}, lambda _: os._exit(3)), 2, 0, 0, 60)
    assert died["defect"] == 2
    assert "exit code 3" in next(iter(died["defects"]))


# Messages of readers


def test_traces_whose_parts_do_not_fit_are_refused(runs, tmp_path):
    model = runs["cnn"].model
    trace = trace_of_samples(model, np.ones(RATE_HZ, dtype=np.float32), "x.wav")
    wrong = {
        "scores of shape": {"activity": np.repeat(trace.activity, 2, axis=1)},
        "times": {"step_s": 0.0},
        "that are no numbers": {"onsets": np.full_like(trace.onsets, np.nan)},
    }
    for said, changes in wrong.items():
        replace(trace, **changes).save(tmp_path / "t.npz", force=True)
        with pytest.raises(TableError, match=said):
            owl.tag.read_trace(tmp_path / "t.npz")
    with pytest.raises(TableError, match="the trace is of a, b, c, d; the model knows"):
        owl.tag.tag_trace(model, replace(trace, labels=list("abcd")))
    each = replace(trace, activity=np.repeat(trace.activity, 4, axis=1), onsets=np.repeat(trace.onsets, 4, axis=1))
    with pytest.raises(TableError, match="the trace follows 4 scores, the model 1"):
        owl.tag.tag_trace(model, each)


def test_stores_that_are_something_else_or_damaged_are_refused(runs, tmp_path, rng):
    (tmp_path / "a-file").write_text("x")
    (tmp_path / "folder.sqlite").mkdir()
    soundfile.write(tmp_path / "hum.wav", sound("hum", rng, seconds=2.0), RATE_HZ)
    model, file = runs["cnn"].model, tmp_path / "hum.wav"
    for place, said in (("a-file", "a-file is a file"), ("folder.sqlite", "is a folder; a store with this ending")):
        with pytest.raises(OutputError, match=said):
            owl.tag_archive(model, [file], store=tmp_path / place)
    (tmp_path / "exemplars").mkdir()
    (tmp_path / "exemplars" / "._about.json").touch()  # another command begins it at this moment
    owl.tag_archive(model, [file], store=tmp_path / "exemplars")
    owl.tag_archive(model, [file], store=tmp_path / "kept.sqlite")
    (tmp_path / "exemplars" / "_about.json").write_text("{")
    with sqlite3.connect(tmp_path / "kept.sqlite") as rows:
        rows.execute("UPDATE recordings SET hours = '[' ")
    rows.close()
    for place in ("exemplars", "kept.sqlite"):
        with pytest.raises(TableError, match="damaged"):
            owl.archive.store_hours(tmp_path / place)


def test_rows_of_a_classifier_that_cannot_be_are_refused(ranking, tmp_path):
    model = owl.load_model(ranking[0] / "trees")
    own, trees = model.classifier, model.classifier.row_classifier
    far = Trees(np.full_like(trees.features, 10_000), trees.cuts, trees.leaves, trees.start)
    wrong = {
        said: Pooled(own.name, own.window, own.step, own.statistics, own.level, classifier, center, spread)
        for said, classifier, center, spread in (
            ("rows are standardized with", trees, own.center[:3], own.spread),
            ("spread that is not above 0", trees, own.center, -own.spread),
            ("a tree looks at feature 10000", far, own.center, own.spread),
        )
    }
    for said, classifier in wrong.items():
        replace(model, classifier=classifier).save(tmp_path / "m.safetensors", force=True)
        with pytest.raises(ModelError, match=said):
            owl.load_model(tmp_path / "m.safetensors")


def test_what_is_no_parquet_and_no_windows_text_is_told(tmp_path):
    (tmp_path / "t.parquet").write_bytes(b"PAR1 and then nothing of the kind PAR1")
    with pytest.raises(TableError, match="cannot be read as Parquet"):
        read_any_table(tmp_path / "t.parquet")
    (tmp_path / "t.csv").write_bytes(b"file,label\na.wav,caf\x81\n")  # 0x81 is nothing in Windows-1252 either
    with pytest.raises(TableError, match="row 1: byte 0x81 is not UTF-8; fix it"):
        read_any_table(tmp_path / "t.csv")
    (tmp_path / "s.csv").write_text("sep=;\nfile;label\na.wav;hum\n")
    assert list(read_any_table(tmp_path / "s.csv")) == ["file", "label"]
