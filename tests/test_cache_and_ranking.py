import json
import logging
import subprocess
import sys
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
import scipy

from barn_owl.audio import Excerpt
from barn_owl.clips import load_frames
from barn_owl.errors import OutputError, TableError
from barn_owl.features import FrontEnd, frame_table, principal_map, rank_features, read_features, write_features
from barn_owl.features.cache import FrameCache
from barn_owl.features.ranking import class_areas, f_statistic, mutual_information
from barn_owl.runs import Work, train
from helpers import assert_close, small_plan

FRONT_END = FrontEnd(bands=20)


def _never(*_arguments, **_options):
    pytest.fail("computed again")


def test_the_second_time_nothing_is_computed_and_the_frames_are_the_same(clips, tmp_path, monkeypatch):
    plain, _, _ = load_frames(clips, FRONT_END)
    first, kept, _ = load_frames(clips, FRONT_END, cache=tmp_path)
    monkeypatch.setattr("barn_owl.sound.uniform.read_audio", _never)
    second, again, _ = load_frames(clips, FRONT_END, cache=tmp_path)
    for a, b, c in zip(plain.parts, first.parts, second.parts, strict=True):
        np.testing.assert_array_equal(a, b)
        np.testing.assert_array_equal(a, c)
    assert isinstance(second[0].base, np.memmap)
    pd.testing.assert_frame_equal(kept, again)


def test_other_front_ends_excerpts_and_changed_files_are_computed_anew(clips, tmp_path):
    few = clips.head(3).copy()
    load_frames(few, FRONT_END, cache=tmp_path)
    assert len(FrameCache(tmp_path, FRONT_END)) == 3
    assert len(FrameCache(tmp_path, FrontEnd(bands=21))) == 0
    few["start_s"], few["end_s"] = 0.2, 0.8
    load_frames(few, FRONT_END, cache=tmp_path)
    store = FrameCache(tmp_path, FRONT_END)
    assert len(store) == 6
    moved = tmp_path / "moved.wav"
    moved.write_bytes(Path(few["file"][0]).read_bytes())
    assert store.find(Excerpt(str(moved))) is not None  # identified by its content
    moved.write_bytes(moved.read_bytes() + b"x")
    assert store.find(Excerpt(str(moved))) is None


FILL = """
import sys, numpy as np, pandas as pd
from barn_owl.clips import load_frames
from barn_owl.features import FrontEnd
table = pd.DataFrame({"file": sys.argv[2:], "start_s": np.nan, "end_s": np.nan, "label": "x"})
load_frames(table, FrontEnd(bands=20), cache=sys.argv[1])
"""


def test_two_processes_may_fill_it_at_once(clips, tmp_path):
    files = clips["file"].tolist()
    both = [
        subprocess.Popen([sys.executable, "-c", FILL, str(tmp_path), *part]) for part in (files[:16], files[8:24])
    ]
    assert [process.wait(timeout=60) for process in both] == [0, 0]
    store = FrameCache(tmp_path, FRONT_END)
    plain, _, _ = load_frames(clips.head(24), FRONT_END)
    for file, frames in zip(files[:24], plain.parts, strict=True):
        np.testing.assert_array_equal(store.find(Excerpt(file)), frames)


def test_a_damaged_or_forbidden_cache_is_told_and_done_without(clips, tmp_path, caplog):
    few = clips.head(4)
    plain, _, _ = load_frames(few, FRONT_END)
    load_frames(few, FRONT_END, cache=tmp_path)
    (data,) = tmp_path.rglob("*.f32")
    data.write_bytes(data.read_bytes()[:-400])
    with caplog.at_level(logging.WARNING):
        again, _, _ = load_frames(few, FRONT_END, cache=tmp_path)
    assert "is damaged and skipped" in caplog.text
    np.testing.assert_array_equal(again[2], plain[2])
    next(tmp_path.rglob("*.json")).write_text("{")
    load_frames(few, FRONT_END, cache=tmp_path)
    caplog.clear()
    (tmp_path / "file").write_text("")
    without, _, _ = load_frames(few, FRONT_END, cache=tmp_path / "file")
    assert "cannot be used" in caplog.text
    np.testing.assert_array_equal(without[2], plain[2])


def test_a_disk_that_is_full_keeps_nothing_half(clips, tmp_path, monkeypatch, caplog):
    def full(self, excerpt, frames, sha256):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("barn_owl.features.cache.Adding.add", full)
    frames, _, _ = load_frames(clips.head(4), FRONT_END, cache=tmp_path)
    assert len(frames) == 4
    assert "no space is left on the disk" in caplog.text
    assert not [path for path in tmp_path.rglob("*") if path.is_file()]


