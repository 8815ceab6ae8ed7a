"""Many recordings through both engines, stores that outlive crashes, and sound that lies elsewhere."""

import http.server
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from types import SimpleNamespace

import fsspec
import numpy as np
import pandas as pd
import pytest
import soundfile

import barn_owl as owl
from barn_owl.archive import parquet_store, pieces, sqlite_store, tagging
from barn_owl.archive.hours import hours_table, recording_start
from barn_owl.archive.pieces import Piece, pieces_of, score_pieces
from barn_owl.audio import remote
from barn_owl.cli.main import run as call
from barn_owl.clips import write_clip_table
from barn_owl.errors import AudioError, EngineError, ModelError, OutputError, TableError
from barn_owl.parallel import cluster as cluster_room, each
from barn_owl.runs import train_several
from barn_owl.tag.scoring import CHUNK, chunk_s, score_recording
from helpers import RATE_HZ, few_made_up, make_up, small_plan, sound

pytestmark = pytest.mark.filterwarnings("ignore:.*:ResourceWarning", "ignore:.*:DeprecationWarning")


@pytest.fixture(scope="module")
def workers(tmp_path_factory):
    """A scheduler with two worker processes."""
    import dask
    from distributed import Client, LocalCluster
    from distributed.utils import get_mp_context

    # Restarting a worker takes three seconds, during which its results are unavailable. Its successor is forked from
    # a process with all imports.
    dask.config.set(
        {
            "distributed.scheduler.allowed-failures": 1,
            "distributed.comm.timeouts.connect": "3s",
            "distributed.worker.multiprocessing-method": "forkserver",
        }
    )
    get_mp_context().set_forkserver_preload(["distributed", "pandas", "barn_owl.runs", "barn_owl.tag"])
    folder = str(tmp_path_factory.mktemp("dask"))
    with LocalCluster(
        n_workers=2, threads_per_worker=1, dashboard_address=":0", local_directory=folder, silence_logs=50
    ) as made:
        with Client(made, set_as_default=False) as client:
            client.run(make_up, 24)
        yield made


@pytest.fixture(scope="module")
def months(tmp_path_factory):
    """Recordings of two recorders: minutes with true events, and a recording longer than a piece."""
    folder, rng = tmp_path_factory.mktemp("months"), np.random.default_rng(9)
    for name, seconds in (
        ("north_20260501_230000", 70), ("north_20260502_000000", 25), ("south_20260501_120000", 12),
        ("south_20260502_130000", 12),
    ):  # fmt: skip
        take = 0.01 * rng.standard_normal(seconds * RATE_HZ).astype(np.float32)
        for at in range(2, seconds - 2, 4):
            piece = sound(rng.choice(["hum", "hiss", "tick"]), rng, seconds=1.5)
            take[at * RATE_HZ : at * RATE_HZ + len(piece)] += piece
        soundfile.write(folder / f"{name}.flac", take.clip(-1, 1), RATE_HZ)
    return folder


@pytest.fixture
def short_pieces(monkeypatch):
    """Pieces of ten seconds, and worker processes from the first second on."""
    monkeypatch.setattr(pieces, "PIECE_S", 10.0)
    monkeypatch.setattr(tagging, "PIECE_S", 10.0)
    monkeypatch.setattr(tagging, "ALONE_S", 1.0)


def whole(model, files):
    return pd.concat([owl.tag_recording(model, file) for file in files], ignore_index=True)


def same(got, wanted):
    pd.testing.assert_frame_equal(got[list(wanted)], wanted, check_dtype=False)


def test_pieces_have_the_scores_of_the_whole_to_the_last_bit(runs, months, monkeypatch):
    monkeypatch.setattr(pieces, "PIECE_S", 10.0)
    file = str(months / "north_20260501_230000.flac")
    for classifier, lowest in (("cnn", 3), ("logistic", 1)):
        model = runs[classifier].model
        cut = pieces_of(model, Piece(path=file, name=file), owl.audio_info(file))
        assert len(cut) >= lowest
        assert [piece.chunk for piece in cut[1:]] == [piece.until for piece in cut[:-1]]
        said = [
            block
            for piece in cut
            for one in score_pieces([piece], model=model, decoding=None)
            for block in one.blocks
        ]
        plain = list(score_recording(model, file))
        assert [block.first for block in said] == [block.first for block in plain]
        for name in ("activity", "onsets"):
            joined, once = (np.concatenate([getattr(block, name) for block in blocks]) for blocks in (said, plain))
            np.testing.assert_array_equal(joined, once)


