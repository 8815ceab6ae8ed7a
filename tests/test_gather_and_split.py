import shutil

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st

from barn_owl.clips import (
    Shares,
    gather_folder,
    gather_table,
    gather_together,
    limit_clips,
    other_label,
    read_label_map,
    relabel,
    split_clips,
)
from barn_owl.errors import PlanError, TableError


def test_a_folder_per_label_becomes_a_table(folder):
    gathered = gather_folder(folder, names="{group}_{take}")
    assert gathered.skipped == {}
    assert gathered.clips["label"].value_counts().to_dict() == {"hum": 12, "hiss": 12, "tick": 12, "still": 12}
    assert sorted(gathered.clips["group"].unique()) == ["rec0", "rec1", "rec2", "rec3"]
    assert gathered.clips["take"].iloc[0] == "00"


def test_unreadable_files_are_reported_and_the_rest_is_kept(tmp_path, folder):
    (tmp_path / "x").mkdir()
    good = next(folder.rglob("*.wav")).read_bytes()
    (tmp_path / "x" / "good.WAV").write_bytes(good)
    (tmp_path / "x" / "broken.flac").write_bytes(b"fLaC")
    (tmp_path / "x" / "notes.txt").write_text("not sound")
    (tmp_path / "x" / ".hidden.wav").write_bytes(good)
    (tmp_path / "loose.wav").write_bytes(good)
    gathered = gather_folder(tmp_path)
    assert gathered.clips["label"].tolist() == ["", "x"]
    assert list(gathered.skipped) == [str(tmp_path / "x" / "broken.flac")]


@pytest.mark.parametrize(
    ("names", "message"),
    [
        ("{group}-{take}", "does not fit 48 of 48 file names, such as 'rec0_00'"),
        ("rec", "names no field"),
        ("{group}_{group}", "repeated"),
        ("{2nd}", "no name"),
    ],
)
def test_patterns_that_do_not_fit_show_what_they_failed_on(folder, names, message):
    with pytest.raises(TableError, match=message):
        gather_folder(folder, names=names)


