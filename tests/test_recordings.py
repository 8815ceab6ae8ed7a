"""Decoding of hand-made traces, stored traces, formats, archives, hours, event scores, adjusting."""

import itertools
import json
import logging
import shutil
import struct
import wave
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
import pandas as pd
import pytest
import soundfile
from hypothesis import given, settings, strategies as st

from barn_owl.archive import (
    find_recordings,
    hours_table,
    read_events,
    recording_start,
    tag_archive,
    with_clock,
    write_cues,
    write_events,
)
from barn_owl.audio import audio_info, read_audio, write_audio
from barn_owl.cli.main import run as call
from barn_owl.clips import clips_of_events, clips_of_false_alarms, read_clip_table, write_clip_table
from barn_owl.errors import AudioError, OutputError, PlanError, TableError
from barn_owl.evaluate import score_events, score_segments
from barn_owl.model import DecodingSettings, load_model
from barn_owl.runs import open_run, set_decoding, train
from barn_owl.show import adjusting_figure
from barn_owl.sound import synthetic_sound, unknown_sound
from barn_owl.tag import (
    EventDecoder,
    Tagger,
    adjust,
    compute_trace,
    read_trace,
    tag_recording,
    tag_samples,
    tag_trace,
)
from barn_owl.tag.adjusting import _Task, count_pairs, standard_error
from barn_owl.tag.smoothing import Smoother
from barn_owl.tag.tagging import event_table
from helpers import RATE_HZ, small_plan, sound
from test_tag import TIMING, hand_made


@pytest.fixture(scope="module")
def nights(tmp_path_factory):
    """Two recordings of half a minute with their truth table; an unknown sweep in each."""
    folder, rng, rows = tmp_path_factory.mktemp("nights"), np.random.default_rng(3), []
    for name in ("night_20260314_235950.wav", "night_20260315_120000.wav"):
        take = 0.01 * rng.standard_normal(30 * RATE_HZ).astype(np.float32)
        for at, kind in zip((3, 8, 13, 18, 23), rng.permutation(["hum", "hiss", "tick", "hum", "hiss"]), strict=True):
            piece = sound(kind, rng, seconds=1.5)
            take[at * RATE_HZ : at * RATE_HZ + len(piece)] += piece
            rows.append((str(folder / name), at, at + 1.5, kind, ""))
        write_audio(folder / name, take, RATE_HZ, encoding="FLOAT")
        rows.append((str(folder / name), 27.0, 28.0, "", "gull"))
    return pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label", "unknown"])


def spans(events):
    return [(event.start_s, event.end_s) for event in events]


def test_longest_pause_and_labels_of_their_own_on_hand_made_traces():
    trace = np.zeros(400)
    for first, last in ((50, 60), (100, 220), (250, 262)):
        trace[first:last] = 0.9
    all_three = hand_made(trace)
    assert len(all_three) == 3
    assert len(hand_made(trace, max_duration_s=2.0)) == 2
    pause = all_three[1].start_s - all_three[0].end_s + 0.1
    assert len(hand_made(trace, refractory_s=pause)) == 2
    assert DecodingSettings(labels={"hum": {"threshold": 0.95}}).of("hum").threshold == 0.95
    low = DecodingSettings(threshold=0.9, release_threshold=0.8).but(threshold=0.3)
    assert (
        low.release_threshold,
        DecodingSettings(threshold=0.2).release_threshold,
        low.but(threshold=0.5, release_threshold=0.1).release_threshold,
    ) == (0.3, 0.2, 0.1)
    with pytest.raises(PlanError, match=r"decoding.labels.gull: the model knows"):
        EventDecoder(["hum"], [], TIMING, DecodingSettings(labels={"gull": {"threshold": 0.9}}))
    with pytest.raises(PlanError, match=r"labels.hum.release_threshold must be at most threshold=0.5, got 0.95"):
        DecodingSettings(labels={"hum": {"release_threshold": 0.95}})


@given(rows=st.integers(1, 60), steps=st.integers(0, 12), cuts=st.lists(st.integers(0, 60), max_size=5))
@settings(max_examples=60, deadline=None)
def test_smoothing_is_a_mean_around_each_step_however_it_is_cut(rows, steps, cuts):
    scores = np.random.default_rng(rows).random((rows, 2)).astype(np.float32)
    smoother, edges = Smoother(steps), sorted({0, rows, *(cut for cut in cuts if cut < rows)})
    parts = [smoother.push(scores[a:b]) for a, b in itertools.pairwise(edges)]
    got = np.concatenate([*parts, smoother.finish(2)])
    half = steps // 2
    expected = [scores[max(0, n - half) : n + half + 1].mean(axis=0) for n in range(rows)]
    np.testing.assert_allclose(got, expected, rtol=1e-6)


@given(cuts=st.lists(st.integers(1, 30 * RATE_HZ), max_size=8))
@settings(max_examples=6, deadline=None)
def test_every_setting_gives_the_same_on_a_stream(runs, nights, cuts):
    model = runs["cnn"].model
    samples, _ = read_audio(nights["file"][0])
    decoding = DecodingSettings(threshold=0.4, smoothing_s=0.2, max_overlap=0.0, refractory_s=0.3, max_gap_s=0.1)
    tagger, found = Tagger(model, decoding), []
    for a, b in itertools.pairwise(sorted({0, len(samples), *cuts})):
        found += tagger.push(samples[a:b])
    found += tagger.finish()
    assert 1 < tagger.latency_s < 30
    table = tag_samples(model, samples, RATE_HZ, decoding=decoding)
    assert sorted(spans(found)) == sorted(zip(table["start_s"], table["end_s"], strict=True))
    ends = table.sort_values("start_s")
    assert (ends["start_s"].to_numpy()[1:] >= ends["end_s"].to_numpy()[:-1]).all()


