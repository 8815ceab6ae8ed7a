"""Tables, labels and devices from users: precise messages, nothing half written, nothing outside its folder."""

import sys
import types
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st

from barn_owl.archive import read_events
from barn_owl.audio import audio_info, write_audio
from barn_owl.audio.microphone import SoundCard
from barn_owl.cli.main import run
from barn_owl.clips import (
    check_clip_table,
    draw_background,
    gather_folder,
    gather_table,
    label_folder,
    read_clip_table,
    split_clips,
    write_excerpts,
    write_variants,
)
from barn_owl.errors import AudioError, OutputError, TableError
from barn_owl.runs import train
from barn_owl.sound import SoundSettings
from barn_owl.tag import score_recording
from helpers import RATE_HZ, small_plan, sound


@pytest.fixture
def clip(tmp_path):
    write_audio(tmp_path / "clip.wav", sound("hum", np.random.default_rng(0)), RATE_HZ)
    return tmp_path / "clip.wav"


@pytest.mark.parametrize(
    ("content", "message"),
    [
        ("", "is empty"),
        ("file,label\n", "has a header but no rows"),
        ("name,label\nclip.wav,x\n", "no column 'file' among the columns name, label"),
        ("file,label,start_s\nclip.wav,x,soon\n", "row 1: start_s must be a number, got 'soon'"),
        ("file,label,start_s\nclip.wav,x,nan\n", "row 1: start_s must be a number, got 'nan'"),
        ("file,label,start_s\nclip.wav,x,-1\n", "row 1: start_s must not be negative, got -1"),
        ("file,label,start_s,end_s\nclip.wav,x,2,1\n", "row 1: end_s must be after start_s=2, got 1"),
        ("file,label,split\nclip.wav,x,dev\n", "split must be train, validation, test or blank, got 'dev'"),
        ("file,label,score\nclip.wav,x,7\n", "score must be 0 to 1, got 7"),
        ("file,label\n,x\n", "row 1: file is blank"),
        ("file,label\nnowhere.wav,x\n", "none of its rows has a file that can be read"),
        ("file,label,start_s,end_s\nclip.wav,x,80,81\n", "every row lies beyond the end of its file"),
        ('file,label\n"clip.wav,x\n', "cannot be read as a table"),
    ],
)
def test_broken_tables_are_told_by_row_and_column(clip, content, message):
    (clip.parent / "table.csv").write_text(content)
    with pytest.raises(TableError) as told:
        gather_table(clip.parent / "table.csv")
    assert message in str(told.value)
    assert "table.csv" in str(told.value)


@pytest.mark.parametrize(
    "content", ["file;start_s;end_s;label;score\na.wav;1,5;2,5;a;0,9\n", 'file,start_s,label\na.wav,"1,5",a\n']
)
def test_decimal_commas_are_numbers(tmp_path, content):
    (tmp_path / "events.csv").write_text(content)
    row = read_events(tmp_path / "events.csv").iloc[0]
    assert row["start_s"] == 1.5
    assert row.get("score", 0.9) == 0.9


def test_rows_whose_file_is_a_folder_or_the_table_itself_are_reported(clip, tmp_path, capsys):
    (tmp_path / "self.csv").write_text(f"file,label\n{tmp_path},a\nself.csv,b\n{clip.resolve()},b\n")
    check = ["check", str(tmp_path / "self.csv"), "--fix", str(tmp_path / "fixed.csv")]
    assert run([*check, "--force"]) in (0, 1)  # more than half is dropped
    told = capsys.readouterr().out
    assert "is a folder, not a file" in told
    assert "self.csv cannot be read as sound" in told
    assert len(read_clip_table(tmp_path / "fixed.csv")) == 1