def test_pieces_of_a_recording_at_another_rate_find_the_same_events(runs, months, tmp_path, short_pieces):
    samples, _ = owl.read_audio(months / "north_20260501_230000.flac", rate_hz=44_100)
    soundfile.write(tmp_path / "take.wav", samples, 44_100)
    model, file = runs["cnn"].model, str(tmp_path / "take.wav")
    got = owl.tag_archive(model, [file], workers=1)
    assert len(got.events) > 5
    wanted = whole(model, [file])
    assert got.events["label"].tolist() == wanted["label"].tolist()
    np.testing.assert_allclose(got.events["start_s"], wanted["start_s"], atol=0.0011)  # a millisecond, rounded
    np.testing.assert_allclose(got.events["score"], wanted["score"], atol=1.1e-4)


def test_a_recording_that_breaks_off_within_a_piece_is_used_as_far_as_it_goes(runs, months, tmp_path, short_pieces):
    content = (months / "north_20260501_230000.flac").read_bytes()
    broken = tmp_path / "broken.flac"
    broken.write_bytes(content[: len(content) // 2])
    model = runs["cnn"].model
    got = owl.tag_archive(model, [broken], workers=2)
    same(got.events, whole(model, [str(broken)]))
    assert len(got.events) > 2


def test_both_engines_and_every_number_of_workers_find_the_same_events(runs, months, workers, tmp_path, short_pieces):
    model, files = runs["cnn"].model, owl.find_recordings([months])
    wanted = whole(model, files)
    for count in (1, 2):
        same(owl.tag_archive(model, files, workers=count).events, wanted)
    with owl.engine(workers.scheduler_address):
        got = owl.tag_archive(
            model, [*files, tmp_path / "gone.flac"], store=tmp_path / "kept", score_traces=tmp_path / "t"
        )
        again = owl.tag_archive(model, files, store=tmp_path / "kept")
    same(got.events, wanted)
    assert list(got.skipped) == [str(tmp_path / "gone.flac")]
    assert (again.kept, len(again.work)) == (files, 0)
    assert got.work["hours"].sum() == pytest.approx(119 / 3600, rel=0.05)
    assert set(got.work) == {"worker", "hours", "decode", "features", "network", "megabytes"}
    trace = owl.tag.read_trace(tmp_path / "t" / "north_20260501_230000.npz")
    same(owl.tag.tag_trace(model, trace), whole(model, files[:1]))


def test_work_on_clips_goes_to_the_cluster_too(clips, folder, workers, tmp_path, capsys, monkeypatch):
    monkeypatch.chdir(folder.parent)
    address = workers.scheduler_address
    requested = owl.clips.check_clip_table(clips)
    with owl.engine(address):
        with_cluster = (
            owl.check_clips(requested),
            owl.audio.facts_table(requested["file"])[0],
            owl.load_frames(requested, owl.FrontEnd())[0],
        )
    alone = (
        owl.check_clips(requested),
        owl.audio.facts_table(requested["file"])[0],
        owl.load_frames(requested, owl.FrontEnd())[0],
    )
    pd.testing.assert_frame_equal(with_cluster[0].findings, alone[0].findings)
    pd.testing.assert_frame_equal(with_cluster[1], alone[1])
    assert all(np.array_equal(a, b) for a, b in zip(with_cluster[2].parts, alone[2].parts, strict=True))
    # Names relative to the folder of the command are found there.
    assert call(["look", "clips", "--engine", address]) == 0
    assert "hiss      12" in capsys.readouterr().out


def test_seeds_trained_on_a_cluster_are_those_trained_here(few_clips, workers, tmp_path):
    plan = small_plan("logistic")
    with owl.engine(workers.scheduler_address):
        away = train_several(few_clips, tmp_path / "away", plan, seeds=2, ensemble=True)
    with few_made_up():
        here = train_several(few_clips, tmp_path / "here", plan, seeds=2, ensemble=True)
    pd.testing.assert_frame_equal(away.drop(columns="seconds"), here.drop(columns="seconds"))
    for name in ("seed-1", "."):
        own = [owl.load_model(tmp_path / place / name).classifier.state() for place in ("away", "here")]
        assert all(np.array_equal(own[0][key], own[1][key]) for key in own[1])


def test_a_search_goes_on_side_by_side_on_a_cluster(few_clips, workers, tmp_path, monkeypatch):
    monkeypatch.setattr("barn_owl.device.searching.FIRST", 3)
    small = {"cnn": {"size": "tiny", "kinds": ["2d"]}, "mixtures": {"count": 8}, "rehearsal": {"minutes": 0}}
    plan = owl.Plan(background=["still"], **small)
    with owl.engine(workers.scheduler_address):
        found = owl.device.search(
            few_clips, tmp_path / "found", owl.device.read_device("core-256k"), minutes=0.001, plan=plan
        )
    assert len(found.table) >= 1
    assert (tmp_path / "found" / "search.csv").is_file()


def test_workers_that_are_killed_cost_time_but_no_event(runs, months, workers, tmp_path, short_pieces):
    model, told = runs["cnn"].model, []
    files = [shutil.copy(path, tmp_path) for path in sorted(months.iterdir())]
    with owl.engine(workers.scheduler_address, warn=told.append):
        from distributed import Client

        with Client(workers.scheduler_address, set_as_default=False) as client:
            victim = next(iter(client.run(os.getpid).values()))
        timer = threading.Timer(0.3, os.kill, (victim, signal.SIGKILL))
        timer.start()
        got = owl.tag_archive(model, files, store=tmp_path / "kept.sqlite")
        deadline = time.monotonic() + 120
        while not any("lost the worker" in line for line in told) and time.monotonic() < deadline:
            list(each(len, ["a"] * 8, 1))
            time.sleep(0.2)
    same(got.events, whole(model, files))
    assert any("lost the worker" in line for line in told)


def test_a_scheduler_without_workers_is_told(monkeypatch):
    from distributed import LocalCluster

    monkeypatch.setattr(cluster_room, "CONNECT_S", 1)
    with (
        LocalCluster(n_workers=0, dashboard_address=":0", silence_logs=50) as empty,
        pytest.raises(EngineError, match="has no workers; start some with: dask worker"),
        owl.engine(empty.scheduler_address),
    ):
        pass


def test_a_scheduler_that_is_killed_is_told_and_the_work_goes_on_elsewhere(runs, months, tmp_path, short_pieces):
    dask, file = str(Path(sys.executable).with_name("dask")), tmp_path / "scheduler.json"
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    address = ["--host", "127.0.0.1", "--port", "0", "--no-dashboard"]
    scheduler = subprocess.Popen([dask, "scheduler", "--scheduler-file", str(file), *address], **quiet)
    while not file.exists():
        time.sleep(0.1)
    local = ["--local-directory", str(tmp_path), "--nthreads", "1", "--no-dashboard", "--no-nanny"]
    worker = subprocess.Popen([dask, "worker", "--scheduler-file", str(file), *local], **quiet)
    model, files, kept = runs["cnn"].model, owl.find_recordings([months]), tmp_path / "kept.sqlite"

    def kill(done_s, _total_s):
        if done_s > 20:
            scheduler.kill()

    def job():
        with owl.engine(str(file)):
            owl.tag_archive(model, files, store=kept, progress=kill)
            list(each(len, ["a"] * 50, 1))  # if all was done before it was noticed

    try:
        with pytest.raises(EngineError, match="went away"):
            job()
    finally:
        worker.kill()
        scheduler.kill()
        worker.wait()
        scheduler.wait()
    again = owl.tag_archive(model, files, store=kept)
    same(again.events, whole(model, files))


def test_work_that_kills_its_worker_is_given_up_and_said_so(workers, monkeypatch):
    def die(item):
        if item:
            os.kill(os.getpid(), signal.SIGKILL)
        return item

    with owl.engine(workers.scheduler_address):
        # Seven innocent items on dying workers, or in a bundle with the fatal item, are finished in the end.
        done = list(each(die, [0, 0, 0, 1, 0, 0, 0, 0], 1, at_once=2, lost=lambda item: f"lost {item}"))
        assert done == [0, 0, 0, "lost 1", 0, 0, 0, 0]
        monkeypatch.setattr(workers.scheduler, "allowed_failures", 0)  # as a new worker takes seconds to begin
        with pytest.raises(EngineError, match="worker after worker died while working on 1"):
            list(each(die, [1], 1))


def test_what_is_wrong_with_an_engine_is_told(monkeypatch, workers, capsys, runs, tmp_path):
    monkeypatch.setattr(cluster_room, "CONNECT_S", 1)
    with (
        pytest.raises(EngineError, match="no scheduler answers at tcp://127.0.0.1:9"),
        owl.engine("tcp://127.0.0.1:9"),
    ):
        pass
    with pytest.raises(EngineError, match="is not local, an address"), owl.engine("nowhere.json"):
        pass
    plain = cluster_room.version
    monkeypatch.setattr(cluster_room, "version", lambda name: "1.0" if name == "numpy" else plain(name))
    with pytest.raises(EngineError, match=r"has numpy .* there, 1.0 here"), owl.engine(workers.scheduler_address):
        pass
    assert call(["tag", str(runs["cnn"].folder), "x.wav", "-o", str(tmp_path / "e.csv"), "--engine", "no.json"]) == 1
    assert "scheduler's file" in capsys.readouterr().err


@pytest.mark.parametrize("ending", ["", ".sqlite"])
def test_a_store_holds_what_tagging_found_by_day_and_recorder(runs, months, tmp_path, capsys, ending):
    model, files, path = runs["cnn"].model, owl.find_recordings([months]), tmp_path / f"kept{ending}"
    got = owl.tag_archive(model, [*files, tmp_path / "gone.flac"], store=path)
    wanted = whole(model, files)
    same(got.events, wanted)
    assert got.counts()["events"].sum() == len(wanted)
    known = {Path(one.file).name: one for one in owl.archive.open_store(path).recordings()}
    assert {(one.day, one.recorder) for one in known.values() if not one.reason} == {
        ("2026-05-01", "north"), ("2026-05-02", "north"), ("2026-05-01", "south"), ("2026-05-02", "south")
    }  # fmt: skip
    assert "No such file" in known["gone.flac"].reason or "does not exist" in known["gone.flac"].reason
    day = owl.archive.read_store(path, day="2026-05-01")
    assert {Path(file).name[:14] for file in day["file"]} == {"north_20260501", "south_20260501"}
    one = owl.archive.read_store(path, recorder="south", day="2026-05-02")
    same(
        one.drop(columns=["file", "clock"]),
        wanted[wanted["file"] == files[3]].drop(columns="file").reset_index(drop=True),
    )
    hours = owl.archive.store_hours(path)
    starts, seconds = {f: recording_start(f) for f in files}, {f: owl.audio_info(f).duration_s for f in files}
    pd.testing.assert_frame_equal(hours, hours_table(wanted, starts, seconds), check_dtype=False)
    same(owl.read_events(path).drop(columns="file"), wanted.drop(columns="file"))
    assert (
        call(
            ["hours", str(path), "-o", str(tmp_path / f"h{ending}.csv"), "--events", str(tmp_path / f"e{ending}.csv")]
        )
        == 0
    )
    said = capsys.readouterr()
    assert "4 recordings" in said.out
    assert "failed: " in said.err
    assert len(owl.read_events(tmp_path / f"e{ending}.csv")) == len(wanted)
    page = tmp_path / f"r{ending}.html"
    assert call(["review", str(path), files[3], "--page", str(page), "--stretches", "0"]) == 0
    assert f"with {len(one)} items" in capsys.readouterr().out
    write_clip_table(wanted[wanted["file"] == files[3]].drop(columns="score"), tmp_path / "truth.csv", force=True)
    assert call(["score", str(path), str(tmp_path / "truth.csv"), "--json"]) == 0
    assert '"f1": 1.0' in capsys.readouterr().out
    # Failures are retried, renamed files are recognized.
    shutil.copy(files[2], tmp_path / "gone.flac")
    moved = shutil.copytree(months, tmp_path / "moved")
    again = owl.tag_archive(model, [*owl.find_recordings([moved]), tmp_path / "gone.flac"], store=path)
    assert (len(again.kept), again.skipped) == (5, {})
    assert [len(table) for _, table in again.events.groupby("file")] == [
        len(table)
        for _, table in pd.concat(
            [wanted.assign(file="m/" + wanted["file"]), wanted[wanted["file"] == files[2]]]
        ).groupby("file")
    ]


def test_other_programs_read_a_store_as_it_is(runs, months, tmp_path):
    import duckdb
    import polars as pl

    model, files = runs["cnn"].model, owl.find_recordings([months])
    got = owl.tag_archive(model, files, store=tmp_path / "kept")
    glob = str(tmp_path / "kept" / "model=*" / "**" / "*.parquet")
    by_day = got.events.assign(day=[Path(f).name.split("_")[1] for f in got.events["file"]]).groupby("day").size()
    found = duckdb.sql(
        f"SELECT day, count(*) FROM read_parquet('{glob}', hive_partitioning=true) GROUP BY day ORDER BY day"  # noqa: S608
    )
    assert [count for _, count in found.fetchall()] == by_day.tolist()
    assert pl.scan_parquet(glob, hive_partitioning=True).filter(
        pl.col("recorder") == "north"
    ).collect().height == int(got.events["file"].str.contains("north").sum())
    assert len(pd.read_parquet(tmp_path / "kept", filters=[("recorder", "==", "south")])) == int(
        got.events["file"].str.contains("south").sum()
    )


@pytest.mark.parametrize("ending", ["", ".sqlite"])
def test_two_runs_with_other_models_share_a_store_and_readers_must_say_which(runs, months, tmp_path, ending):
    files, path = owl.find_recordings([months])[2:], tmp_path / f"kept{ending}"
    jobs = [
        threading.Thread(
            target=owl.tag_archive, args=(runs[classifier].model, files), kwargs={"store": path, "workers": 1}
        )
        for classifier in ("cnn", "logistic")
    ]
    for job in jobs:
        job.start()
    for job in jobs:
        job.join()
    with pytest.raises(TableError, match="events of 2 models or settings"):
        owl.archive.read_store(path)
    known = tagging.model_fingerprint(runs["cnn"].model, runs["cnn"].model.decoding)[:12]
    same(owl.archive.read_store(path, model=known[:6]), whole(runs["cnn"].model, files))
    with pytest.raises(TableError, match="holds no events of zzz"):
        owl.archive.read_store(path, model="zzz")


@pytest.mark.parametrize("ending", ["", ".sqlite"])
def test_a_job_that_is_killed_within_a_recording_goes_on_there(
    runs, months, tmp_path, short_pieces, monkeypatch, ending
):
    model, path, file = runs["cnn"].model, tmp_path / f"kept{ending}", months / "north_20260501_230000.flac"
    seen, scored = [], tagging.score_pieces

    def stops(bundle, **options):
        seen.append(bundle[0].chunk)
        if len(seen) == 4:
            raise KeyboardInterrupt
        return scored(bundle, **options)

    monkeypatch.setattr(tagging, "score_pieces", stops)
    assert owl.tag_archive(model, [file], store=path, workers=1).stopped
    again = owl.tag_archive(model, [file], store=path, workers=1)
    assert seen[4] == seen[3]  # not from the beginning
    same(again.events, whole(model, [str(file)]))
    assert not list((tmp_path / "kept").glob("_unfinished/*"))


@pytest.mark.parametrize("ending", ["", ".sqlite"])
def test_a_recording_that_was_made_anew_takes_the_place_of_the_old_one(runs, months, tmp_path, ending, monkeypatch):
    names = (SimpleNamespace(hex=f"{number:012x}") for number in range(999, 0, -1))  # the later, the earlier by name
    monkeypatch.setattr(parquet_store, "uuid", SimpleNamespace(uuid4=lambda: next(names)))
    model, path, file = runs["cnn"].model, tmp_path / f"kept{ending}", tmp_path / "quay_20260501_120000.flac"
    shutil.copy(months / "south_20260501_120000.flac", file)
    owl.tag_archive(model, [file], store=path)
    shutil.copy(months / "north_20260502_000000.flac", file)
    again = owl.tag_archive(model, [file], store=path)
    assert again.kept == []
    wanted = whole(model, [str(file)])
    same(owl.archive.read_store(path, day="2026-05-01"), wanted)  # all that lies in the folder of that day
    same(again.events, wanted)
    assert owl.archive.store_hours(path)[sorted(set(wanted["label"]))].to_numpy().sum() == len(wanted)
    # The same with the start moved to a different day.
    start = datetime(2026, 6, 1, 12)
    os.utime(file)
    soundfile.write(file, owl.read_audio(months / "south_20260502_130000.flac")[0], RATE_HZ)
    owl.tag_archive(model, [file], store=path, starts={str(file): start})
    assert len(owl.archive.read_store(path, day="2026-05-01")) == 0
    same(owl.archive.read_store(path), whole(model, [str(file)]))


def test_events_that_somebody_took_out_of_a_store_are_found_again(runs, months, tmp_path):
    model, files = runs["cnn"].model, owl.find_recordings([months])[2:]
    first = owl.tag_archive(model, files, store=tmp_path / "kept")
    next((tmp_path / "kept").rglob("*.parquet")).unlink()
    again = owl.tag_archive(model, files, store=tmp_path / "kept")
    assert len(again.kept) == 1
    same(again.events, first.events)


def test_many_recordings_are_asked_for_by_name_a_few_at_a_time(runs, months, tmp_path, monkeypatch):
    monkeypatch.setattr(sqlite_store, "NAMES_PER_QUERY", 2)
    monkeypatch.setattr(parquet_store, "TOGETHER", 2)
    model, files = runs["cnn"].model, owl.find_recordings([months])
    wanted = whole(model, files)
    for ending in ("", ".sqlite"):
        got = owl.tag_archive(model, files, store=tmp_path / f"kept{ending}")
        same(got.events, wanted)
        same(got.events_of(files[2:3]), wanted[wanted["file"] == files[2]].reset_index(drop=True))
        assert got.counts().set_index("label")["events"].to_dict() == wanted["label"].value_counts().to_dict()


def test_damaged_and_unknown_stores_are_told(runs, months, tmp_path):
    model, files = runs["cnn"].model, owl.find_recordings([months])[2:3]
    owl.tag_archive(model, files, store=tmp_path / "kept")
    manifest = next((tmp_path / "kept" / "_manifest").iterdir())
    with manifest.open("a") as file:
        file.write('{"key": "cut off')
    assert owl.tag_archive(model, files, store=tmp_path / "kept").kept == files
    next((tmp_path / "kept").rglob("*.parquet")).write_bytes(b"PAR1 no")
    with pytest.raises(TableError, match="is damaged"):
        owl.archive.read_store(tmp_path / "kept")
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / "x").touch()
    with pytest.raises(OutputError, match="other things in it"):
        owl.archive.open_store(tmp_path / "other")
    (tmp_path / "text.sqlite").write_text("no database, but long enough to be treated as one" * 20)
    with pytest.raises(OutputError, match="cannot be used as a store"):
        owl.archive.open_store(tmp_path / "text.sqlite")
    with pytest.raises(TableError, match="does not exist; it should be a store of events"):
        owl.archive.read_store(tmp_path / "nowhere.sqlite")
    (tmp_path / "kept" / parquet_store.ABOUT).write_text('{"form": 99}')
    with pytest.raises(TableError, match="newer form"):
        owl.archive.open_store(tmp_path / "kept")
    with sqlite3.connect(tmp_path / "locked.sqlite") as file:
        file.execute("CREATE TABLE events (x)")
    with pytest.raises(OutputError, match="a database of something else"):
        owl.archive.open_store(tmp_path / "locked.sqlite")


def test_a_recording_that_changes_while_it_is_read_is_refused(runs, months, tmp_path, monkeypatch):
    file = tmp_path / "growing.flac"
    shutil.copy(months / "south_20260501_120000.flac", file)
    plain = pieces.score_recording

    def grows(*arguments, **options):
        yield from plain(*arguments, **options)
        with file.open("ab") as more:
            more.write(b"more")

    monkeypatch.setattr(pieces, "score_recording", grows)
    got = owl.tag_archive(runs["cnn"].model, [file], workers=1)
    assert "was changed while it was read" in got.skipped[str(file)]


def test_a_recording_that_changes_between_its_pieces_is_scored_anew(
    runs, months, tmp_path, monkeypatch, short_pieces
):
    file = tmp_path / "growing.flac"
    shutil.copy(months / "north_20260501_230000.flac", file)
    scored, done = tagging.score_pieces, []

    def changes(bundle, **options):
        done.append(bundle)
        if len(done) == 3:
            shutil.copy(months / "north_20260502_000000.flac", file)
        return scored(bundle, **options)

    monkeypatch.setattr(tagging, "score_pieces", changes)
    got = owl.tag_archive(runs["cnn"].model, [file], workers=1)
    same(got.events, whole(runs["cnn"].model, [str(file)]))


# Sound elsewhere


class _Ranges(http.server.SimpleHTTPRequestHandler):
    """Serves ranges of files, refuses some, and fails now and then."""

    protocol_version = "HTTP/1.1"

    def do_HEAD(self):
        self._answer(body=False)

    def do_GET(self):
        self._answer(body=True)

    def _answer(self, *, body):
        server, path = self.server, Path(self.translate_path(self.path))
        if "denied" in path.name:
            return self._plain(403)
        if not path.is_file():
            return self._plain(404)
        if body and server.failures:
            server.failures -= 1
            return self._plain(503)
        content, size = path.read_bytes(), path.stat().st_size
        requested = self.headers.get("Range")
        first, last = 0, size - 1
        if requested:
            a, b = requested.removeprefix("bytes=").split("-")
            first, last = int(a), min(int(b) if b else size - 1, size - 1)
        self.send_response(206 if requested else 200)
        self.send_header("Accept-Ranges", "bytes")
        self.send_header("Content-Length", str(last - first + 1))
        if requested:
            self.send_header("Content-Range", f"bytes {first}-{last}/{size}")
        self.end_headers()
        if body:
            server.given += last - first + 1
            if "stalls" in path.name:  # announces content, and sends nothing
                server.stalling.wait(20)
            self.wfile.write(content[first : last + 1])
        return None

    def _plain(self, status):
        self.send_response(status)
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, *_):
        pass


