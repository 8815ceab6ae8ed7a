import io

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st

from barn_owl.clips import check_clip_table, read_clip_table, write_clip_table
from barn_owl.errors import OutputError, TableError

text = st.text(st.characters(blacklist_categories=("Cs", "Cc"), blacklist_characters="\ufeff"), max_size=12)
times = st.floats(0, 1e5, allow_nan=False).filter(lambda x: x == 0 or x > 1e-6)


@st.composite
def clip_tables(draw):
    rows = draw(st.integers(1, 8))
    starts = draw(st.lists(times, min_size=rows, max_size=rows))
    lengths = draw(st.lists(st.floats(0.01, 100), min_size=rows, max_size=rows))
    blank = draw(st.lists(st.booleans(), min_size=rows, max_size=rows))
    columns = {
        "file": [f"take {number}.wav" for number in range(rows)],
        "start_s": [np.nan if b else s for b, s in zip(blank, starts, strict=True)],
        "end_s": [np.nan if b else s + d for b, s, d in zip(blank, starts, lengths, strict=True)],
        "label": draw(st.lists(text, min_size=rows, max_size=rows)),
        "group": draw(st.lists(text, min_size=rows, max_size=rows)),
        "microphone, own": draw(st.lists(text.map(str.strip), min_size=rows, max_size=rows)),
    }
    return pd.DataFrame(columns)


@given(clip_tables())
@settings(max_examples=60, deadline=None)
def test_any_table_comes_back_from_csv_as_it_was(tmp_path_factory, table):
    folder = tmp_path_factory.mktemp("table")
    clips = check_clip_table(table.assign(file=[str(folder / file) for file in table["file"]]))
    write_clip_table(clips, folder / "clips.csv")
    pd.testing.assert_frame_equal(read_clip_table(folder / "clips.csv"), clips)


def test_parquet_comes_back_with_types(tmp_path):
    clips = check_clip_table(pd.DataFrame({"file": [str(tmp_path / "a.wav")], "label": ["x"], "take": [3]}))
    write_clip_table(clips, tmp_path / "clips.parquet")
    pd.testing.assert_frame_equal(read_clip_table(tmp_path / "clips.parquet"), clips)


def test_paths_are_written_relative_and_survive_a_move(tmp_path):
    (tmp_path / "a" / "deep").mkdir(parents=True)
    table = pd.DataFrame(
        {"file": [str(tmp_path / "a" / "deep" / "x.wav"), str(tmp_path / "y.wav")], "label": ["u", "v"]}
    )
    write_clip_table(table, tmp_path / "a" / "clips.csv")
    assert (tmp_path / "a" / "clips.csv").read_bytes() == (
        b"file,start_s,end_s,label\r\ndeep/x.wav,,,u\r\n../y.wav,,,v\r\n"
    )
    (tmp_path / "a").rename(tmp_path / "b")
    assert read_clip_table(tmp_path / "b" / "clips.csv")["file"][0] == str(tmp_path / "b" / "deep" / "x.wav")


def test_label_nan_semicolons_and_a_byte_order_mark_are_read(tmp_path):
    path = tmp_path / "sheet.csv"
    path.write_bytes('file;start_s;label\r\na.wav;1.5;nan\r\nb.wav;;Bö, "x"\r\n'.encode("utf-8-sig"))
    clips = read_clip_table(path)
    assert clips["label"].tolist() == ["nan", 'Bö, "x"']
    assert clips["start_s"].tolist()[0] == 1.5
    assert np.isnan(clips["start_s"][1])


@pytest.mark.parametrize(
    ("rows", "message"),
    [
        ({"name": ["a"]}, "no column 'file' among the columns name"),
        ({"file": ["a", ""]}, "row 2: file is blank"),
        ({"file": ["a"], "start_s": [-1.0]}, "row 1: start_s must not be negative, got -1"),
        ({"file": ["a", "b"], "start_s": [0, 3], "end_s": [1, 2]}, "row 2: end_s must be after start_s=3, got 2"),
        ({"file": ["a"], "start_s": ["1.5x"]}, "row 1: start_s must be a number, got '1.5x'"),
        ({"file": ["a"], "end_s": ["inf"]}, "row 1: end_s must be a number, got 'inf'"),
        ({"file": ["a"], "split": ["trian"]}, "row 1: split must be train, validation, test or blank, got 'trian'"),
        ({"file": ["a"], "score": [1.5]}, "row 1: score must be 0 to 1, got 1.5"),
        ({"file": [""] * 9}, "... and 4 more rows like this"),
    ],
)
def test_faulty_rows_are_named(rows, message):
    with pytest.raises(TableError) as error:
        check_clip_table(pd.DataFrame(rows))
    assert message in str(error.value)


def test_a_column_that_is_there_twice_is_told():
    with pytest.raises(TableError, match="my table: the column 'note' is there more than once"):
        check_clip_table(pd.DataFrame([["a.wav", 1, 2]], columns=["file", "note", "note"]), where="my table")


def test_repeated_rows_are_dropped_and_told(caplog):
    table = pd.DataFrame({"file": ["a", "b", "a"], "label": ["x", "x", "x"], "note": ["1", "2", "3"]})
    assert check_clip_table(table)["note"].tolist() == ["1", "2"]
    assert "1 rows repeat an earlier one (first: row 3)" in caplog.text


def test_the_argument_stays_as_it_is():
    table = pd.DataFrame({"label": [" x "], "file": ["a"]})
    check_clip_table(table)
    assert table["label"][0] == " x "


@pytest.mark.parametrize(
    ("content", "message"),
    [(b"", "is empty"), (b"file,label\r\n", "has a header but no rows"), (b"RIFF\0\0\0", "is not a text table")],
)
def test_tables_that_are_none_are_refused(tmp_path, content, message):
    (tmp_path / "t.csv").write_bytes(content)
    with pytest.raises(TableError, match=message):
        read_clip_table(tmp_path / "t.csv")


def test_streams_and_force(tmp_path):
    out = io.StringIO()
    table = pd.DataFrame({"file": ["a.wav"], "label": ["x"]})
    write_clip_table(table, out)
    assert read_clip_table(io.StringIO(out.getvalue()))["label"][0] == "x"
    write_clip_table(table, tmp_path / "t.csv")
    with pytest.raises(OutputError, match="already exists"):
        write_clip_table(table, tmp_path / "t.csv", force=False)
    with pytest.raises(OutputError, match="is a folder"):
        write_clip_table(table, tmp_path)


def test_a_sound_file_is_no_table_and_that_is_said(tmp_path):
    (tmp_path / "day.flac").write_bytes(b"fLaC")
    with pytest.raises(TableError, match=r"day\.flac is a sound file, not a table of clips"):
        read_clip_table(tmp_path / "day.flac")