def test_labels_that_look_like_something_else_stay_text(clip):
    labels = ["nan", "None", "007", "1e5", "TRUE", "a, b", 'say "hi"', "ende\u0301", "=1+1"]
    rows = "\n".join(f'clip.wav,"{label.replace(chr(34), chr(34) * 2)}"' for label in labels)
    (clip.parent / "table.csv").write_text(f"file,label\n{rows}\n", encoding="utf-8")
    assert gather_table(clip.parent / "table.csv").clips["label"].tolist() == labels


def test_paths_of_every_kind_are_found(clip, monkeypatch):
    (clip.parent / "tables").mkdir()
    table = clip.parent / "tables" / "table.csv"
    table.write_text(f"file,label\n../clip.wav,relative\n{clip},absolute\n./../tables/../clip.wav,winding\n")
    monkeypatch.chdir("/")
    files = read_clip_table(table)["file"]
    assert set(files) == {str(clip)}


@given(st.text(max_size=12))
@settings(max_examples=200)
def test_no_label_leads_out_of_its_folder(tmp_path_factory, label):
    folder = tmp_path_factory.getbasetemp() / "labels"
    inside = label_folder(folder, label)
    assert inside.parent == folder
    assert inside.name not in ("", ".", "..")


def test_hostile_labels_are_written_inside_and_nothing_is_overwritten(clip):
    out = clip.parent / "out"
    table = check_clip_table(
        pd.DataFrame({"file": str(clip), "start_s": [0.0, 0.1, 0.2], "end_s": [0.5, 0.6, 0.7],
                      "label": ["../../evil", "/abs", ".."]})
    )  # fmt: skip
    written = write_excerpts(table, out)
    assert all(out in Path(file).resolve().parents for file in written["file"])
    assert written["label"].tolist() == ["../../evil", "/abs", ".."]
    before = {path: path.stat().st_mtime_ns for path in out.rglob("*.wav")}
    more = pd.concat([table.assign(label="new"), table], ignore_index=True).iloc[[0, 4, 5]].reset_index(drop=True)
    with pytest.raises(OutputError, match="already exists"):
        write_excerpts(more, out)
    assert {path: path.stat().st_mtime_ns for path in out.rglob("*.wav")} == before  # not even the new file
    variants, skipped = write_variants(
        pd.concat([table, table.head(1).assign(file="gone.wav")]), clip.parent / "variants",
        SoundSettings.everything(1.0), variants=2, background=("/abs",),
    )  # fmt: skip
    assert len(variants) == 6
    assert list(skipped) == ["gone.wav"]
    assert all((clip.parent / "variants") in Path(file).parents for file in variants["file"])
    with pytest.raises(TableError, match="no clip is labeled 'sea'"):
        write_variants(table, out, SoundSettings(), variants=1, background=("sea",))


def test_a_truth_table_with_blank_times_has_no_background(clip):
    whole = check_clip_table(pd.DataFrame({"file": [str(clip)], "label": ["x"]}))
    with pytest.raises(TableError, match="only 0 excerpts of 0.1 s fit"):
        draw_background(whole, 0.1, 1)
    half = whole.assign(end_s=0.4)  # a blank start is the start of the file
    assert draw_background(half, 0.1, 2)["start_s"].min() >= 0.6


@pytest.mark.parametrize(
    ("labels", "groups", "message"),
    [
        (["a"] * 9, None, "the table has one label ('a')"),
        (["a"] * 5 + ["b"] * 2, None, "too few clips of 'b' (2)"),
        (["a", "b"] * 5, ["g"] * 10, "there are 1 groups for 3 splits"),
        (["a", "b"] * 5, ["g", "g", "h", "h", "h"] * 2, "there are 2 groups for 3 splits"),
    ],
)
def test_tables_that_cannot_be_split_say_why(labels, groups, message):
    table = pd.DataFrame({"file": [f"{n}.wav" for n in range(len(labels))], "label": labels})
    if groups:
        table["group"] = groups
    with pytest.raises(TableError) as told:
        split_clips(check_clip_table(table))
    assert message in str(told.value)