@pytest.mark.parametrize("ending", [".npz", ".parquet"])
def test_a_kept_trace_gives_the_same_events(run, nights, tmp_path, ending):
    file = nights["file"][0]
    trace = compute_trace(run.model, file)
    trace.save(tmp_path / f"trace{ending}")
    again = read_trace(tmp_path / f"trace{ending}")
    for name in ("activity", "onsets"):
        np.testing.assert_array_equal(getattr(trace, name), getattr(again, name))
    decoding = run.model.decoding.but(threshold=0.6)
    pd.testing.assert_frame_equal(
        tag_trace(run.model, again, decoding=decoding), tag_recording(run.model, file, decoding=decoding)
    )
    assert len(again.table()) == len(again.activity)
    (tmp_path / "broken.npz").write_text("no")
    with pytest.raises(TableError, match="is not a trace"):
        read_trace(tmp_path / "broken.npz")


def test_made_up_sounds_are_of_many_kinds_and_those_of_a_rehearsal_of_others(rng):
    for make in (synthetic_sound, unknown_sound):
        activity = [make(rng, RATE_HZ) for _ in range(60)]
        assert all(np.isfinite(one).all() and np.abs(one).max() == pytest.approx(1) for one in activity)
        assert len({len(one) for one in activity}) > 50


def some_events(file="night.wav"):
    rows = [(0.5, 1.25, "bell & <buoy>", 0.9123), (3661.001, 3662.0, 'winch, the "old" one', 0.5)]
    return pd.DataFrame([(file, *row) for row in rows], columns=["file", "start_s", "end_s", "label", "score"])


@pytest.mark.parametrize("ending", [".csv", ".tsv", ".parquet", ".jsonl", ".vtt", ".srt"])
def test_every_format_gives_back_what_went_in(tmp_path, ending):
    events = some_events(str(tmp_path / "night.wav"))
    path = tmp_path / f"events{ending}"
    write_events(events, path)
    again = read_events(path, file=str(tmp_path / "night.wav"))
    pd.testing.assert_frame_equal(again[list(events)], events, check_dtype=False)
    with pytest.raises(OutputError, match="exists"):
        write_events(events, path)


def test_subtitles_are_what_players_read(tmp_path):
    write_events(some_events(), tmp_path / "a.vtt")
    write_events(some_events(), tmp_path / "a.srt")
    vtt, srt = (tmp_path / "a.vtt").read_text(), (tmp_path / "a.srt").read_text()
    assert vtt.startswith("WEBVTT\n\n")
    assert "01:01:01.001 --> 01:01:02.000\n" in vtt
    assert "bell &amp; &lt;buoy&gt; (0.9123)" in vtt
    assert srt.startswith("1\n00:00:00,500 --> 00:00:01,250\n")
    two = pd.concat([some_events(), some_events("other.wav")])
    with pytest.raises(OutputError, match="events of one recording"):
        write_events(two, tmp_path / "two.vtt")
    with pytest.raises(OutputError, match=r"written as \.csv"):
        write_events(two, tmp_path / "two.doc")


@given(
    st.lists(
        st.tuples(st.floats(0, 50), st.floats(0.01, 5), st.floats(0, 1)),
        min_size=1,
        max_size=6,
        unique_by=lambda row: round(row[0], 2),
    )
)
@settings(max_examples=40, deadline=None)
def test_subtitles_keep_any_times_to_the_millisecond(tmp_path_factory, rows):
    path = tmp_path_factory.mktemp("cues") / "x.srt"
    table = [("n.wav", a, a + b, "x", round(c, 4)) for a, b, c in rows]
    events = pd.DataFrame(table, columns=["file", "start_s", "end_s", "label", "score"])
    write_events(events, path)
    again = read_events(path, file="n.wav")
    np.testing.assert_allclose(again[["start_s", "end_s"]], events[["start_s", "end_s"]], atol=5.1e-4)
    np.testing.assert_allclose(again["score"], events["score"], atol=1e-9)


def test_cue_points_are_where_a_plain_parser_finds_them(tmp_path):
    take = (0.1 * np.sin(np.arange(5 * 8000) / 20)).astype(np.float32)
    soundfile.write(tmp_path / "take.flac", take, 8000)
    events = pd.DataFrame(
        {"file": "x", "start_s": [1.0, 2.5], "end_s": [1.5, 4.0], "label": ["bell", "söze"], "score": [0.9, 0.8]}
    )
    write_cues(tmp_path / "take.flac", events, tmp_path / "copy.wav")
    content = (tmp_path / "copy.wav").read_bytes()
    assert struct.unpack("<I", content[4:8])[0] == len(content) - 8
    at, chunks = 12, {}
    while at < len(content):
        name, size = struct.unpack("<4sI", content[at : at + 8])
        chunks[name] = content[at + 8 : at + 8 + size]
        at += 8 + size + size % 2
    assert at == len(content)
    points = [struct.unpack("<II4sIII", chunks[b"cue "][4 + 24 * n : 28 + 24 * n]) for n in range(2)]
    assert [(point[0], point[5]) for point in points] == [(1, 8000), (2, 20_000)]
    assert chunks[b"LIST"].count(b"labl") == chunks[b"LIST"].count(b"ltxt") == 2
    with wave.open(str(tmp_path / "copy.wav")) as plain:  # other readers still read it
        assert (plain.getnframes(), plain.getframerate()) == (40_000, 8000)
    np.testing.assert_array_equal(soundfile.read(tmp_path / "copy.wav")[0], soundfile.read(tmp_path / "take.flac")[0])
    again = read_events(tmp_path / "copy.wav")
    pd.testing.assert_frame_equal(again.drop(columns="file"), events.drop(columns="file"))