@contextmanager
def web(folder):
    """Serve a folder; yield the server and its address."""
    server = http.server.ThreadingHTTPServer(
        ("127.0.0.1", 0), lambda *arguments: _Ranges(*arguments, directory=str(folder))
    )
    server.given = server.failures = 0
    server.stalling = threading.Event()
    server.daemon_threads = True
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    try:
        yield server, f"http://127.0.0.1:{server.server_port}"
    finally:
        server.stalling.set()
        server.shutdown()
        thread.join()
        server.server_close()


def test_sound_on_a_web_server_is_read_in_ranges_and_through_failures(runs, months, tmp_path, monkeypatch):
    monkeypatch.setattr(remote, "RETRY_DELAYS_S", (0.01, 0.01, 0.01))
    long = np.tile(owl.read_audio(months / "south_20260501_120000.flac")[0], 40)
    soundfile.write(tmp_path / "long.wav", long, RATE_HZ)
    shutil.copy(months / "south_20260501_120000.flac", tmp_path / "denied.flac")
    shutil.copy(months / "south_20260502_130000.flac", tmp_path)
    with web(tmp_path) as (server, address):
        got, rate = owl.read_audio(f"{address}/long.wav", start_s=100.0, end_s=101.0)
        want, _ = owl.read_audio(tmp_path / "long.wav", start_s=100.0, end_s=101.0)
        np.testing.assert_array_equal(got, want)
        assert rate == RATE_HZ
        assert server.given < 0.1 * (tmp_path / "long.wav").stat().st_size
        server.failures = 2
        info = owl.audio_info(f"{address}/long.wav")
        assert info.samples == len(long)
        url, model = f"{address}/south_20260502_130000.flac", runs["cnn"].model
        archive_ = owl.tag_archive(
            model, [url, f"{address}/denied.flac", f"{address}/none.flac"], store=tmp_path / "k"
        )
        wanted = whole(model, [str(tmp_path / "south_20260502_130000.flac")])
        same(archive_.events.drop(columns="file"), wanted.drop(columns="file"))
        assert "access is denied" in archive_.skipped[f"{address}/denied.flac"]
        assert "no such file" in archive_.skipped[f"{address}/none.flac"]
        assert owl.tag_archive(model, [url], store=tmp_path / "k").kept == [url]
        monkeypatch.setattr(remote, "RETRY_DELAYS_S", (0.01,))
        with pytest.raises(AudioError, match="Cannot connect"):
            owl.audio_info("http://127.0.0.1:9/x.wav")
        server.failures = 99
        with pytest.raises(AudioError, match="cannot be read"):
            owl.read_audio(url)