def test_sound_that_cannot_be_read_and_labels_without_sound_are_told(tmp_path, folder, caplog):
    shutil.copytree(folder / "hum", tmp_path / "hum")
    for name in ("owl/a.m4a", "owl/b.M4A", "owl/notes.txt", "hum/c.wma", ".hidden/x", "empty/.keep"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_bytes(b"x")
    assert len(gather_folder(tmp_path).clips) == 12
    assert f"{tmp_path} holds sound that cannot be read, skipped: 2 .m4a, 1 .wma; make FLAC" in caplog.text
    assert f"{tmp_path / 'empty'} and 1 more: no sound file in it, so there is no such label" in caplog.text
    caplog.clear()
    gather_folder(folder)
    assert caplog.text == ""


def test_folders_without_sound_are_refused(tmp_path):
    with pytest.raises(TableError, match="holds no sound files"):
        gather_folder(tmp_path)
    with pytest.raises(TableError, match="does not exist"):
        gather_folder(tmp_path / "nowhere")
    (tmp_path / "empty.wav").write_bytes(b"")
    with pytest.raises(TableError, match="none of the 1 sound files"):
        gather_folder(tmp_path)


def test_a_table_of_ones_own_with_excerpts(tmp_path, folder):
    sheet = tmp_path / "sheet.tsv"
    sheet.write_text(
        "name\tonset\toffset\tclass\tlabel\nhum/rec0_00.wav\t0.1\t0.5\tHum\told\nno/where.wav\t\t\tHum\told\n"
    )
    columns = {"file": "name", "start_s": "onset", "end_s": "offset", "label": "class"}
    gathered = gather_table(sheet, columns=columns, audio_folder=folder)
    row = gathered.clips.iloc[0]
    assert (row["start_s"], row["end_s"], row["label"], row["label_before"]) == (0.1, 0.5, "Hum", "old")
    assert "where.wav does not exist" in next(iter(gathered.skipped.values()))
    with pytest.raises(TableError, match="has no column 'clas'; it has name, onset"):
        gather_table(sheet, columns={"label": "clas"})
    with pytest.raises(TableError, match="there is no column 'klass' in a clip table"):
        gather_table(sheet, columns={"klass": "class"})
    with pytest.raises(TableError, match=r"none of its rows has a file that can be read, of 2"):
        gather_table(sheet, columns=columns)


@st.composite
def grouped_clips(draw):
    groups = draw(st.integers(3, 12))
    labels = draw(st.integers(2, 5))
    sizes = draw(st.lists(st.integers(1, 6), min_size=groups * labels, max_size=groups * labels))
    rows = [
        (f"{group}-{label}-{n}.wav", f"l{label}", f"g{group}")
        for group in range(groups)
        for label in range(labels)
        for n in range(sizes[group * labels + label])
    ]
    return pd.DataFrame(rows, columns=["file", "label", "group"])


@given(grouped_clips(), st.integers(0, 5))
@settings(max_examples=60, deadline=None)
def test_groups_are_never_split_and_every_side_has_some(clips, seed):
    splits = split_clips(clips, seed=seed)
    assert not splits.groupby("group")["split"].nunique().gt(1).any()
    assert set(splits["split"]) == {"train", "validation", "test"}
    pd.testing.assert_frame_equal(splits, split_clips(clips, seed=seed))


def test_without_groups_each_label_is_shared_out_as_asked():
    clips = pd.DataFrame({"file": [f"{n}.wav" for n in range(300)], "label": ["a"] * 200 + ["b"] * 100})
    splits = split_clips(clips, Shares(train=0.7, validation=0.1, test=0.2))
    counts = pd.crosstab(splits["label"], splits["split"])
    np.testing.assert_array_equal(counts[["train", "validation", "test"]], [[140, 20, 40], [70, 10, 20]])


def test_given_sides_are_kept_and_validation_is_taken_from_train():
    files = [f"{n}.wav" for n in range(100)]
    clips = pd.DataFrame({"file": files, "label": ["a", "b"] * 50, "split": ["train"] * 60 + ["test"] * 40})
    splits = split_clips(clips)
    assert (splits["split"][60:] == "test").all()
    assert (splits["split"] == "validation").sum() == pytest.approx(15, abs=2)
    assert (splits["split"][:60] != "test").all()


@pytest.mark.parametrize(
    ("clips", "message"),
    [
        ({"label": ["a"] * 9}, "has one label ('a')"),
        ({"label": ["a"] * 5 + ["b"]}, "too few clips of 'b' (1)"),
        ({"label": ["a", "b"] * 5, "group": ["x", "y"] * 5}, "there are 2 groups for 3 splits"),
        (
            {"label": ["a", "b"] * 5, "group": ["x"] * 10, "split": ["train", "test"] * 5},
            "'x' is in two splits (train and test)",
        ),
    ],
)
def test_splits_that_cannot_be_honest_are_refused(clips, message):
    table = pd.DataFrame(clips)
    with pytest.raises(TableError) as error:
        split_clips(table.assign(file=[f"{n}.wav" for n in range(len(table))]))
    assert message in str(error.value)


def test_files_of_one_group_may_be_parted_on_request_and_missing_labels_are_told(caplog):
    clips = pd.DataFrame({"file": [f"{n}.wav" for n in range(18)], "label": ["a", "b"] * 9, "group": ["x"] * 18})
    assert set(split_clips(clips, Shares(together="file"))["split"]) == {"train", "validation", "test"}
    clips["group"] = ["p", "q", "p", "r", "p", "s"] * 3
    split_clips(clips)
    assert "no clip of 'a' is on the" in caplog.text
    with pytest.raises(PlanError, match="must sum to 1, got 1.2"):
        Shares(train=0.8)


def test_sources_are_merged_and_labels_renamed_joined_and_dropped(tmp_path, folder):
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "a.wav").write_bytes((folder / "hum" / "rec0_00.wav").read_bytes())
    sheet = tmp_path / "sheet.csv"
    sheet.write_text("file;start_s;end_s;label;note\nmine/a.wav;0,25;0,75;Hum;loud, near\n", encoding="cp1252")
    clips = gather_together([gather_folder(folder), gather_table(sheet)]).clips
    assert len(clips) == 49
    assert clips.iloc[-1][["start_s", "end_s", "note"]].tolist() == [0.25, 0.75, "loud, near"]
    mapping = tmp_path / "labels.csv"
    mapping.write_text("label,becomes\nHum,hum\ntick,\n")
    changed = relabel(clips, read_label_map(mapping))
    assert changed["label"].value_counts().to_dict() == {"hum": 13, "hiss": 12, "still": 12}
    with pytest.raises(TableError, match="no clip is labeled 'humm'; did you mean hum"):
        relabel(clips, {"humm": "x"})
    mapping.write_text("label,becomes\nHum,hum\nHum,ham\n")
    with pytest.raises(TableError, match="says twice what 'Hum' becomes"):
        read_label_map(mapping)