def test_a_pattern_that_fits_nothing_shows_three_names(folder):
    with pytest.raises(TableError) as told:
        gather_folder(folder, names="{group}#{take}")
    assert str(told.value).count("'rec") == 3


def test_the_channel_of_the_plan_is_the_one_that_is_tagged(clips, tmp_path):
    trained = train(clips, tmp_path / "run", small_plan("logistic", clips={"channel": "loudest"}))
    rng = np.random.default_rng(3)
    mono = np.concatenate([sound("tick", rng), sound("hum", rng), sound("hiss", rng)])
    write_audio(tmp_path / "mono.wav", mono, RATE_HZ)
    write_audio(tmp_path / "stereo.wav", np.stack([np.roll(mono, 9000) * 0.3, mono], axis=1), RATE_HZ)
    one, two = (
        np.concatenate([block.activity for block in score_recording(trained.model, tmp_path / f"{name}.wav")])
        for name in ("mono", "stereo")
    )
    np.testing.assert_allclose(one, two, atol=1e-4)


def test_silence_yields_no_table_of_takes(tmp_path, capsys):
    write_audio(tmp_path / "silence.wav", np.zeros(3 * RATE_HZ), RATE_HZ)
    assert run(["cut", str(tmp_path / "silence.wav"), "-o", str(tmp_path / "none.csv")]) == 2
    assert "no take found" in capsys.readouterr().err
    assert not (tmp_path / "none.csv").exists()


def test_a_broken_file_leaves_no_folder_of_variants(tmp_path, capsys):
    (tmp_path / "broken.wav").write_bytes(b"RIFF")
    assert run(["look", str(tmp_path / "broken.wav"), "-o", str(tmp_path / "out"), "--variants", "2"]) == 2
    assert "broken.wav" in capsys.readouterr().err
    assert not (tmp_path / "out").exists()


class Card(types.ModuleType):
    """A stand-in for the package that talks to the sound card."""

    class PortAudioError(Exception):
        pass

    def __init__(self, *, refuses="", breaks=False):
        super().__init__("sounddevice")
        self.refuses, self.breaks, self.requested = refuses, breaks, []

    def check_input_settings(self, **_settings):
        if self.refuses:
            raise ValueError(self.refuses)

    def query_devices(self, _device, _kind):
        return {"default_samplerate": 16_000.0}

    def rec(self, samples, **settings):
        if self.breaks:
            raise self.PortAudioError("device unplugged")
        self.requested.append((samples, settings))
        return np.full((samples, 1), 0.25, np.float32)


def test_takes_come_from_the_sound_card_when_there_is_one(tmp_path, monkeypatch):
    card = Card()
    monkeypatch.setitem(sys.modules, "sounddevice", card)
    arguments = ["--label", "step", "--takes", "2", "--length-s", "0.5", "--count-down", "0", "--keep-all"]
    assert run(["record", str(tmp_path), *arguments, "--microphone", "USB"]) == 0
    assert [samples for samples, _ in card.requested] == [22_050, 22_050]
    settings = card.requested[0][1]
    assert (settings["device"], settings["channels"], settings["blocking"]) == ("USB", 1, True)
    files = read_clip_table(tmp_path / "clips.csv")["file"]
    assert [audio_info(file).rate_hz for file in files] == [44_100, 44_100]


@pytest.mark.parametrize(
    ("card", "message"),
    [(Card(refuses="no such device"), "no such device"), (Card(breaks=True), "recording failed: device unplugged")],
)
def test_a_sound_card_that_fails_is_told(monkeypatch, card, message):
    monkeypatch.setitem(sys.modules, "sounddevice", card)
    with pytest.raises(AudioError, match=message):
        SoundCard().record(0.1)


def test_without_the_package_recording_says_what_to_install(monkeypatch):
    monkeypatch.setitem(sys.modules, "sounddevice", None)
    with pytest.raises(AudioError, match=r'pip install "barn-owl-audio\[microphone\]"'):
        SoundCard()