def test_a_server_that_falls_silent_is_given_up_and_waiting_costs_nothing(months, tmp_path, monkeypatch):
    monkeypatch.setattr(remote, "RETRY_DELAYS_S", (0.01,))
    monkeypatch.setattr(remote, "STALL_S", 0.5)
    shutil.copy(months / "south_20260501_120000.flac", tmp_path / "stalls.flac")
    with web(tmp_path) as (server, address):
        begin = time.process_time()
        with pytest.raises(AudioError, match=r"stalls\.flac cannot be read.*silent for 0.5 s"):
            owl.read_audio(f"{address}/stalls.flac")
        assert time.process_time() - begin < 15  # of computing, which 20 s of waiting would be if it did not sleep
        assert not server.stalling.is_set()  # it never came


def test_folders_in_an_object_store_are_tagged_like_folders_here(runs, months, capsys, tmp_path, monkeypatch):
    monkeypatch.setattr(remote, "PROTOCOLS", ("memory",))
    system = fsspec.filesystem("memory")
    for path in months.iterdir():
        system.pipe(f"/quay/{path.name}", path.read_bytes())
    system.pipe("/quay/notes.txt", b"no sound")
    system.pipe("/broken/x.wav", b"RIFFxxxxWAVE nothing")
    found = owl.find_recordings(["memory://quay"])
    assert [Path(name).name for name in found] == sorted(path.name for path in months.iterdir())
    model = runs["cnn"].model
    here = whole(model, sorted(str(path) for path in months.iterdir()))
    same(owl.tag_archive(model, found).events.drop(columns="file"), here.drop(columns="file"))
    assert (
        "cannot be read as sound"
        in owl.tag_archive(model, ["memory://broken/x.wav"]).skipped["memory://broken/x.wav"]
    )
    with pytest.raises(TableError, match="holds no sound files"):
        owl.find_recordings(["memory://empty"])
    out = tmp_path / "away.csv"
    assert (
        call(["tag", str(runs["cnn"].folder), "memory://quay", "-o", str(out), "--store", str(tmp_path / "k")]) == 0
    )
    assert "4 of 4 recordings" in capsys.readouterr().out
    assert len(owl.read_events(out)) == len(here)
    with pytest.raises(AudioError, match="cannot be read"):
        owl.audio_info("nosuch://x/y.wav")