def test_an_archive_is_finished_once(runs, nights, tmp_path):
    model, files = runs["cnn"].model, list(nights["file"].unique())
    (tmp_path / "broken.wav").write_bytes(b"RIFF")
    first = tag_archive(model, [files[0], tmp_path / "broken.wav"], store=tmp_path / "kept")
    assert (first.done, list(first.skipped)) == ([files[0]], [str(tmp_path / "broken.wav")])
    both = tag_archive(model, files, store=tmp_path / "kept", workers=2)
    assert both.kept == [files[0]]
    plain = pd.concat([tag_recording(model, file) for file in files], ignore_index=True)
    pd.testing.assert_frame_equal(both.events[list(plain)], plain, check_dtype=False)
    other = tag_archive(model, files, store=tmp_path / "kept", decoding=model.decoding.but(threshold=0.51))
    assert other.kept == []
    assert tag_archive(model, files, store=tmp_path / "kept").kept == files


def test_recordings_are_found_in_folders_and_tables(nights, tmp_path):
    files = sorted(nights["file"].unique())
    write_clip_table(nights, tmp_path / "truth.csv")
    folder = tmp_path / "empty"
    folder.mkdir()
    found = find_recordings([tmp_path / "truth.csv", files[0]])
    assert [str(Path(file).resolve()) for file in found] == files
    assert find_recordings([Path(files[0]).parent]) == files
    with pytest.raises(TableError, match="holds no sound files"):
        find_recordings([folder])


@pytest.mark.parametrize(
    ("name", "expected"),
    [
        ("night_20260314_221500.flac", "2026-03-14T22:15:00"),
        ("2026-03-14T22-15Z.wav", "2026-03-14T22:15:00+00:00"),
        ("REC-2026.03.14 22.15.30+0200.wav", "2026-03-14T22:15:30+02:00"),
        ("20261742_221500.wav", None),
        ("take_0007.wav", None),
    ],
)
def test_names_tell_when_a_recording_began(name, expected):
    start = recording_start(name)
    assert (None if start is None else start.isoformat()) == expected


def test_hours_follow_the_clock_also_when_it_is_changed(tmp_path):
    # In Lisbon the night of 2026-03-29 has no hour 1: at 01:00 it is 02:00.
    start = recording_start("x_20260329_003000.wav", zone="Europe/Lisbon")
    events = pd.DataFrame({"file": "x", "start_s": [60.0, 1860.0], "end_s": [61.0, 1861.0], "label": "bell"})
    table = hours_table(events, {"x": start}, {"x": 7200.0})
    assert table.loc[[0, 1, 2], "bell"].tolist() == [1, 0, 1]
    assert table["recorded_s"].loc[[0, 1, 2, 3]].tolist() == [1800, 0, 3600, 1800]
    clock = with_clock(events, {"x": start})["clock"]
    assert clock[1] == "2026-03-29T02:01:00.000+01:00"
    assert with_clock(events, {"x": None})["clock"].tolist() == ["", ""]
    naive = datetime(2026, 1, 1, 23, 59, 59)
    late = hours_table(events, {"x": naive}, {"x": 100.0})
    assert late["recorded_s"].loc[[23, 0]].tolist() == [1, 99]
    assert start.tzinfo == ZoneInfo("Europe/Lisbon")
    with pytest.raises(TableError, match="is no time zone"):
        recording_start("x_20260329_003000.wav", zone="Sea/Harbor")