@pytest.mark.parametrize(
    "content",
    [
        "sep=;\r\nfile;label\r\nhum/rec0_00.wav;Tür\r\n".encode("cp1252"),
        "file\tlabel\nhum/rec0_00.wav\tTür\n".encode("utf-16"),
        "\ufefffile,label\r\nhum/rec0_00.wav,Tür\r\n".encode(),
        b'"file"|"label"\nhum/rec0_00.wav|"T\xc3\xbcr"\n',
    ],
)
def test_spreadsheets_of_every_origin_are_read(tmp_path, folder, content):
    (tmp_path / "sheet.csv").write_bytes(content)
    clips = gather_table(tmp_path / "sheet.csv", audio_folder=folder).clips
    assert clips["label"].tolist() == ["Tür"]


def test_rows_beyond_the_end_are_told_and_left_out(tmp_path, folder):
    rows = ["hum/rec0_00.wav,0.5,9,late", "hum/rec0_00.wav,0.1,1.2,fits", "hum/rec0_00.wav,3,,nan"]
    (tmp_path / "sheet.csv").write_text("\n".join(["file,start_s,end_s,label", *rows]))
    gathered = gather_table(tmp_path / "sheet.csv", audio_folder=folder)
    assert gathered.clips["label"].tolist() == ["fits"]
    assert "is 1.20 s long, but row 1 is from 0.5 to 9 s" in gathered.skipped[f"{tmp_path / 'sheet.csv'}, row 1"]
    assert len(gathered.skipped) == 2


def test_names_by_a_regular_expression_and_the_last_folder(tmp_path, folder):
    deep = tmp_path / "2026" / "hum"
    deep.mkdir(parents=True)
    (deep / "rec7-x-12.wav").write_bytes((folder / "hum" / "rec0_00.wav").read_bytes())
    row = gather_folder(tmp_path, names=r"(?P<group>rec\d)-\w+-(?P<take>\d+)", label_folder="last").clips.iloc[0]
    assert (row["label"], row["group"], row["take"]) == ("hum", "rec7", "12")
    with pytest.raises(TableError, match="is not a regular expression"):
        gather_folder(tmp_path, names="(?P<group>rec")


def test_labels_are_limited_evenly_and_others_drawn_from_all(clips):
    few = limit_clips(clips, 8, seed=1)
    assert set(few["label"].value_counts()) == {8}
    assert (few.groupby(["label", "group"]).size() == 2).all()
    assert few["file"].tolist() == [file for file in clips["file"] if file in set(few["file"])]
    other = other_label(clips, ["hum"], most=9, seed=1)
    assert other["label"].value_counts().to_dict() == {"hum": 12, "other": 9}
    drawn = other[other["label"] == "other"]["label_before"].value_counts()
    assert drawn.to_dict() == {"hiss": 3, "tick": 3, "still": 3}
    with pytest.raises(TableError, match="no clip is labeled 'ham'"):
        other_label(clips, ["ham"])
