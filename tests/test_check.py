"""Checks of a heap in which everything is wrong that can be, and splits of it."""

import itertools
import types

import numpy as np
import pandas as pd
import pytest
import soundfile
from hypothesis import assume, given, settings, strategies as st

from barn_owl.audio import read_audio, write_audio
from barn_owl.clips import (
    Shares,
    check_clip_table,
    check_clips,
    find_leaks,
    fold_clips,
    read_clip_table,
    split_by_time,
    split_clips,
    splits_of_fold,
    write_clip_table,
)
from barn_owl.clips.doubtful import PENALTY, WIDTH, _leave_one_out, doubtful_labels
from barn_owl.clips.duplicates import file_copies, linked, near_duplicates, same_content
from barn_owl.clips.inspection import inspect_clips
from barn_owl.clips.split import indivisible_units
from barn_owl.errors import TableError
from barn_owl.runs import Work
from barn_owl.runs.data import read_clips
from barn_owl.show import check_figure
from helpers import RATE_HZ, small_plan, sound, write_folder


@pytest.fixture(scope="module")
def heap(tmp_path_factory):
    """A folder of good clips with a clip of each fault, as a table."""
    folder = write_folder(tmp_path_factory.mktemp("heap") / "clips", seed=9)
    rng = np.random.default_rng(2)
    hum, _ = read_audio(folder / "hum" / "rec0_00.wav")
    faults = {
        "silent.wav": np.zeros(8000),
        "blink.wav": np.full(300, 0.1),
        "clipped.wav": np.clip(8 * sound("hum", rng), -1, 1),
        "offset.wav": sound("hum", rng) * 0.2 + 0.1,
        "copy.wav": hum,
        "louder.wav": np.clip(hum * 1.7, -1, 1)[320:],
        "noisy.wav": hum + 0.1 * hum.std() * rng.standard_normal(len(hum)),
        "long.wav": np.tile(sound("hum", rng), 12),
    }
    for name, samples in faults.items():
        write_audio(folder / "hum" / name, samples, RATE_HZ)
    write_audio(folder / "hum" / "coded.mp3", hum, RATE_HZ)
    write_audio(folder / "hum" / "narrow.wav", sound("hum", rng)[::4], RATE_HZ // 4)
    soundfile.write(folder / "hum" / "nan.wav", np.where(np.arange(20_000) == 500, np.nan, 0.1), RATE_HZ, "FLOAT")
    soundfile.write(folder / "hum" / "beyond.wav", 8 * sound("hum", rng), RATE_HZ, "FLOAT")
    (folder / "hum" / "broken.wav").write_bytes(b"RIFF1234")
    (folder / "hiss" / "mistaken.wav").write_bytes((folder / "hum" / "rec1_05.wav").read_bytes())
    rows = [(str(path), path.parent.name, path.stem.split("_")[0]) for path in sorted(folder.rglob("*.*"))]
    table = pd.DataFrame(rows, columns=["file", "label", "group"])
    table.loc[table["group"].str.len() != 4, "group"] = ""
    table.loc[table.index[table["label"] == "tick"][:2], "label"] = "Tick "
    gone = {"file": str(folder / "gone.wav"), "label": "hum", "group": ""}
    rare = {"file": str(folder / "hum" / "long.wav"), "start_s": 2.0, "end_s": 3.0, "label": "rare", "group": "one"}
    return check_clip_table(pd.concat([table, pd.DataFrame([gone, rare])], ignore_index=True))


def short_names(table):
    return table["file"].map(lambda file: "/".join(file.split("/")[-2:]))


@pytest.fixture(scope="module")
def check(heap):
    write_audio(str(heap["file"][0]).replace("hiss/", "hiss/spare "), np.ones(500), RATE_HZ)
    return check_clips(heap)


@pytest.mark.parametrize(
    ("severity", "finding", "where", "detail"),
    [
        ("error", "silent", "silent.wav", "never above -60 dB"),
        ("error", "too short", "blink.wav", "18.8 ms"),
        ("warning", "clipped", "clipped.wav", "stretches at full scale"),
        ("note", "offset", "offset.wav|nan.wav|blink.wav", "mean 0.100"),
        ("warning", "duplicate", "copy.wav|rec0_00.wav", "the same samples as"),
        ("error", "duplicate with another label", "mistaken.wav|rec1_05.wav", "which is labeled"),
        ("warning", "near duplicate", "louder.wav|rec0_00.wav|noisy.wav|coded.mp3|copy.wav", "the same recording as"),
        ("note", "similar", "louder.wav|rec0_00.wav|noisy.wav|coded.mp3|copy.wav", "maybe the same take: "),
        ("warning", "beyond full scale", "beyond.wav", "its peak is +"),
        ("note", "odd length", "long.wav|blink.wav", "14.40 s"),
        ("note", "narrow band", "narrow.wav|blink.wav|nan.wav", "nothing above"),
        ("error", "damaged", "nan.wav", "1 samples are not finite"),
        ("error", "unreadable", "broken.wav", "cannot be read as sound"),
        ("error", "no file", "gone.wav", "does not exist"),
        ("error", "few clips", "", "1 clips"),
        ("warning", "spelling", "", "'Tick' differs from 'tick'"),
        ("warning", "one group", "", "all clips are of group 'one'"),
        ("note", "files without a row", "", "spare"),
        ("note", "lower rate", "", "1 clips have a lower sample rate than the usual 16000 Hz: 4000 Hz"),
    ],
)
def test_each_fault_is_found_where_it_is(check, severity, finding, where, detail):
    found = check.findings
    own = found[(found["severity"] == severity) & (found["finding"] == finding)]
    assert len(own), found[["finding", "detail"]].to_string()
    assert own["detail"].str.contains(detail, regex=False).any(), own["detail"].tolist()
    assert own["file"].str.endswith(tuple(where.split("|"))).all() if where else True
    assert (own["action"] != "").all()


def test_groups_that_hold_one_label_each_are_told():
    rows = [(f"{speaker}{n}.wav", language, speaker) for speaker, language in
            (("ann", "en"), ("bob", "en"), ("carla", "es"), ("dora", "es")) for n in range(3)]  # fmt: skip
    table = check_clip_table(pd.DataFrame(rows, columns=["file", "label", "group"]))
    found = check_clips(table, audio=False).findings.set_index("finding")
    assert found.loc["groups of one label", "detail"] == "each of the 4 groups has clips of one label only"
    table.loc[0, "label"] = "es"
    assert "groups of one label" not in set(check_clips(table, audio=False).findings["finding"])


def test_rare_labels_are_told():
    table = pd.DataFrame({"file": [f"{n}.wav" for n in range(70)], "label": ["many"] * 66 + ["few"] * 4})
    findings = check_clips(check_clip_table(table), audio=False).findings
    row = findings[findings["finding"] == "imbalance"].iloc[0]
    assert (row["label"], row["detail"]) == ("few", "4 clips, 16 times fewer than 'many'")


def test_labels_of_whole_recordings_are_told(clips, tmp_path, caplog):
    rng = np.random.default_rng(0)
    rows = []
    for number in range(3):
        write_audio(tmp_path / f"{number}.wav", np.tile(sound("hum", rng), 30), RATE_HZ)
        rows.append({"file": str(tmp_path / f"{number}.wav"), "label": "hum", "group": f"rec{number}"})
    table = check_clip_table(pd.concat([clips, pd.DataFrame(rows)], ignore_index=True))
    told = check_clips(table).findings.set_index("finding").loc["whole recordings"]
    assert told["detail"].startswith("3 rows label files of 36 to 36 s as a whole")
    with read_clips(table, small_plan("cnn"), Work(workers=1)):
        assert "3 rows label whole recordings, of up to 36 s" in caplog.text


def test_a_side_without_a_label_is_told():
    table = pd.DataFrame({"file": [f"{n}.wav" for n in range(12)], "label": ["a", "b"] * 6})
    splits = np.repeat(["train", "validation", "test"], 4)
    whole = check_clips(check_clip_table(table.assign(split=splits)), audio=False).findings
    assert "missing from a split" not in set(whole["finding"])
    splits[[5, 7]] = "train"
    row = check_clips(check_clip_table(table.assign(split=splits)), audio=False).findings.set_index("finding")
    told = row.loc["missing from a split"]
    assert (told["label"], told["detail"]) == ("b", "no clips in the validation split")


SOME = st.lists(st.tuples(st.sampled_from("ab"), st.sampled_from(["", "x", "y", "z"])), min_size=9, max_size=40)


@given(SOME, SOME, st.integers(0, 5))
@settings(max_examples=40, deadline=None)
def test_tables_with_and_without_copies_mix(first, second, seed):
    """Copies stay together across tables, and unique clips stay alone, in any form of the tables."""
    rows = [(label, copy_of) for label, copy_of in first] + [(label, None) for label, _ in second]
    table = pd.DataFrame(rows, columns=["label", "copy_of"]).assign(file=[f"{n}.wav" for n in range(len(rows))])
    table = table.groupby("label").filter(lambda own: len(own) >= 3).reset_index(drop=True)
    assume(table["label"].nunique() == 2)
    kin = table["copy_of"].fillna("").replace("", None)
    assume(kin.nunique() + kin.isna().sum() >= 3)
    splits = split_clips(table, seed=seed)["split"]
    assert splits.groupby(kin).nunique().eq(1).all()
    assert set(splits) == {"train", "validation", "test"}
    # Blanks are not copies: with many unique clips, no split takes nearly all.
    alone = splits[kin.isna()]
    if len(alone) >= 20 and len(alone) == len(table):
        assert alone.value_counts(normalize=True).max() < 0.85


def test_good_clips_are_left_in_peace(check, heap):
    whole = check.findings[check.findings["file"].str.contains("rec[0-3]_", regex=True)]
    known = "|".join(("duplicate", "similar", "doubtful label"))
    assert whole["finding"].str.contains(known).all()
    assert len(whole) <= 8


def test_copies_of_every_kind_are_one_classifier_and_nothing_else_is(check, heap):
    pairs = near_duplicates(heap, inspect_clips(heap))
    kin = {f"hum/{name}" for name in ("rec0_00.wav", "copy.wav", "louder.wav", "noisy.wav", "coded.mp3")}
    assert set(short_names(heap.loc[[*pairs["first"], *pairs["second"]]])) == kin
    copy_of = dict(zip(short_names(check.repaired), check.repaired["copy_of"], strict=True))
    assert len({copy_of[name] for name in kin & set(copy_of)}) == 1
    named = [name for name in copy_of.values() if name]
    assert len(set(named)) == 1
    assert len(named) == len(kin & set(copy_of))


def test_the_repaired_table_leaves_out_what_is_of_no_use(check, heap, tmp_path):
    gone = {"hum/silent.wav", "hum/blink.wav", "hum/broken.wav", "clips/gone.wav"}
    gone |= {"hum/copy.wav", "hum/rec1_05.wav", "hiss/mistaken.wav"}  # a copy, and the same sound with two labels
    assert set(short_names(heap)) - set(short_names(check.repaired)) == gone
    assert set(check.repaired["label"]) == {"hum", "hiss", "tick", "still", "rare"}
    write_clip_table(check.repaired, tmp_path / "clean.csv")
    again = check_clips(read_clip_table(tmp_path / "clean.csv"), audio=False)
    assert set(again.findings["finding"]) <= {"few clips", "imbalance", "one group", "files without a row"}


def test_the_figure_counts_what_the_table_holds(check):
    figure = check_figure(check)
    bars = figure.axes[0]
    assert sum(patch.get_width() for patch in bars.patches) == len(check.by_clip)
    assert f"{check.count('error')} errors" in figure.get_suptitle()


def test_a_wrong_label_is_doubted(tmp_path):
    folder = write_folder(tmp_path / "x", seed=3, clips=24, kinds=("hum", "hiss"))
    rows = [(str(p), p.parent.name) for p in sorted(folder.rglob("*.wav"))]
    table = check_clip_table(pd.DataFrame(rows, columns=["file", "label"]))
    table.loc[30, "label"] = {"hum": "hiss", "hiss": "hum"}[table["label"][30]]
    findings = check_clips(table).findings
    assert findings.loc[findings["finding"] == "doubtful label", "file"].tolist() == [table["file"][30]]


def test_a_label_with_few_clips_is_not_doubted_for_being_rare(tmp_path):
    folder = write_folder(tmp_path / "x", seed=4, clips=20, kinds=("hum", "hiss"))
    write_folder(tmp_path / "y", seed=5, clips=5, kinds=("tick",))
    rows = [(str(p), p.parent.name) for p in sorted([*folder.rglob("*.wav"), *(tmp_path / "y").rglob("*.wav")])]
    findings = check_clips(check_clip_table(pd.DataFrame(rows, columns=["file", "label"]))).findings
    assert "doubtful label" not in findings["finding"].tolist()


def test_copies_are_linked_through_others_and_files_by_their_bytes(tmp_path):
    assert len(set(linked(5, [(0, 1), (1, 4)])[[0, 1, 4]])) == 1
    assert len(set(linked(5, [(0, 1), (1, 4)]))) == 3
    for name, content in {"a": b"one", "b": b"two", "c": b"one", "d": b"longer"}.items():
        (tmp_path / name).write_bytes(content)
    table = check_clip_table(pd.DataFrame({"file": [str(tmp_path / name) for name in "abcde"]}))
    numbers = file_copies(table)
    assert numbers[0] == numbers[2]
    assert len(set(numbers)) == 4


def test_same_content_is_that_of_another_container(tmp_path, rng):
    samples = np.round(rng.uniform(-0.5, 0.5, 4000) * 32768) / 32768
    for name in ("a.wav", "b.flac", "c.wav"):
        write_audio(tmp_path / name, samples if name != "c.wav" else samples[1:], RATE_HZ)
    table = check_clip_table(pd.DataFrame({"file": [str(tmp_path / n) for n in ("a.wav", "b.flac", "c.wav")]}))
    assert same_content(inspect_clips(table)).tolist() == [0, 0, 2]


@st.composite
def grouped(draw):
    groups = draw(st.integers(5, 14))
    rows = [(f"{g}-{n}.wav", f"l{n % 3}", f"g{g}") for g in range(groups) for n in range(draw(st.integers(1, 9)))] + [
        ("a.wav", "l1", "g0"),
        ("b.wav", "l2", "g1"),
    ]
    return check_clip_table(pd.DataFrame(rows, columns=["file", "label", "group"]))


@given(grouped(), st.integers(0, 9), st.integers(3, 5))
@settings(max_examples=12, deadline=None)
def test_folds_keep_groups_whole_and_each_clip_is_tested_once(clips, seed, folds):
    done = fold_clips(clips, folds, seed=seed)
    assert done.groupby("group")["fold"].nunique().max() == 1
    assert set(done["fold"]) == set(range(1, folds + 1))
    tests = [splits_of_fold(done, fold) for fold in range(1, folds + 1)]
    assert sum((one["split"] == "test").sum() for one in tests) == len(clips)
    for one in tests:
        assert not len(find_leaks(one))
        assert set(one["split"]) == {"train", "validation", "test"}


@given(grouped(), st.integers(0, 9), st.data())
@settings(max_examples=40, deadline=None)
def test_a_stable_split_never_moves_what_was_there(clips, seed, data):
    groups = sorted(clips["group"].unique())
    some = data.draw(st.lists(st.sampled_from(groups), min_size=3, unique=True))
    shares = Shares(method="stable")
    part = clips[clips["group"].isin(some)].reset_index(drop=True)
    if part["label"].value_counts().min() < 3 or part["label"].nunique() < 2:
        return
    if clips["label"].value_counts().min() < 3:
        return
    before, after = split_clips(part, shares, seed=seed), split_clips(clips, shares, seed=seed)
    splits = dict(zip(after["group"], after["split"], strict=True))
    assert all(splits[group] == split for group, split in zip(before["group"], before["split"], strict=True))


def test_a_stable_split_reaches_its_shares_on_average():
    table = pd.DataFrame({"file": [f"{n}.wav" for n in range(3000)], "label": ["a", "b"] * 1500})
    splits = split_clips(check_clip_table(table), Shares(method="stable"), seed=4)["split"].value_counts()
    assert (splits / 3000).to_dict() == pytest.approx({"train": 0.6, "validation": 0.2, "test": 0.2}, abs=0.03)


@given(st.lists(st.tuples(st.sampled_from(["", None, "x", "y"]), st.sampled_from("pqr")), min_size=12, max_size=40))
def test_of_merged_tables_only_copies_and_groups_stayindivisible_units(rows):
    copies_, groups_ = zip(*rows, strict=True)
    table = pd.DataFrame({"file": [f"{n}.wav" for n in range(len(rows))], "label": "a", "copy_of": copies_})
    table = check_clip_table(table.assign(group=[f"{group}{n // 2}" for n, group in enumerate(groups_)]))
    keys = indivisible_units(table, Shares())
    named = table[table["copy_of"].fillna("") != ""]
    for _, own in keys[named.index].groupby(named["copy_of"]):
        assert set(own) == {own.iloc[0]}
    alone = keys[table["copy_of"].fillna("") == ""]
    groups = table["group"][alone.index]
    free = ~groups.isin(table["group"][named.index])
    assert alone[free].nunique() == groups[free].nunique()


def test_copies_join_groups_and_leaks_are_named():
    table = check_clip_table(
        pd.DataFrame({"file": [f"{n}.wav" for n in range(12)], "label": ["a", "b", "c"] * 4,
                      "group": [f"g{n // 3}" for n in range(12)], "copy_of": [0, 1, 2, 0, *range(4, 12)]})
    )  # fmt: skip
    splits = split_clips(table).groupby("group")["split"].first()
    assert splits["g0"] == splits["g1"]
    blank = table.assign(copy_of=["x", "", "", "x", *[np.nan] * 8])
    assert split_clips(blank)["split"].tolist() == split_clips(table)["split"].tolist()
    crossed = table.assign(split=["train", "test", *["train"] * 10])
    leaks = find_leaks(crossed)
    assert leaks.to_numpy().tolist() == [["group", "g0", "train, test"]]
    found = check_clips(crossed, audio=False).findings
    assert "the group 'g0' is in train, test" in found.loc[found["finding"] == "leak", "detail"].tolist()
    with pytest.raises(TableError, match="there are 3 groups for 5 folds"):
        fold_clips(table, 5)
    with pytest.raises(TableError, match="no column 'fold'"):
        splits_of_fold(table, 1)


@given(st.integers(5, 60), st.floats(0, 2))
@settings(max_examples=40, deadline=None)
def test_a_split_by_time_has_the_past_on_one_side_and_no_overlap(count, overlap):
    starts = np.arange(count, dtype=float)
    table = check_clip_table(
        pd.DataFrame({"file": "night.wav", "start_s": starts, "end_s": starts + 1 + overlap, "label": "x"})
    ).sample(frac=1, random_state=1, ignore_index=True)
    done = split_by_time(table)
    assert not (find_leaks(done)["what"] == "file").any()
    ends = {split: own["start_s"].agg(["min", "max"]) for split, own in done.groupby("split")}
    order = [split for split in ("train", "validation", "test") if split in ends]
    assert all(ends[a]["max"] < ends[b]["min"] for a, b in itertools.pairwise(order))


def test_what_concerns_most_clips_is_reported_once(tmp_path):
    folder = write_folder(tmp_path / "x", seed=6, clips=9, kinds=("hum", "hiss"))
    for path in folder.rglob("*.wav"):
        samples, rate_hz = read_audio(path)
        write_audio(path, np.clip(20 * samples / np.abs(samples).max(), -1, 1), rate_hz, force=True)
    rows = [(str(p), p.parent.name) for p in sorted(folder.rglob("*.wav"))]
    check = check_clips(pd.DataFrame(rows, columns=["file", "label"]))
    clipped = check.findings[check.findings["finding"] == "clipped"]
    assert len(clipped) == 1
    assert clipped["detail"].iloc[0].startswith(f"{len(rows)} of {len(rows)} clips, such as {rows[0][0]}: ")


def test_leave_one_out_support_is_what_a_regression_without_the_clip_predicts(seed):
    rng = np.random.default_rng(seed)
    x, targets = rng.standard_normal((30, 5)), np.eye(3)[rng.integers(0, 3, 30)]
    support = _leave_one_out(x, targets)
    squared = ((x[:, None] - x) ** 2).sum(axis=2)
    kernel = np.exp(-squared / (WIDTH * np.median(squared[squared > 0])))
    for left_out in (0, 7, 29):
        rest = np.arange(30) != left_out
        weights = np.linalg.solve(kernel[np.ix_(rest, rest)] + PENALTY * np.eye(29), targets[rest])
        np.testing.assert_allclose(support[left_out], kernel[left_out, rest] @ weights, rtol=1e-6, atol=1e-9)


def test_many_clips_are_compared_in_parts_and_wrong_labels_are_found(seed, monkeypatch):
    monkeypatch.setattr("barn_owl.clips.doubtful.MOST_AT_ONCE", 50)
    rng = np.random.default_rng(seed)
    labels = np.repeat(["low", "high"], 60).astype(object)
    centers = np.where(labels == "low", -1.0, 1.0)
    sounds = centers[:, None] * np.linspace(0.5, 1, 60) + 0.5 * rng.standard_normal((120, 60))
    labels[[3, 70]] = "high", "low"
    facts = types.SimpleNamespace(silent_share=0.0)
    measures = [types.SimpleNamespace(sound=row, facts=facts) for row in sounds]
    found = doubtful_labels(pd.DataFrame({"label": labels}), measures)
    assert {one.row for one in found} == {3, 70}
    assert all(one.support > one.own_support for one in found)


def test_several_labels_of_one_excerpt_are_no_copies(tmp_path):
    folder = write_folder(tmp_path / "x", seed=8, clips=6, kinds=("hum", "hiss"))
    rows = [(str(p), p.parent.name) for p in sorted(folder.rglob("*.wav"))]
    both = [(rows[0][0], "loud"), (rows[1][0], "loud")]
    check = check_clips(pd.DataFrame([*rows, *both], columns=["file", "label"]))
    assert not check.findings["finding"].str.startswith("duplicate").any()
    assert len(check.repaired) == len(rows) + 2