def test_a_broken_stretch_and_a_broken_end_are_told(run, nights, tmp_path, caplog):
    samples, _ = read_audio(nights["file"][0])
    spoiled = samples.copy()
    spoiled[RATE_HZ * 10 : RATE_HZ * 11] = np.nan
    soundfile.write(tmp_path / "nan.wav", spoiled, RATE_HZ, subtype="FLOAT")
    soundfile.write(tmp_path / "whole.flac", samples, RATE_HZ)
    content = (tmp_path / "whole.flac").read_bytes()
    (tmp_path / "cut.flac").write_bytes(content[: len(content) // 2])
    decoding = run.model.decoding.but(threshold=0.6)
    with caplog.at_level(logging.WARNING):
        with_gap = tag_recording(run.model, tmp_path / "nan.wav", decoding=decoding)
        half = tag_recording(run.model, tmp_path / "cut.flac", decoding=decoding)
    assert "not finite" in caplog.text
    assert "used as far as it goes" in caplog.text
    whole = tag_recording(run.model, tmp_path / "whole.flac", decoding=decoding)
    assert len(half) < len(whole)
    early = whole[whole["end_s"] < half["end_s"].max()]
    assert set(early["start_s"].round(1)) <= set(half["start_s"].round(1))
    assert len(with_gap) >= len(whole) - 2
    # Only what could be read counts as heard, now and when it is done already.
    files = [str(tmp_path / name) for name in ("cut.flac", "whole.flac")]
    for _ in range(2):
        archive = tag_archive(run.model, files, store=tmp_path / "kept.sqlite", workers=1)
        assert archive.processed_s[files[1]] == pytest.approx(30, abs=0.01)
        assert 10 < archive.processed_s[files[0]] < 20
    assert len(archive.kept) == 2


@pytest.mark.parametrize("gain_db", [-6, 6])
def test_events_stay_when_the_gain_changes(run, nights, gain_db):
    samples, _ = read_audio(nights["file"][0])
    decoding = run.model.decoding.but(threshold=0.5)
    plain = tag_samples(run.model, samples, RATE_HZ, decoding=decoding)
    changed = tag_samples(run.model, samples * np.float32(10 ** (gain_db / 20)), RATE_HZ, decoding=decoding)
    scores = score_events(changed.assign(file="x"), plain.assign(file="x"), collar_s=0.1)
    assert scores.f1 >= 0.8


def truth_and_events(shift=0.0):
    truth = pd.DataFrame(
        [("x", 1.0, 2.0, "a", ""), ("x", 5.0, 6.0, "b", ""), ("y", 1.0, 3.0, "a", ""), ("y", 8.0, 9.0, "", "gull")],
        columns=["file", "start_s", "end_s", "label", "unknown"],
    )
    found = [("x", 1.1, 2.6, "a"), ("x", 5.05, 6.0, "a"), ("y", 1.0, 3.1, "a"), ("y", 8.2, 8.6, "b")]
    return truth, pd.DataFrame(found, columns=["file", "start_s", "end_s", "label"]).assign(score=0.9)


def test_scores_of_events_worked_by_hand():
    scores = score_events(*reversed(truth_and_events()), seconds={"x": 1800, "y": 1800})
    assert (scores.precision, scores.recall, scores.false_alarms_per_hour) == (0.5, pytest.approx(2 / 3), 2.0)
    assert scores.unknown["raised"].tolist() == ["b"]
    assert scores.unknown_share == 1
    truth, events = truth_and_events()
    late = truth.assign(end_s=truth["end_s"].where(truth["unknown"] == "", 8.8))
    late = pd.concat([late, pd.DataFrame([{**truth.iloc[1], "file": "y", "start_s": 7.5, "end_s": 8.4}])])
    # Found too late to be right, but it is that one's event, not the gull's.
    assert score_events(events, late).unknown["raised"].tolist() == [""]
    assert scores.confusion().loc["b", "a"] == 1
    assert scores.errors.loc[0.5].round(3).tolist() == [0.05, 0.35, 0.3]
    assert scores.misses["label"].tolist() == ["b"]
    assert len(scores.false_alarms) == 2
    json.dumps(scores.as_dict(), allow_nan=False)
    strict = score_events(*reversed(truth_and_events()), offset_share=0.2, seconds={"x": 1800, "y": 1800})
    assert strict.matches["truth"].tolist() == [2]
    spread = scores.intervals()
    assert (spread["low"] <= spread["value"]).all()
    assert (spread["value"] <= spread["high"]).all()


def test_a_row_without_a_label_is_no_event_anywhere(runs, nights):
    truth = pd.DataFrame({"file": ["a.wav", "a.wav", "b.wav"], "start_s": [1.0, 3.0, np.nan],
                          "end_s": [2.0, 4.0, np.nan], "label": ["hum", "", ""]})  # fmt: skip
    events = truth.iloc[:2].assign(label=["hum", "hiss"])
    found = score_events(events, truth, seconds={"a.wav": 10.0})
    assert (len(found.truth), found.recall, found.precision) == (1, 1.0, 0.5)
    assert set(found.seconds) == {"a.wav", "b.wav"}  # nothing is in the latter, which was listened to
    assert score_events(truth, truth, seconds={"a.wav": 10.0}).f1 == 1
    assert set(score_segments(truth, truth)["true"]) == {1}
    model, blank = runs["cnn"].model, nights.assign(start_s=nights["start_s"].where(nights.index != 3))
    for refuses in (lambda: score_events(blank, blank), lambda: adjust(model, blank)):
        with pytest.raises(TableError, match="row 4: start_s and end_s must be given for an event"):
            refuses()


def test_segments_worked_by_hand():
    table = score_segments(*reversed(truth_and_events()), segment_s=1.0, seconds={"x": 10, "y": 10})
    # a: true in x 1, y 1 to 2; said in x 1 to 2, 5, y 1 to 3. b: true in x 5; said in y 8.
    assert table.loc["a", ["true", "detected", "hits"]].tolist() == [3, 6, 3]
    assert table.loc["b", ["true", "detected", "hits"]].tolist() == [1, 1, 0]
    assert table.loc["all", "precision"] == pytest.approx(3 / 7)


def test_rows_of_one_label_that_overlap_are_told(caplog):
    truth, found = truth_and_events()
    with caplog.at_level(logging.WARNING):
        score_events(found, pd.concat([truth, truth.iloc[:1].assign(start_s=1.5, end_s=2.5)], ignore_index=True))
    assert "a in x at 1.5 s begins before the one before it ends" in caplog.text


@given(st.lists(st.integers(0, 30), max_size=6), st.lists(st.integers(0, 30), max_size=6), st.integers(0, 6))
@settings(max_examples=100, deadline=None)
def test_counting_pairs_is_the_best_matching(true, found, collar):
    true, found = np.sort(np.array(true, dtype=float)), np.sort(np.array(found, dtype=float))
    short, long = sorted([true, found], key=len)
    best = max(
        (
            sum(abs(a - b) <= collar for a, b in zip(short, chosen, strict=True))
            for chosen in itertools.permutations(long, len(short))
        ),
        default=0,
    )
    assert count_pairs(true, found, collar) == best


def test_adjusting_finds_settings_that_are_better(runs, nights):
    model = runs["cnn"].model
    bad = DecodingSettings(threshold=1.0, release_threshold=0.2)
    found = adjust(replace(model, decoding=bad), nights)
    files = list(nights["file"].unique())
    before = score_events(
        pd.concat([tag_recording(model, f, decoding=bad) for f in files], ignore_index=True), nights
    )
    after = score_events(
        pd.concat([tag_recording(model, f, decoding=found.decoding) for f in files], ignore_index=True), nights
    )
    assert after.f1 == found.scores.f1 > max(before.f1, 0.6)
    assert found.cross_validated.index.tolist() == [f.rsplit("/", 1)[1] for f in files]
    on, alarms = found.curve["threshold"].to_numpy(), found.curve["false_alarms_per_hour"].to_numpy()
    assert (np.diff(on) > 0).all()
    assert alarms[0] >= alarms[-1]
    traces = [compute_trace(model, file) for file in files]
    seconds = {trace.file: trace.duration_s for trace in traces}
    for row in found.curve.iloc[::4].itertuples():
        own = found.decoding.model_copy(update={"threshold": row.threshold, "labels": {}})
        events = pd.concat([tag_trace(model, trace, decoding=own) for trace in traces], ignore_index=True)
        scores = score_events(events, nights, seconds=seconds)
        for name in ("f1", "precision", "recall", "false_alarms_per_hour"):
            assert getattr(row, name) == pytest.approx(getattr(scores, name), abs=1e-12)
    few = adjust(model, nights, goal="recall", false_alarms_per_hour=0.0)
    assert few.reached == (few.scores.false_alarms_per_hour == 0)
    with pytest.raises(TableError, match="says nothing about"):
        adjust(model, nights, ["other.wav"])
    with pytest.raises(TableError, match="has no event of"):
        adjust(model, nights.assign(label="gong"))


def test_annotated_recordings_become_training_clips(nights):
    cut = clips_of_events(nights, 2.0, copies=2, seed=4)
    assert len(cut) == 20
    assert ((cut["start_s"] <= cut["onset_s"] + 1e-9) & (cut["end_s"] >= cut["offset_s"] - 1e-9)).all()
    longer = clips_of_events(nights, 3.0, seed=4)
    np.testing.assert_allclose(longer["end_s"] - longer["start_s"], 3.0)
    places = (longer["onset_s"] - longer["start_s"]).round(3)
    assert places.nunique() > 5
    wrong = pd.DataFrame({"file": nights["file"][0], "start_s": [27.2, 3.1], "end_s": [27.6, 3.4], "label": "hum"})
    hard = clips_of_false_alarms(wrong, nights, 1.0, label="still")
    assert (len(hard), hard["label"][0], hard["confused_with"][0]) == (1, "still", "hum")
    assert hard["start_s"][0] == pytest.approx(26.9)
    with pytest.raises(TableError, match="no events with both label"):
        clips_of_events(nights.assign(label=""), 1.0)


def test_recordings_from_the_command_line(capsys, runs, nights, tmp_path):
    folder = shutil.copytree(runs["cnn"].folder, tmp_path / "run")
    truth, events, files = tmp_path / "truth.csv", tmp_path / "events.csv", list(nights["file"].unique())
    write_clip_table(nights, truth)
    more = [
        "--store",
        tmp_path / "kept",
        "--hours",
        tmp_path / "hours.png",
        "--excerpts",
        tmp_path / "cut",
        "--cues",
        tmp_path / "cues",
    ]
    arguments = ["tag", folder, *files, "-o", events, "--threshold", "0.6", "--workers", "1", *more]
    assert call([str(argument) for argument in arguments]) == 0
    table = read_clip_table(events)
    assert table["clock"].str.startswith("2026-03-1").all()
    assert len(list((tmp_path / "cut").rglob("*.wav"))) == len(table) > 4
    assert len(read_events(tmp_path / "cues" / "night_20260314_235950.wav")) > 1
    assert (tmp_path / "hours.png").is_file()
    capsys.readouterr()
    assert (
        call(["tag", str(folder), *files, "-o", str(tmp_path / "e.vtt"), "--score-traces", str(tmp_path / "t")]) == 1
    )
    assert "events of one recording" in capsys.readouterr().err
    assert (
        call(
            [
                "score",
                str(events),
                str(truth),
                "--figure",
                str(tmp_path / "s.png"),
                "-o",
                str(tmp_path / "w.csv"),
                "--segments-s",
                "1",
            ]
        )
        == 0
    )
    assert "unknown sounds" in capsys.readouterr().out
    assert call(["score", str(events), str(truth), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["hours"] == pytest.approx(1 / 60, rel=1e-3)
    assert (
        call(["adjust", str(folder), str(truth), "--figure", str(tmp_path / "a.png"), "--false-alarms", "200"]) == 0
    )
    own = load_model(folder)
    assert (
        own.decoding == adjust(own, read_clip_table(truth), goal="recall", false_alarms_per_hour=200).decoding
    )  # found again from where it is now: nothing is better
    assert "Stored the settings in" in capsys.readouterr().out
    cut = [
        "cut",
        str(truth),
        "--around-events",
        "--false-alarms",
        str(events),
        "--label",
        "still",
        "-o",
        str(tmp_path / "more.csv"),
    ]
    assert call(cut) == 0
    assert {"hum", "hiss", "tick"} <= set(read_clip_table(tmp_path / "more.csv")["label"])
    assert call(["tag", str(folder), str(tmp_path / "none"), "-o", str(tmp_path / "n.csv")]) == 2


def test_a_recording_shorter_than_a_window_is_tagged_and_nothing_is_refused(run, tmp_path, caplog):
    write_audio(tmp_path / "short.wav", 0.1 * np.ones(2000, np.float32), RATE_HZ)
    assert list(tag_recording(run.model, tmp_path / "short.wav")) == ["file", "start_s", "end_s", "label", "score"]
    write_audio(tmp_path / "tiny.wav", 0.1 * np.ones(100, np.float32), RATE_HZ)
    with caplog.at_level(logging.WARNING):
        assert len(tag_recording(run.model, tmp_path / "tiny.wav")) <= 1
    assert "tiny.wav: is shorter than a frame (32 ms); filled up with silence" in caplog.text


@pytest.fixture(scope="module")
def busy_night(tmp_path_factory):
    """A recording of a minute with twelve events of a label and four of a second label, some of them faint."""
    path, rng, rows = tmp_path_factory.mktemp("busy") / "busy.wav", np.random.default_rng(8), []
    take = 0.01 * rng.standard_normal(66 * RATE_HZ).astype(np.float32)
    for number in range(16):
        kind, at = ("hiss" if number % 4 else "hum"), 1 + 4 * number
        piece = sound(kind, rng, seconds=1.2) * np.float32(1.0 if number % 3 else 0.15)
        take[at * RATE_HZ : at * RATE_HZ + len(piece)] += piece
        rows.append((str(path), at, at + 1.2, kind))
    write_audio(path, take, RATE_HZ, encoding="FLOAT")
    return pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label"])


def test_a_label_with_many_events_may_get_its_own_threshold_and_one_recording_is_cut(runs, busy_night):
    found = adjust(runs["cnn"].model, busy_night)
    assert found.cross_validated.index.tolist() == ["0 to 16 s", "16 to 33 s", "33 to 50 s", "50 to 66 s"]
    assert found.scores.f1 >= 0.65
    assert set(found.decoding.labels) <= {"hiss"}
    assert found._repr_html_().count("<table") == 2
    axes = adjusting_figure(found).axes[0]
    ends = [list(map(float, text.get_text().split(" to "))) for text in axes.texts]
    covered = [any(own[-1] <= on <= own[0] for own in ends) for on in found.curve["threshold"]]
    assert all(covered)
    assert len({text.xy for text in axes.texts}) == len(axes.texts)
    unnamed = busy_night.head(1).assign(start_s=63.0, end_s=64.0, label="")
    plain = adjust(runs["cnn"].model, pd.concat([busy_night, unnamed], ignore_index=True).assign(unknown=""))
    assert plain.decoding == found.decoding
    assert plain.scores.f1 == found.scores.f1


def test_an_onset_threshold_is_lowered_only_for_more_than_chance(runs, busy_night):
    model = runs["cnn"].model
    own = [replace(model, decoding=DecodingSettings(threshold=on)) for on in (0.5, 0.995)]
    usual, strict = (adjust(one, busy_night) for one in own)
    assert usual.decoding.threshold >= 0.5
    assert strict.decoding.threshold < 0.995
    assert strict.scores.f1 > score_events(tag_recording(own[1], busy_night["file"][0]), busy_night).f1 + 0.1


def test_what_is_as_good_by_chance_differs_least_from_the_model(runs, busy_night, monkeypatch):
    model = runs["cnn"].model
    own = model.decoding
    task = _Task(model, [compute_trace(model, busy_night["file"][0])], busy_night, "f1", 1.0, 0.2, by_label=True)
    parts = task.whole()
    chance = standard_error(0.8, sum(task._true_events(parts).values()))
    # What each change adds, in standard errors; together, those that are taken back may cost one.
    adds = {"smoothing_s": 0.3, "max_gap_s": 0.6, "retrigger_threshold": 0.5, "threshold": 2.0}
    found = own.but(smoothing_s=0.2, max_gap_s=0.4, retrigger_threshold=1.0, threshold=0.7)

    def worth(settings, _):
        return 0.8 - chance * sum(lost for key, lost in adds.items() if getattr(settings, key) == getattr(own, key))

    monkeypatch.setattr(task, "worth", worth)
    assert task._least_changed(found, parts) == own.but(max_gap_s=0.4, threshold=0.7)
    assert task._least_changed(own, parts) == own
    # Where the highest recall is wanted, thresholds stay as low as that takes.
    assert adjust(model, busy_night, goal="recall", false_alarms_per_hour=1e6).decoding.threshold <= own.threshold


def test_adjusting_to_events_never_asks_for_more_confidence(runs, busy_night):
    model = replace(runs["cnn"].model, decoding=DecodingSettings(min_known_probability=0.5))
    assert adjust(model, busy_night).decoding.min_known_probability <= 0.5


def test_own_settings_stay_unless_others_win_by_more_than_chance(runs, busy_night, monkeypatch):
    model = runs["cnn"].model
    task = _Task(model, [compute_trace(model, busy_night["file"][0])], busy_night, "f1", 1.0, 0.2, by_label=True)
    chance = standard_error(0.7, len(busy_night))
    for more, is_better in ((1.1, True), (0.9, False), (-1.0, False)):
        left_out = iter([0.7, 0.7 + more * chance])  # the model's own settings come first
        monkeypatch.setattr(task, "_without_test", lambda _, left_out=left_out: next(left_out))
        assert task.is_significantly_better([model.decoding] * 4) is is_better


def test_what_adjusting_keeps_is_what_it_says(runs, busy_night):
    model = runs["cnn"].model
    found = adjust(model, busy_night)
    again = adjust(replace(model, decoding=found.decoding), busy_night)
    assert again.kept  # nothing is better than what was found, but by chance
    assert again.decoding == found.decoding
    assert again.scores.f1 == found.scores.f1
    assert again.before.index.tolist() == again.cross_validated.index.tolist() == found.before.index.tolist()
    parts = [(float(first), float(last)) for first, last in (name.split(" to ") for name in
             (index.removesuffix(" s") for index in again.before.index))]  # fmt: skip
    assert parts[0][0] == 0
    assert parts[-1][1] == 66
    never = replace(model, decoding=DecodingSettings(threshold=1.0, release_threshold=0.2))
    rescued = adjust(never, busy_night)
    assert not rescued.kept
    assert (rescued.before["recall"] < rescued.cross_validated["recall"]).any()
    # Who asks for the best recall gets other settings, whatever those of before were worth.
    assert not adjust(model, busy_night, goal="recall", false_alarms_per_hour=1e6).kept


def test_adjusting_can_be_undone(capsys, runs, tmp_path):
    shutil.copytree(runs["cnn"].folder, tmp_path / "run")
    path = str(tmp_path / "run")
    assert call(["adjust", path, "--undo"]) == 2
    assert "was not adjusted" in capsys.readouterr().err
    before = load_model(path)
    set_decoding(path, before.decoding.but(threshold=0.9))
    assert call(["adjust", path, "--undo"]) == 0
    assert "Restored the previous settings" in capsys.readouterr().out
    after = load_model(path)
    assert (after.decoding, after.previous_decoding.threshold) == (before.decoding, 0.9)
    assert open_run(path).plan.decoding == before.decoding
    assert call(["adjust", path]) == 2
    assert "Missing argument 'TRUTH'" in capsys.readouterr().err


@pytest.mark.parametrize("gain_db", [-60, -20, 20])
def test_what_a_network_says_does_not_depend_on_the_gain(runs, busy_night, tmp_path, gain_db):
    model = runs["cnn"].model
    samples, rate_hz = read_audio(busy_night["file"][0])
    write_audio(tmp_path / "other.wav", samples * np.float32(10 ** (gain_db / 20)), rate_hz, encoding="FLOAT")
    as_it_is, other = compute_trace(model, busy_night["file"][0]), compute_trace(model, tmp_path / "other.wav")
    # At -60 dB the floor of the levels adds a little to the quietest bands; one of -100 dB would change scores by 1.
    np.testing.assert_allclose(other.activity, as_it_is.activity, atol=0.02)
    np.testing.assert_allclose(other.onsets, as_it_is.onsets, atol=0.02)


def test_settings_that_contradict_each_other_are_never_tried(runs, busy_night):
    task = _Task(runs["cnn"].model, [], busy_night, "f1", 1.0, 0.2, by_label=True)
    settings = DecodingSettings(threshold=0.5, release_threshold=0.3)
    assert task._with(settings, threshold=0.2) is None
    assert task._with(settings, labels={"hum": {"threshold": 0.2}}) is None
    assert task._with(settings, release_threshold=0.5).release_threshold == 0.5


def test_ctrl_c_in_an_archive_keeps_what_is_finished(runs, nights, tmp_path, monkeypatch):
    from barn_owl.archive import pieces, tagging

    files = list(nights["file"].unique())

    def score(bundle, **options):
        if bundle[0].path == files[1]:
            raise KeyboardInterrupt
        return pieces.score_pieces(bundle, **options)

    monkeypatch.setattr(tagging, "score_pieces", score)
    told = []
    got = tag_archive(
        runs["cnn"].model, files, workers=1, store=tmp_path / "kept", progress=lambda *done: told.append(done)
    )
    lengths = [audio_info(file).duration_s for file in files]
    assert (got.stopped, got.done) == (True, files[:1])
    assert told[-1] == pytest.approx((lengths[0], sum(lengths)), abs=0.05)  # whole steps
    monkeypatch.undo()
    assert tag_archive(runs["cnn"].model, files, store=tmp_path / "kept").kept == files[:1]


def test_a_recording_without_events_is_kept_too_and_one_that_is_gone_is_told(runs, tmp_path):
    write_audio(tmp_path / "still.wav", np.full(5 * RATE_HZ, 1e-4, np.float32), RATE_HZ)
    model, still = runs["cnn"].model, str(tmp_path / "still.wav")
    for kept in ([], [still]):
        got = tag_archive(model, [still, tmp_path / "gone.wav"], store=tmp_path / "kept")
        assert (got.done, got.kept, len(got.events)) == ([still], kept, 0)
        assert "No such file" in got.skipped[str(tmp_path / "gone.wav")]
    write_clip_table(pd.DataFrame({"file": ["a"], "label": ["x"]}), tmp_path / "t.csv")
    assert [Path(path).name for path in find_recordings([tmp_path / "t.csv"])] == ["a"]
    (tmp_path / "other.csv").write_text("name\nx\n")
    with pytest.raises(TableError, match="no column 'file'"):
        find_recordings([tmp_path / "other.csv"])


def test_an_hour_of_silence_and_eight_channels_are_tagged(runs, tmp_path):
    model = runs["cnn"].model
    with soundfile.SoundFile(tmp_path / "hour.flac", "w", 8000, 1) as file:
        for _ in range(60):
            file.write(np.zeros(60 * 8000, np.float32))
    assert len(tag_recording(model, tmp_path / "hour.flac")) == 0
    rng = np.random.default_rng(5)
    wide = 0.01 * rng.standard_normal((6 * RATE_HZ, 8)).astype(np.float32)
    wide[RATE_HZ : RATE_HZ + 24_000] += sound("hum", rng, seconds=1.5)[:, None]
    soundfile.write(tmp_path / "wide.wav", wide, RATE_HZ)
    found = tag_recording(model, tmp_path / "wide.wav", decoding=model.decoding.but(threshold=0.6))
    assert "hum" in found["label"].tolist()


def test_formats_refuse_what_is_none(tmp_path):
    (tmp_path / "x.jsonl").write_text("{no\n")
    with pytest.raises(TableError, match="cannot be read as events"):
        read_events(tmp_path / "x.jsonl")
    (tmp_path / "x.wav").write_bytes(b"hello, this is no sound")
    with pytest.raises(TableError, match="is not a WAV file"):
        read_events(tmp_path / "x.wav")
    soundfile.write(tmp_path / "plain.wav", np.zeros(100), 8000)
    assert len(read_events(tmp_path / "plain.wav")) == 0
    (tmp_path / "bare.vtt").write_text("WEBVTT\n\n00:01.000 --> 00:02.500\nbell\n")  # hours may be left out
    bare = read_events(tmp_path / "bare.vtt", file="n.wav")
    assert bare.loc[0, ["file", "start_s", "end_s", "label"]].tolist() == ["n.wav", 1.0, 2.5, "bell"]
    with pytest.raises(AudioError, match="does not exist"):
        write_cues(tmp_path / "gone.wav", some_events(), tmp_path / "y.wav")


@pytest.mark.parametrize("chunk", ["bext", "iXML"])
def test_recorders_say_in_the_file_when_they_began(chunk, tmp_path):
    if chunk == "bext":
        content = bytes(320) + b"2026-03-1422:15:00" + bytes(264)
    else:
        date = "<BWF_ORIGINATION_DATE>2026-03-14</BWF_ORIGINATION_DATE>"
        xml = f"<BWFXML><BEXT>{date}<BWF_ORIGINATION_TIME>22-15-00</BWF_ORIGINATION_TIME></BEXT></BWFXML>"
        content = xml.encode() + b"\0" * (len(xml) % 2)
    write_audio(tmp_path / "take.wav", np.zeros(RATE_HZ, np.float32), RATE_HZ)
    plain = (tmp_path / "take.wav").read_bytes()
    made = plain[:12] + chunk.encode() + struct.pack("<I", len(content)) + content + plain[12:]
    (tmp_path / "take.wav").write_bytes(made)
    assert recording_start(tmp_path / "take.wav") == datetime(2026, 3, 14, 22, 15)
    assert str(recording_start(tmp_path / "take.wav", zone="Europe/Lisbon")) == "2026-03-14 22:15:00+00:00"
    for cut in (13, 30, 60):
        (tmp_path / "broken.wav").write_bytes(made[:cut])
        assert recording_start(tmp_path / "broken.wav") is None
    bomb = b"<!DOCTYPE x [<!ENTITY a 'aaaa'>]><x>&a;</x>"
    (tmp_path / "bomb.wav").write_bytes(plain[:12] + b"iXML" + struct.pack("<I", len(bomb)) + bomb + plain[12:])
    assert recording_start(tmp_path / "bomb.wav") is None


@pytest.mark.parametrize("ending", [".csv", ".tsv", ".jsonl"])
def test_a_table_without_events_is_a_table_of_events(ending, capsys, nights, tmp_path):
    write_clip_table(nights, tmp_path / "truth.csv")
    write_events(event_table([], "", 1.0), tmp_path / f"none{ending}")
    assert call(["score", str(tmp_path / f"none{ending}"), str(tmp_path / "truth.csv")]) == 0
    assert "recall 0: none of 10 events detected" in capsys.readouterr().out
    around = ["cut", str(tmp_path / "truth.csv"), "--around-events", "-o", str(tmp_path / "more.csv"), "--label", "x"]
    assert call([*around, "--false-alarms", str(tmp_path / f"none{ending}")]) == 0


@pytest.mark.parametrize("subtype", ["PCM_24", "FLOAT"])
def test_copies_with_cue_points_lose_nothing_of_what_the_recording_holds(subtype, tmp_path, rng):
    take = (0.1 * rng.standard_normal(RATE_HZ)).astype(np.float32)
    soundfile.write(tmp_path / "take.wav", take, RATE_HZ, subtype=subtype)
    write_cues(tmp_path / "take.wav", some_events().assign(start_s=0.1, end_s=0.2), tmp_path / "copy.wav")
    assert soundfile.info(tmp_path / "copy.wav").subtype == subtype
    np.testing.assert_array_equal(soundfile.read(tmp_path / "copy.wav")[0], soundfile.read(tmp_path / "take.wav")[0])


def test_decoding_settings_of_the_plan_stay_where_it_says_so(clips, tmp_path):
    decoding = {"threshold": 0.7, "release_threshold": 0.1, "labels": {"hum": {"threshold": 0.9}}}
    plan = small_plan("logistic", decoding=decoding, rehearsal={"minutes": 0.4, "decide": False})
    run = train(clips, tmp_path / "run", plan)
    assert run.model.decoding == plan.decoding
    assert run.expectation["true_events"] > 3
    with pytest.raises(PlanError, match="decoding.labels: no clip is labeled 'gong'"):
        train(clips, tmp_path / "other", small_plan("logistic", decoding={"labels": {"gong": {"threshold": 0.9}}}))


def test_mistakes_of_a_recording_that_is_not_at_hand_are_still_counted(capsys, runs, nights, tmp_path):
    gone = nights.assign(file=str(tmp_path / "gone.wav"))
    found = gone[gone["label"] != ""].head(3).drop(columns="unknown").assign(score=0.9)
    found.loc[found.index[0], "start_s"] += 0.5
    write_clip_table(gone, tmp_path / "truth.csv")
    write_events(found, tmp_path / "found.csv")
    figure = tmp_path / "score.png"
    assert call(["score", str(tmp_path / "found.csv"), str(tmp_path / "truth.csv"), "--figure", str(figure)]) == 0
    assert figure.is_file()
    assert "is not available" in capsys.readouterr().err


def test_traces_are_written_once_where_recordings_are_kept(capsys, runs, nights, tmp_path):
    folder, file = str(runs["cnn"].folder), nights["file"][0]
    command = ["tag", folder, file, "--store", str(tmp_path / "kept"), "-o"]
    assert call([*command, str(tmp_path / "plain.csv")]) == 0
    assert call([*command, str(tmp_path / "traced.csv"), "--score-traces", str(tmp_path / "t")]) == 0
    assert "done before" not in capsys.readouterr().out
    trace = tmp_path / "t" / f"{Path(file).stem}.npz"
    assert len(tag_trace(runs["cnn"].model, read_trace(trace))) == len(read_events(tmp_path / "traced.csv"))
    assert call([*command, str(tmp_path / "again.csv"), "--score-traces", str(tmp_path / "t")]) == 0
    assert "skipping 1 recordings that are in the store" in capsys.readouterr().out
    assert (tmp_path / "again.csv").read_text() == (tmp_path / "plain.csv").read_text()


def test_options_of_tagging_that_do_not_go_together_are_refused(capsys, runs, nights, tmp_path):
    folder, file = str(runs["cnn"].folder), nights["file"][0]
    (tmp_path / "a").mkdir()
    shutil.copy(file, tmp_path / "a" / Path(file).name)
    both = [
        file,
        str(tmp_path / "a" / Path(file).name),
        "-o",
        str(tmp_path / "two.csv"),
        "--cues",
        str(tmp_path / "c"),
    ]
    assert call(["tag", folder, *both]) == 1
    assert "recordings of the same name" in capsys.readouterr().err
    shutil.copy(file, tmp_path / "take.wav")
    nameless = [str(tmp_path / "take.wav"), "-o", str(tmp_path / "n.csv"), "--hours", str(tmp_path / "h.csv")]
    assert call(["tag", folder, *nameless]) == 2
    assert "take.wav has none" in capsys.readouterr().err
    assert not (tmp_path / "n.csv").exists()
    (tmp_path / "begins.csv").write_text("file,begins\ntake.wav,2026-03-14T22:15:00\n")
    assert call(["tag", folder, *nameless, "--start-times", str(tmp_path / "begins.csv")]) == 0
    assert pd.read_csv(tmp_path / "h.csv").set_index("hour")["recorded_s"][22] == pytest.approx(30)
    for wrong, why in (("file,label\nt.wav,x\n", "has no column 'begins'"), ("file,begins\nt.wav,noon\n", "row 1")):
        (tmp_path / "begins.csv").write_text(wrong)
        assert call(["tag", folder, *nameless, "--start-times", str(tmp_path / "begins.csv"), "--force"]) == 2
        assert why in capsys.readouterr().err
    assert call(["adjust", folder, str(tmp_path / "n.csv"), "--dry-run", "--quiet"]) in (0, 2)
