"""Annotation: marks that are never lost, complete stretches, agreement, tiles, the page and its server."""

import json
import shutil
import signal
import subprocess
import sys
import threading
from dataclasses import replace

import numpy as np
import pandas as pd
import pytest
import soundfile
from hypothesis import given, strategies as st

import barn_owl as owl
from barn_owl.annotation import Mark, MarkFile
from barn_owl.cli.main import run
from barn_owl.errors import AudioError, OutputError, TableError
from barn_owl.runs.recordings import survey_recordings
from barn_owl.show.tiles import COLUMNS, OVERVIEW_ROWS, ROWS
from helpers import RATE_HZ, sound
from test_pages import EVIL, browser  # noqa: F401 - a fixture
from test_review import ask, pages, tab, until  # noqa: F401 - a fixture

KINDS = ["hum", "tick", "hiss"]
ARABIC = "صوت"


@pytest.fixture(scope="module")
def night(tmp_path_factory):
    """A minute of recording with an event every three seconds, and the events of a model."""
    folder, rng = tmp_path_factory.mktemp("annotate"), np.random.default_rng(2)
    parts = [part for n in range(20) for part in (sound("still", rng, 2.0), sound(KINDS[n % 3], rng, 1.0))]
    owl.write_audio(folder / "night.wav", np.concatenate(parts), RATE_HZ)
    owl.write_clip_table(events_of(folder), folder / "events.csv")
    return folder


def events_of(folder, count=18):
    rows = [(str(folder / "night.wav"), 3 * n + 2.0, 3 * n + 3.0, KINDS[n % 3], 0.5 + n / 50) for n in range(count)]
    return pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label", "score"])


def mark(folder, name, start_s, end_s, label="", **more):
    return Mark(mark=name, file=str(folder / "night.wav"), start_s=start_s, end_s=end_s, label=label, **more)


def truth_of(*rows):
    return pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label", "status"])


changes = st.lists(
    st.tuples(st.integers(0, 5), st.integers(0, 50), st.integers(1, 9), st.sampled_from(["hum", "a,b \"c\"", "=1"]),
              st.sampled_from(["marked", "rejected", "deleted", "complete"])), max_size=20,
)  # fmt: skip


@given(made=changes, cut=st.integers(0, 200), writes=st.booleans())
def test_the_last_state_of_each_mark_survives_a_cut_off_line_and_a_restart(made, cut, writes, tmp_path_factory):
    folder, wanted = tmp_path_factory.mktemp("marks"), {}
    marks = MarkFile(folder / "t.csv", [folder / "night.wav"])
    for name, start, length, label, status in made:
        given_mark = mark(folder, f"m{name}", start, start + length, label, status=status)
        marks.add(given_mark)
        wanted[f"m{name}"] = (start, start + length, label, status)
    if writes:
        marks.write_table()
    with marks.journal.open("ab") as file:  # a crash in the middle of the next line
        file.write(json.dumps({"mark": "x" * 300, "file": "night.wav"}).encode()[:cut])
    again = MarkFile(folder / "t.csv", [folder / "night.wav"])
    again.add(mark(folder, "last", 1, 2, "hum"))
    found = {one.mark: (one.start_s, one.end_s, one.label, one.status) for one in MarkFile(
        folder / "t.csv", [folder / "night.wav"]).changes()[1]}  # fmt: skip
    assert found == wanted | {"last": (1, 2, "hum", "marked")}