def test_training_from_the_cache_gives_the_same_model(few_clips, tmp_path):
    plan = small_plan("logistic")
    plain = train(few_clips, tmp_path / "a", plan)
    for name in ("b", "c"):
        cached = train(few_clips, tmp_path / name, plan, work=Work(cache=tmp_path / "cache"))
        np.testing.assert_array_equal(
            cached.model.classifier.row_classifier.kernel, plain.model.classifier.row_classifier.kernel
        )


@pytest.mark.parametrize("ending", [".csv", ".parquet", ".npz"])
def test_exported_frames_come_back_without_loss(tmp_path, rng, ending):
    front_end = FrontEnd(features=["log-mel", "pitch", "shape"])
    table = frame_table(front_end, front_end.frames(rng.standard_normal(8_000)))
    table["label, own"] = 'a "b"'
    write_features(table, tmp_path / f"x{ending}")
    back = read_features(tmp_path / f"x{ending}")
    assert list(back) == list(table)
    assert_close(back["time_s"].to_numpy(), front_end.times(len(table)))
    for name in front_end.columns:
        np.testing.assert_array_equal(back[name].to_numpy().astype(np.float32), table[name].to_numpy())
    assert back["label, own"].tolist() == table["label, own"].tolist()
    with pytest.raises(OutputError, match="one of .csv, .parquet, .npz"):
        write_features(table, tmp_path / "x.xls")
    with pytest.raises(TableError, match="cannot be read as a table of features"):
        read_features(tmp_path / f"none{ending}")


def synthetic(rng, clips=90):
    labels = np.array(["a", "b", "c"])[np.arange(clips) % 3]
    groups = np.array(["p", "q"])[np.arange(clips) // (clips // 2)]
    x = rng.standard_normal((clips, 5))
    x[:, 0] += 3 * (labels == "b")
    x[:, 1] = 2 * x[:, 0] + 0.01 * rng.standard_normal(clips)
    x[:, 2] += 5 * (groups == "q")
    x[:, 3] -= 1.5 * (labels == "c")
    return x, labels.tolist(), groups.tolist()


def test_statistics_are_those_of_scipy(rng):
    x, labels, _ = synthetic(rng)
    parts = [x[np.array(labels) == label] for label in "abc"]
    assert_close(
        f_statistic(x, labels),
        np.array([scipy.stats.f_oneway(*[p[:, k] for p in parts]).statistic for k in range(5)]),
        rtol=1e-9,
    )
    areas, names = class_areas(np.round(x, 1), labels)
    own = np.array(labels) == "b"
    expected = [
        scipy.stats.mannwhitneyu(np.round(x[own, k], 1), np.round(x[~own, k], 1)).statistic / (30 * 60)
        for k in range(5)
    ]
    assert_close(areas[:, names.index("b")], np.array(expected), rtol=1e-12)


def test_mutual_information_of_known_cases(rng):
    labels = ["a", "b"] * 400
    perfect = np.array([0.0, 1.0] * 400)[:, None] + 1e-3 * rng.random((800, 1))
    assert mutual_information(perfect, labels)[0] == pytest.approx(1, abs=0.02)
    assert mutual_information(rng.random((800, 1)), labels)[0] == pytest.approx(0, abs=0.02)


def test_ranking_says_what_tells_apart_what_says_the_same_and_what_follows_the_group(rng):
    x, labels, groups = synthetic(rng)
    table = rank_features(x, list("vwxyz"), labels, groups)
    assert set(table["feature"][:2]) == {"v", "w"}
    assert table["same_as"].tolist()[:3] == ["", table["feature"][0], ""]
    first = table.iloc[0]
    assert (first["label"], first["direction"]) == ("b", "higher")
    assert first["area"] > 0.95
    assert table.set_index("feature")["follows_group"].to_dict()["x"]
    assert table.set_index("feature")["direction"]["y"] == "lower"
    constant = rank_features(np.zeros((90, 1)), ["k"], labels)
    assert (constant["f"][0], constant["bits"][0], constant["area"][0]) == (0, 0, 0.5)
    with pytest.raises(TableError, match="two labels or more"):
        rank_features(x, list("vwxyz"), ["a"] * 90)
    with pytest.raises(TableError, match="do not match"):
        rank_features(x[:50], list("vwxyz"), labels)


def test_the_map_is_the_plane_of_largest_variance(rng):
    t = rng.standard_normal(200)
    x = np.outer(t, [3.0, -2.0, 1.0]) + 0.01 * rng.standard_normal((200, 3)) + 7
    at, shares = principal_map(x)
    assert at.shape == (200, 2)
    assert shares[0] > 0.99
    assert abs(np.corrcoef(at[:, 0], t)[0, 1]) > 0.999


def test_index_says_which_settings_it_is_of(clips, tmp_path):
    load_frames(clips.head(2), FRONT_END, cache=tmp_path)
    (index,) = tmp_path.rglob("*.json")
    assert json.loads(json.loads(index.read_text())["settings"])["bands"] == 20