def test_what_a_machine_does_is_measured(runs, months, clips, capsys):
    file = str(months / "north_20260501_230000.flac")
    assert call(["tag", str(runs["cnn"].folder), file, "--measure", "--json"]) == 0
    import json

    told = json.loads(capsys.readouterr().out)
    assert [row["stage"] for row in told["stages"]] == ["disk", "decode", "features", "network"]
    assert sum(row["share"] for row in told["stages"]) == pytest.approx(1)
    assert [row["workers"] for row in told["workers"]] == [1, 2]
    assert all(row["real_time"] > 1 for row in told["workers"])
    assert "of the work" in told["advice"][0]
    table = owl.runs.measure_training(clips, small_plan("logistic"), most_workers=1)
    assert (table["training_s"] > 0).all()
    assert (table["cores"] > 0).all()
    assert call(["train", file]) == 2
    assert "--run" in capsys.readouterr().err


def test_a_runtime_finds_the_same_events_and_says_on_what(runs, months, capsys, tmp_path, caplog):
    model, file = runs["cnn"].model, str(months / "north_20260502_000000.flac")
    other = owl.device.on_runtime(model)
    assert other.classifier.device == "CPUExecutionProvider"
    assert "no accelerator" in caplog.text
    got, wanted = owl.tag_archive(other, [file], workers=1).events, whole(model, [file])
    assert got["label"].tolist() == wanted["label"].tolist()
    np.testing.assert_allclose(got["start_s"], wanted["start_s"], atol=0.002)
    np.testing.assert_allclose(got["score"], wanted["score"], atol=1e-3)
    assert call(["tag", str(runs["cnn"].folder), file, "-o", str(tmp_path / "e.csv"), "--runtime", "onnx"]) == 0
    assert "computed on CPUExecutionProvider, which was busy" in capsys.readouterr().out
    with pytest.raises(ModelError, match="logistic classifier cannot be exported"):
        owl.device.on_runtime(runs["logistic"].model)


def test_chunks_are_as_long_as_they_say(runs):
    model = runs["cnn"].model
    assert chunk_s(model) == pytest.approx(CHUNK * model.step_s)