def test_the_truth_table_has_events_as_labels_and_all_else_without(night, tmp_path):
    marks = MarkFile(tmp_path / "t.csv", [night / "night.wav"])
    assert marks.propose(events_of(night, 3)) == 3
    proposals = marks.changes()[1]
    marks.add(replace(proposals[0], status="confirmed", label="hum", reviewer="Ada"))
    marks.add(replace(proposals[1], status="rejected"))
    marks.add(mark(night, "own", 20, 21.5, ""))
    marks.add(mark(night, "done", 0, 30, status="complete"))
    marks.write_table()
    table = owl.read_clip_table(tmp_path / "t.csv").set_index("status")
    assert table["label"].to_dict() == {
        "complete": "",
        "confirmed": "hum",
        "rejected": "",
        "proposed": "",
        "marked": "",
    }
    assert table["predicted"].to_dict() | {"complete": "", "marked": ""} == {
        "complete": "", "confirmed": "hum", "rejected": "tick", "proposed": "hiss", "marked": ""}  # fmt: skip
    assert table.loc["marked", "unknown"] == "yes"
    assert table.loc["confirmed", "reviewer"] == "Ada"
    assert table["when"].str.startswith("20").all()
    # A table alone is continued, too, and its proposals are not proposed again.
    shutil.copy(tmp_path / "t.csv", tmp_path / "copy.csv")
    copy = MarkFile(tmp_path / "copy.csv", [night / "night.wav"])
    assert copy.table().equals(marks.table())
    copy.propose(events_of(night, 3).tail(1))
    assert len(copy) == 5


def test_a_table_that_another_program_changed_is_continued_and_nothing_is_lost(night, tmp_path, caplog):
    path = tmp_path / "t.csv"
    marks = MarkFile(path, [night / "night.wav"])
    marks.add(mark(night, "a", 1, 2, "hum"))
    marks.write_table()
    path.write_text(path.read_text().replace("hum", "horn"))
    again = MarkFile(path, [night / "night.wav"])
    assert again.table()["label"].tolist() == ["horn"]
    assert "changed by another program" in caplog.text
    (aside,) = tmp_path.glob("t.marks.*.jsonl")
    assert '"hum"' in aside.read_text()


def test_a_table_of_another_origin_keeps_its_columns_and_a_table_of_whole_files_is_left_alone(night, tmp_path):
    table = (
        events_of(night, 3)
        .drop(columns="score")
        .assign(group=["a", "b", "b"], note=["far", None, "=1+1"], depth=[1.5, 2, 3])
    )
    owl.write_clip_table(table, tmp_path / "t.csv")
    marks = MarkFile(tmp_path / "t.csv", [night / "night.wav"])
    first = marks.changes()[1][0]
    marks.add(Mark.checked(vars(first) | {"label": "horn", "more": {}}))
    marks.write_table()
    again = owl.read_clip_table(tmp_path / "t.csv")
    assert again["label"].tolist() == ["horn", "tick", "hiss"]
    assert again["group"].tolist() == ["a", "b", "b"]
    assert again["note"].fillna("").tolist() == ["far", "", "=1+1"]
    assert again["depth"].astype(float).tolist() == [1.5, 2, 3]
    whole = table[["file", "label"]]
    owl.write_clip_table(whole, tmp_path / "clips.csv")
    before = (tmp_path / "clips.csv").read_bytes()
    with pytest.raises(TableError, match="row 1 has no start_s"):
        MarkFile(tmp_path / "clips.csv", [night / "night.wav"])
    assert (tmp_path / "clips.csv").read_bytes() == before
    assert not (tmp_path / "clips.marks.jsonl").exists()


def test_a_journal_that_begins_with_a_cut_off_line_and_has_no_mark_is_continued(night, tmp_path):
    (tmp_path / "t.marks.jsonl").write_text('{"mark": "a", "fi')
    MarkFile(tmp_path / "t.csv", [night / "night.wav"]).write_table()
    marks = MarkFile(tmp_path / "t.csv", [night / "night.wav"])
    marks.add(mark(night, "b", 1, 2, "hum"))
    assert len(MarkFile(tmp_path / "t.csv", [night / "night.wav"])) == 1


def test_recordings_by_url_keep_their_marks(tmp_path):
    url = "https://host/night.wav"
    marks = MarkFile(tmp_path / "t.csv", [url])
    marks.add(Mark(mark="a", file=url, start_s=1.0, end_s=2.0, label="hum"))
    assert [one.file for one in MarkFile(tmp_path / "t.csv", [url]).changes()[1]] == [url]


def test_two_writers_see_each_other_and_keep_all(night, tmp_path):
    first, second = (MarkFile(tmp_path / "t.csv", [night / "night.wav"]) for _ in range(2))
    threads = [
        threading.Thread(target=lambda own, n: own.add(mark(night, f"m{n}", n, n + 1, "hum")), args=(own, n))
        for n, own in enumerate([first, second] * 10)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    second.write_table()
    assert len(owl.read_clip_table(tmp_path / "t.csv")) == 20


@pytest.mark.parametrize("change", [
    {"start_s": 2}, {"end_s": float("inf")}, {"start_s": float("nan")}, {"label": "a\nb"}, {"label": 1}, {"mark": ""},
    {"status": "maybe"}, {"score": 2}, {"start_s": -1}, {"label": "x" * 300}, {"reviewer": "x" * 9000},
    {"end_s": None},
])  # fmt: skip
def test_a_mark_that_cannot_be_is_refused(change):
    given_mark = {"mark": "a", "file": "n.wav", "start_s": 1, "end_s": 2, "label": "hum"}
    assert Mark.checked(given_mark).end_s == 2
    with pytest.raises(TableError):
        Mark.checked(given_mark | change)


def test_what_cannot_be_a_journal_or_a_target_is_refused(night, tmp_path):
    (tmp_path / "t.marks.jsonl").write_text("garbage\n")
    with pytest.raises(TableError, match="not a journal of marks"):
        MarkFile(tmp_path / "t.csv", [night / "night.wav"])
    with pytest.raises(OutputError):
        MarkFile(tmp_path / "t.parquet", [night / "night.wav"])
    owl.write_clip_table(events_of(night), tmp_path / "v.csv")
    with pytest.raises(TableError, match="marks of other recordings"):
        MarkFile(tmp_path / "v.csv", [tmp_path / "other.wav"])
    (tmp_path / "w.marks.jsonl").mkdir()  # a target that cannot be written
    with pytest.raises(OutputError):
        MarkFile(tmp_path / "w.csv", [night / "night.wav"])
    with pytest.raises(TableError, match="no events of"):
        MarkFile(tmp_path / "u.csv", [tmp_path / "other.wav"]).propose(events_of(night))


# Complete stretches


def test_only_complete_stretches_are_scored(night):
    file, events = str(night / "night.wav"), events_of(night)
    rows = [(file, 3 * n + 2.0, 3 * n + 3.0, KINDS[n % 3], "marked") for n in range(4)]
    truth = truth_of(*rows, (file, 0, 12.0, "", "complete"))
    scores = owl.score_events(events, truth, seconds={file: 60.0})
    assert (scores.f1, len(scores.events), scores.hours * 3600) == (1.0, 4, 12.0)
    # Without a statement, all that is not marked counts as free of events.
    assert len(owl.score_events(events, truth[:4].drop(columns="status"), seconds={file: 60.0}).false_alarms) == 14
    # Just outside of a stretch, an event counts only for a true event inside.
    edge = truth_of((file, 5.05, 6, "tick", "marked"), (file, 5.02, 9.9, "", "complete"))
    scores = owl.score_events(events, edge, seconds={file: 60.0})
    assert (len(scores.matches), len(scores.false_alarms)) == (1, 1)  # the hiss at 8 s is inside
    with pytest.raises(TableError, match="no complete stretch"):
        owl.score_events(events, truth[:4], seconds={file: 60.0})
    # A column of that name with other values has no meaning.
    assert owl.clips.complete_stretches(truth[:4].assign(status="good")) is None


@given(edges=st.lists(st.tuples(st.integers(0, 60), st.integers(1, 20)), min_size=1, max_size=8))
def test_complete_stretches_are_joined_as_seconds_say(edges):
    truth = truth_of(*[("a.wav", start, start + length, "", "complete") for start, length in edges])
    stretches = owl.clips.complete_stretches(truth)
    covered = np.zeros(100, dtype=bool)
    for start, length in edges:
        covered[start : start + length] = True
    again = np.zeros(100, dtype=bool)
    for start, end in stretches[["start_s", "end_s"]].astype(int).itertuples(index=False):
        assert not again[max(start - 1, 0) : end].any()
        again[start:end] = True
    assert (again == covered).all()


def test_background_and_false_alarms_are_of_complete_stretches(night):
    file = str(night / "night.wav")
    truth = truth_of((file, 20.0, 21.0, "hum", "marked"), (file, 12.0, 30.0, "", "complete"))
    drawn = owl.clips.draw_background(truth, 1.0, 10)
    assert drawn["start_s"].min() >= 12.0
    assert drawn["end_s"].max() <= 30.0
    wrong = owl.clips.clips_of_false_alarms(events_of(night), truth, 0.5)
    assert wrong["start_s"].min() >= 12
    assert wrong["end_s"].max() <= 30
    assert 3 <= len(wrong) <= 6
    assert owl.clips.clips_of_events(truth, 1.0)["label"].tolist() == ["hum"]


def test_settings_are_found_on_complete_stretches(runs, rng, tmp_path):
    events = pd.concat([events_of(tmp_path)] * 1)
    parts = [part for n in range(20) for part in (sound("still", rng, 2.0), sound(KINDS[n % 3], rng, 1.0))]
    owl.write_audio(tmp_path / "night.wav", np.concatenate(parts), RATE_HZ)
    model = owl.load_model(runs["logistic"].folder)
    first = events[:6].assign(status="marked").drop(columns="score")
    stretch = truth_of((str(tmp_path / "night.wav"), 0.0, 20.0, "", "complete"))
    adjusted = owl.adjust(model, pd.concat([first, stretch], ignore_index=True))
    assert adjusted.scores.hours * 3600 == pytest.approx(20.0)
    assert len(adjusted.scores.truth) == 6
    several = truth_of(*[(str(tmp_path / "night.wav"), t, t + 5.0, "", "complete") for t in (0.0, 6.0, 12.0)])
    assert len(owl.adjust(model, pd.concat([first, several], ignore_index=True)).cross_validated) == 3


def test_gathering_takes_the_events_of_an_annotated_table(night, tmp_path):
    file = str(night / "night.wav")
    rows = [(file, 1.0, 2.0, "hum", "marked"), (file, 0.0, 9.0, "", "complete"), (file, 4.0, 5.0, "", "proposed")]
    owl.write_clip_table(truth_of(*rows), tmp_path / "t.csv")
    assert owl.clips.gather_table(tmp_path / "t.csv").clips["label"].tolist() == ["hum"]
    owl.write_clip_table(truth_of(*rows[1:]), tmp_path / "u.csv")
    with pytest.raises(TableError, match="no row of an event"):
        owl.clips.gather_table(tmp_path / "u.csv")


# Agreement


def test_agreement_of_two_annotators(tmp_path, capsys):
    rows = [("a.wav", n, n + 0.5, "hum" if n % 2 else "tick") for n in range(0, 20, 2)]
    first = pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label"])
    second = first.drop(index=3).reset_index(drop=True)
    found = owl.evaluate.compare_annotations(first, second, seconds={"a.wav": 40.0})
    assert found.f1 == pytest.approx(2 * 9 / 19)
    assert found.disagreements[["start_s", "marked_by"]].to_numpy().tolist() == [[6.0, "first"]]
    sounds = np.zeros((2, 40), dtype=bool)
    sounds[0, first["start_s"].astype(int)] = sounds[1, second["start_s"].astype(int)] = True
    both, chance = (sounds[0] == sounds[1]).mean(), sounds.mean(axis=1).prod() + (1 - sounds.mean(axis=1)).prod()
    assert found.by_label.loc["tick", "kappa"] == pytest.approx((both - chance) / (1 - chance))
    # Of what only one annotated completely, nothing is compared.
    stretch = pd.DataFrame([("a.wav", 0.0, 5.0, "", "complete")], columns=[*first, "status"])
    part = pd.concat([first.assign(status="marked"), stretch], ignore_index=True)
    assert owl.evaluate.compare_annotations(part, second, seconds={"a.wav": 40.0}).seconds == 5.0
    elsewhere = part.assign(start_s=part["start_s"] + 100, end_s=part["end_s"] + 100)
    with pytest.raises(TableError, match="no complete stretch in common"):
        owl.evaluate.compare_annotations(part, elsewhere, seconds={"a.wav": 140.0})
    for name, table in (("first", first), ("second", second)):
        owl.write_audio(tmp_path / "a.wav", np.zeros(40 * 8000, dtype=np.float32), 8000, force=True)
        owl.write_clip_table(table.assign(file=str(tmp_path / "a.wav")), tmp_path / f"{name}.csv")
    tables = [str(tmp_path / "first.csv"), str(tmp_path / "second.csv")]
    assert run(["score", *tables, "--agreement", "-o", str(tmp_path / "d.csv")]) == 0
    assert "F1 of one against the other 0.95" in capsys.readouterr().out
    assert len(owl.read_clip_table(tmp_path / "d.csv")) == 1


# Tiles


@pytest.mark.parametrize(
    ("rate_hz", "scale"), [(8000, "mel"), (22_050, "linear"), (44_100, "mel"), (192_000, "linear")]
)
def test_a_tone_lies_at_its_time_and_frequency_in_every_tile(tmp_path, rate_hz, scale):
    times = np.arange(rate_hz * 12) / rate_hz
    tone = 0.1 * np.sin(2 * np.pi * 2000 * times) * (np.abs(times - 10.25) < 0.1)
    owl.write_audio(tmp_path / "a.wav", tone.astype(np.float32), rate_hz)
    tiles = owl.show.Tiles([tmp_path / "a.wav"])
    ticks = dict(tiles.facts(0)["ticks"][scale])
    for level in range(-1, tiles.facts(0)["highest_level"] + 1):
        column_s = 2.0**level / COLUMNS
        tile = tiles.tile(0, scale, level, int(10.25 // 2.0**level))
        loud = np.flatnonzero(tile.max(axis=0) > 180)
        at = int(10.25 // 2.0**level) * 2.0**level + loud * column_s
        assert abs(at.mean() - 10.25) < column_s + 0.02
        height = (tile[:, loud[len(loud) // 2]].argmax() + 0.5) / ROWS
        expected = ticks.get(2000, 2000 / (rate_hz / 2))
        assert abs(height - expected) < 1.5 / ROWS
    with pytest.raises(AudioError, match="no tile"):
        tiles.tile(0, scale, 2, 3)
    with pytest.raises(AudioError, match="no tile"):
        tiles.tile(0, scale, 9, 0)


def test_the_overview_shows_the_whole_recording(night):
    tiles = owl.show.Tiles([night / "night.wav"])
    done = 0.0
    while done < 1:
        done, shades = tiles.overview(0)
    assert shades.shape[0] == OVERVIEW_ROWS
    columns = shades.max(axis=0).reshape(-1)
    inside = [int((3 * n + 2.5) / 60 * len(columns)) for n in range(0, 18, 3)]
    assert columns[inside].min() > columns[int(1.0 / 60 * len(columns))]


# The page and its server


@pytest.fixture
def served(night, tmp_path):
    marks = MarkFile(tmp_path / "t.csv", [night / "night.wav"])
    marks.propose(events_of(night, 3))
    with owl.show.AnnotationServer(marks, labels=KINDS) as server:
        threading.Thread(target=server.serve, daemon=True).start()
        yield server, marks
        server.stop()


def test_the_server_gives_tiles_sound_and_marks_and_refuses_the_rest(served):
    server, marks = served
    assert ask(server.address)[0] == 200
    code, tile = ask(server.address + "tile/0/mel/4/1")
    assert (code, len(tile)) == (200, ROWS * COLUMNS)
    assert ask(server.address + "sound/0/1000/2500")[1][:4] == b"fLaC"
    assert len(json.loads(ask(server.address + "marks/0")[1])["marks"]) == 3
    for place in ("tile/0/mel/99/1", "tile/1/mel/4/0", "tile/0/bark/4/0", "tile/0/mel/4/9999", "tile/0/mel/x/0",
                  "sound/0/5/5", "sound/0/0/900000", "sound/0/70000/71000", "sound/7/0/1", "marks/x", "marks/1/2",
                  "overview/3", "nonsense", "sound/../../etc/passwd"):  # fmt: skip
        assert ask(server.address + place)[0] == 404, place
    good = {"mark": "a", "file": 0, "start_s": 1.0, "end_s": 2.0, "label": "hum"}
    for change in (
        {"file": 1},
        {"file": "night.wav"},
        {"end_s": 61},
        {"label": "a\0"},
        {"status": "x"},
        {"end_s": 0},
    ):
        assert ask(server.address + "answer", json.dumps(good | change).encode())[0] == 400, change
    assert ask(server.address + "answer", json.dumps(good).encode())[0] == 200
    until_written(marks, 4)


def until_written(marks, count):
    for _ in range(200):
        path = marks.journal.with_name("t.csv")
        if path.exists() and len(owl.read_clip_table(path)) == count:
            return
        threading.Event().wait(0.05)
    raise AssertionError(f"the table did not get {count} rows")


def test_a_recording_that_disappears_is_named(night, tmp_path):
    shutil.copy(night / "night.wav", tmp_path / "night.wav")
    marks = MarkFile(tmp_path / "t.csv", [tmp_path / "night.wav"])
    with owl.show.AnnotationServer(marks) as server:
        threading.Thread(target=server.serve, daemon=True).start()
        (tmp_path / "night.wav").unlink()
        code, text = ask(server.address + "tile/0/mel/0/0")
        assert code == 404
        assert b"night.wav" in text
        server.stop()


def test_the_command_serves_until_it_is_ended(night, tmp_path, capsys):
    out, code = tmp_path / "t.csv", "from barn_owl.cli.main import main; main()"
    asked = ["annotate", str(night / "night.wav"), "-o", str(out), "--events", str(night / "events.csv")]
    with subprocess.Popen([sys.executable, "-c", code, *asked], stderr=subprocess.PIPE, text=True) as child:
        assert "1 recordings to annotate at" in child.stderr.readline()
        address = child.stderr.readline().strip()
        posted = {"mark": "a", "file": 0, "start_s": 0.0, "end_s": 60.0, "label": "", "status": "complete"}
        assert ask(address + "answer", json.dumps(posted).encode())[0] == 200
        child.send_signal(signal.SIGTERM)
        assert child.wait(20) == 0
    assert owl.read_clip_table(out)["status"].value_counts().to_dict() == {"proposed": 18, "complete": 1}
    (tmp_path / "no.wav").write_text("not a sound")
    assert run(["annotate", str(tmp_path / "no.wav"), "-o", str(tmp_path / "u.csv")]) == 2
    assert "no.wav" in capsys.readouterr().err


def saved(tab):  # noqa: F811
    until(tab, "outbox.size == 0 && known > 0")


@pages
def test_a_sound_is_marked_moved_labeled_undone_and_there_after_a_reload(served, tab):  # noqa: F811
    server, marks = served
    tab.set_viewport_size({"width": 1280, "height": 800})
    tab.goto(server.address)
    saved(tab)
    assert tab.evaluate("document.documentElement.scrollHeight") <= 800
    size = tab.locator("#stage").bounding_box()
    tab.mouse.move(size["x"] + size["width"] * 11 / 30, size["y"] + 200)
    tab.mouse.down()
    tab.mouse.move(size["x"] + size["width"] * 12 / 30, size["y"] + 210, steps=4)
    tab.mouse.up()
    tab.keyboard.press("1")
    saved(tab)
    own = next(one for one in marks.changes()[1] if one.status == "marked")
    assert (own.start_s, own.end_s, own.label) == (pytest.approx(11, abs=0.05), pytest.approx(12, abs=0.05), "hum")
    tab.keyboard.press("s")
    tab.keyboard.press("ArrowLeft")
    tab.keyboard.press("Shift+ArrowLeft")
    saved(tab)
    assert marks.table().query("status == 'marked'")["start_s"].item() == pytest.approx(own.start_s - 0.11, abs=1e-6)
    tab.keyboard.press("z")
    saved(tab)
    assert marks.table().query("status == 'marked'")["start_s"].item() == pytest.approx(own.start_s - 0.01, abs=1e-6)
    tab.keyboard.press("Z")
    tab.keyboard.press("Enter")
    tab.fill("#word", EVIL)
    tab.keyboard.press("Enter")
    saved(tab)
    assert EVIL in marks.table()["label"].tolist()
    tab.reload()
    saved(tab)
    assert EVIL in tab.inner_text("#boxes")
    assert "1 marked, 3 proposed" in tab.inner_text("#status")


@pages
def test_everything_can_be_done_by_keys_alone(served, tab):  # noqa: F811
    server, marks = served
    tab.goto(server.address)
    saved(tab)
    for key in ("n", "a", "r", "2"):  # accept the hum, reject the tick, call the hiss a tick
        tab.keyboard.press(key)
    saved(tab)
    statuses = [(one.status, one.label) for one in sorted(marks.changes()[1], key=lambda one: one.start_s)]
    assert statuses == [("confirmed", "hum"), ("rejected", ""), ("corrected", "tick")]
    tab.keyboard.press("Escape")
    tab.keyboard.press("End")
    tab.keyboard.press("Shift+ArrowLeft")
    tab.keyboard.press("Shift+ArrowLeft")
    tab.keyboard.press("l")
    saved(tab)
    assert marks.table()["end_s"].max() == 60.0
    tab.keyboard.press("Shift+ArrowRight")
    tab.keyboard.press("l")  # it overlaps the mark before
    assert "it overlaps another tick" in tab.inner_text("#said")
    tab.keyboard.press("Delete")
    saved(tab)
    assert (marks.table()["end_s"] == 60.0).sum() == 1
    tab.keyboard.press("Home")
    tab.keyboard.press("c")  # what is in view
    saved(tab)
    assert marks.table().query("status == 'complete'")["end_s"].item() == 30.0
    tab.keyboard.press("g")
    until(tab, "cursor == 30")
    for key in ("v", "+", "-", "PageDown", "o", ",", ".", "w", "p", "?"):
        tab.keyboard.press(key)
    assert tab.locator("#keys").is_visible()


@pages
def test_sound_plays_with_a_moving_cursor_at_three_speeds(served, tab):  # noqa: F811
    tab.goto(served[0].address)
    saved(tab)
    tab.select_option("#speed", "2")
    tab.keyboard.press("n")
    tab.keyboard.press(" ")
    until(tab, "player.audio.currentTime > 0.3 && cursor > 2")
    assert tab.evaluate("player.audio.playbackRate") == 2
    until(tab, "player.audio.paused")
    assert tab.evaluate("player.now") >= 3
    tab.keyboard.press("o")
    tab.keyboard.press(" ")
    until(tab, "player.audio.loop && player.playing")
    tab.keyboard.press(" ")


@pages
def test_a_stretch_with_open_proposals_is_not_complete(served, tab):  # noqa: F811
    server, marks = served
    tab.goto(server.address)
    saved(tab)
    tab.keyboard.press("c")
    until(tab, "document.getElementById('said').textContent.startsWith('3 proposed events are open')")
    assert "complete" not in marks.table()["status"].tolist()


@pages
def test_a_mark_that_is_refused_for_good_does_not_hold_up_the_next(served, tab):  # noqa: F811
    server, marks = served
    tab.goto(server.address)
    saved(tab)
    tab.keyboard.press("End")
    tab.keyboard.press("Shift+ArrowLeft")
    tab.evaluate("give('x'.repeat(300))")
    until(tab, "document.getElementById('trouble').textContent.startsWith('a mark was not taken')")
    tab.keyboard.press("n")
    tab.keyboard.press("a")
    saved(tab)
    assert "confirmed" in marks.table()["status"].tolist()
    until(tab, "document.getElementById('status').textContent.startsWith('1 marked, 2 proposed')")
    tab.trouble[:] = [text for text in tab.trouble if "400" not in text]


@pages
def test_two_tabs_see_the_marks_of_each_other(served, tab):  # noqa: F811
    server, _ = served
    tab.goto(server.address)
    saved(tab)
    other = tab.context.new_page()
    other.goto(server.address)
    saved(other)
    other.keyboard.press("n")
    other.keyboard.press("a")
    saved(other)
    until(tab, "document.getElementById('status').textContent.startsWith('1 marked, 2 proposed')")


@pages
def test_a_mark_that_the_server_does_not_take_is_kept(served, tab):  # noqa: F811
    server, marks = served
    tab.goto(server.address)
    saved(tab)
    tab.route("**/answer", lambda route: route.abort())
    tab.keyboard.press("n")
    tab.keyboard.press("a")
    until(tab, "document.getElementById('trouble').textContent.startsWith('1 mark is not saved yet')")
    tab.unroute("**/answer")
    tab.reload()
    until(tab, "outbox.size == 0 && document.getElementById('status').textContent.startsWith('1 marked')")
    assert "confirmed" in marks.table()["status"].tolist()
    tab.trouble[:] = [text for text in tab.trouble if "ERR_FAILED" not in text]


@pages
@pytest.mark.parametrize("harm", ["cut off", "gone"])
def test_a_recording_that_breaks_is_named_on_the_page(night, tab, tmp_path, harm):  # noqa: F811
    samples, rate_hz = owl.read_audio(night / "night.wav")
    path = tmp_path / "broken.flac"
    owl.write_audio(path, samples, rate_hz)
    marks = MarkFile(tmp_path / "t.csv", [path])
    with owl.show.AnnotationServer(marks, labels=KINDS) as server:
        threading.Thread(target=server.serve, daemon=True).start()
        path.write_bytes(path.read_bytes()[:20_000]) if harm == "cut off" else path.unlink()
        tab.goto(server.address)
        until(tab, "document.getElementById('status').textContent.endsWith('all saved')")
        tab.keyboard.press("End")
        tab.keyboard.press("Shift+ArrowLeft")
        tab.keyboard.press("1")  # marks are taken all the same
        saved(tab)
        assert marks.table()["label"].tolist() == ["hum"]
        if harm == "gone":
            until(tab, "document.getElementById('trouble').textContent.includes('broken.flac')")
        server.stop()
    tab.trouble[:] = [text for text in tab.trouble if "404" not in text]


@pages
def test_a_day_of_sound_and_four_hundred_labels(tab, tmp_path):  # noqa: F811
    block = np.zeros(3600 * 2000, dtype=np.int16)
    block[::4000] = 20_000
    with soundfile.SoundFile(tmp_path / "day.flac", "w", 2000, 1, format="FLAC") as file:
        for _ in range(24):
            file.write(block)
    labels = [f'label {n} "quoted"' for n in range(398)] + [EVIL, ARABIC]
    marks = MarkFile(tmp_path / "t.csv", [tmp_path / "day.flac"])
    with owl.show.AnnotationServer(marks, labels=labels) as server:
        threading.Thread(target=server.serve, daemon=True).start()
        tab.goto(server.address)
        until(tab, "[...tiles.values()].some((tile) => tile.image)")
        tab.keyboard.press("End")
        until(tab, "view.to == 86400 && [...tiles.entries()].some(([key, tile]) => key.includes('/4') || tile.image)")
        tab.keyboard.press("Shift+ArrowLeft")
        tab.keyboard.press("Enter")
        tab.fill("#word", ARABIC)
        tab.keyboard.press("Enter")
        saved(tab)
        assert ARABIC in marks.table()["label"].tolist()
        server.stop()


def test_recordings_of_a_plan_are_read_where_they_are_complete(night, tmp_path):
    file = str(night / "night.wav")
    owl.write_clip_table(
        truth_of((file, 10.0, 14.0, "", "complete"), (file, 30.0, 33.0, "", "complete")), tmp_path / "t.csv"
    )
    stretches = survey_recordings([tmp_path / "t.csv"]).stretches
    assert all((s.start_s >= 10 and s.end_s <= 14) or (s.start_s >= 30 and s.end_s <= 33) for s in stretches)
    assert len(survey_recordings([night / "night.wav"]).stretches) > len(stretches)
