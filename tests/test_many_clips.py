"""Many clips at once: parallel work, samples on disk, uniform reading, copies kept together."""

import threading
import time
from contextlib import closing

import numpy as np
import pandas as pd
import pytest
import soundfile
from hypothesis import given, settings, strategies as st

from barn_owl.audio import AudioInfo, audio_info, file_facts, prefetch, read_audio, write_audio
from barn_owl.cli.main import run
from barn_owl.clips import (
    check_clip_table,
    check_clips,
    gather_folder,
    gather_together,
    limit_clips,
    load_frames,
    read_clip_table,
    relabel,
)
from barn_owl.clips.duplicates import near_duplicates, similarity
from barn_owl.clips.inspection import inspect_clips
from barn_owl.errors import TableError
from barn_owl.features import FrontEnd
from barn_owl.parallel import each
from barn_owl.runs import train
from barn_owl.sound import UniformSettings
from barn_owl.sound.samples import SampleFile
from helpers import RATE_HZ, small_plan, sound


@pytest.mark.parametrize("workers", [1, 2, 5])
def test_work_comes_back_in_order_however_long_it_takes(workers):
    def slow(number):
        time.sleep(0.002 * (7 - number % 7))
        return number * number

    assert list(each(slow, list(range(40)), workers)) == [n * n for n in range(40)]
    assert list(each(slow, [], workers)) == []


@pytest.mark.parametrize("workers", [1, 3])
def test_a_failure_in_shared_work_comes_out_and_the_rest_is_dropped(workers):
    def fails(number):
        if number == 5:
            raise KeyError(number)
        return number

    got = []
    with pytest.raises(KeyError):
        got.extend(each(fails, list(range(50)), workers))
    started: list[int] = []

    def counted(number):
        started.append(number)
        time.sleep(0.01)
        return number

    results = each(counted, list(range(500)), workers)
    assert next(results) == 0
    results.close()  # stopping early is immediate and without warnings
    time.sleep(0.1)
    assert len(started) < 100


def test_reading_ahead_keeps_order_and_passes_errors_on():
    def blocks():
        yield from range(5)
        raise OSError("the disk")

    got = []
    with pytest.raises(OSError, match="the disk"):
        got.extend(prefetch(blocks()))
    assert got == [0, 1, 2, 3, 4]


def test_samples_on_disk_come_back_to_every_thread(rng):
    kept = SampleFile()
    clips = {number: rng.standard_normal(rng.integers(0, 3000)).astype(np.float32) for number in range(60)}
    threads = [threading.Thread(target=kept.keep, args=item) for item in clips.items()]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    for number in reversed(clips):
        assert number in kept
        np.testing.assert_array_equal(kept.read(number), clips[number])
    assert 99 not in kept
    with pytest.raises(KeyError):
        kept.read(99)
    kept.close()


def test_facts_of_an_excerpt_are_those_of_the_cut(tmp_path, rng):
    samples = np.round(rng.uniform(-0.4, 0.4, 3 * RATE_HZ) * 32768) / 32768
    write_audio(tmp_path / "whole.wav", samples, RATE_HZ)
    write_audio(tmp_path / "cut.wav", samples[RATE_HZ : 2 * RATE_HZ], RATE_HZ)
    excerpt = file_facts(tmp_path / "whole.wav", start_s=1.0, end_s=2.0)
    cut = file_facts(tmp_path / "cut.wav")
    assert vars(excerpt) | {"file": ""} == vars(cut) | {"file": ""}
    heard: list[np.ndarray] = []
    quick = vars(file_facts(tmp_path / "cut.wav", on_block=heard.append, thorough=False))
    np.testing.assert_allclose(np.concatenate(heard)[:, 0], samples[RATE_HZ : 2 * RATE_HZ], atol=1e-7)
    assert {name for name, value in quick.items() if value != value} == {"loudness_lufs", "true_peak_db"}
    assert {n: v for n, v in quick.items() if v == v}.items() <= vars(cut).items()


def test_flaws_are_given_to_whom_they_concern_instead_of_the_log(tmp_path, caplog):
    bad = np.where(np.arange(5000) % 1000 == 0, np.nan, 0.1)
    soundfile.write(tmp_path / "bad.wav", bad, RATE_HZ, subtype="FLOAT")
    flaws: list[str] = []
    file_facts(tmp_path / "bad.wav", flaws=flaws)
    assert flaws == ["5 samples are not finite or above 1e+09 times full scale; taken as silence"]
    assert caplog.text == ""
    file_facts(tmp_path / "bad.wav")
    assert "bad.wav: 5 samples are not finite" in caplog.text


def test_a_recording_of_any_length_is_measured_by_its_beginning(tmp_path, rng):
    long = 0.1 * rng.standard_normal(70 * 8000)
    write_audio(tmp_path / "long.wav", long, 8000)
    write_audio(tmp_path / "start.wav", long[: 40 * 8000], 8000)
    table = check_clip_table(pd.DataFrame({"file": [str(tmp_path / f"{n}.wav") for n in ("long", "start")]}))
    with closing(SampleFile()) as kept:
        long_one, start = inspect_clips(table, kept=kept)
        np.testing.assert_array_equal(long_one.fingerprint, start.fingerprint)
        assert len(kept.read(0)) == len(kept.read(1)) == 30 * 8000
        pairs = near_duplicates(table, [long_one, start], kept=kept)
    assert pairs["similarity"].tolist() == pytest.approx([1.0], abs=1e-3)


def test_silence_and_single_clips_are_nobodys_copies(tmp_path):
    for name in "abc":
        write_audio(tmp_path / f"{name}.wav", np.zeros(4000 + ord(name)), 8000)
    table = check_clip_table(pd.DataFrame({"file": [str(tmp_path / f"{n}.wav") for n in "abc"], "label": "x"}))
    measures = inspect_clips(table)
    assert not len(near_duplicates(table, measures))
    assert not len(near_duplicates(table.head(1), measures[:1]))
    assert check_clips(table).findings["finding"].tolist().count("near duplicate") == 0


@given(shift=st.integers(-4000, 4000), gain=st.floats(0.01, 10), seed=st.integers(0, 20))
@settings(deadline=None, max_examples=40)
def test_similarity_does_not_see_shift_gain_or_sign(shift, gain, seed):
    rng = np.random.default_rng(seed)
    a = rng.standard_normal(16_000).astype(np.float32)
    overlap = a[max(shift, 0) : 16_000 + min(shift, 0)]
    assert similarity(a, -gain * overlap) > 0.85 - abs(shift) / 16_000
    assert similarity(a, rng.standard_normal(16_000).astype(np.float32)) < 0.1
    assert similarity(a, np.zeros(100, np.float32)) == 0


def test_clips_are_read_as_the_plan_says_and_each_way_has_its_own_cache(tmp_path):
    stereo = np.zeros((RATE_HZ, 2), np.float32)
    stereo[:, 1] = sound("hum", np.random.default_rng(1), 1.0)
    write_audio(tmp_path / "stereo.wav", stereo, RATE_HZ)
    write_audio(tmp_path / "mono.wav", stereo[:, 1], RATE_HZ)
    write_audio(tmp_path / "brief.wav", stereo[:3000, 1], RATE_HZ)
    table = check_clip_table(
        pd.DataFrame({"file": [str(tmp_path / f"{n}.wav") for n in ("stereo", "mono", "brief")]})
    )
    loudest = UniformSettings(channel="loudest", min_duration_s=0.5)
    for _ in range(2):  # computed, then from the cache
        frames, kept, skipped = load_frames(table, FrontEnd(), loudest, cache=tmp_path / "cache")
        np.testing.assert_array_equal(frames[0], frames[1])
        assert len(kept) == 2
        assert "0.188 s is shorter than clips.min_duration_s=0.5" in skipped[2]
    mixed, _, _ = load_frames(table, FrontEnd(), cache=tmp_path / "cache")
    np.testing.assert_allclose(mixed[1] - mixed[0], 20 * np.log10(2), atol=0.02)
    assert len(list((tmp_path / "cache").iterdir())) == 2


def test_the_same_file_under_two_names_stays_on_one_side(folder, tmp_path):
    clips = gather_folder(folder, names="{group}_{take}").clips
    twin = tmp_path / "rec9_00.wav"
    twin.write_bytes((folder / "hum" / "rec1_01.wav").read_bytes())
    row = clips[clips["file"].str.endswith("hum/rec1_01.wav")].assign(file=str(twin), group="rec9")
    run_of_all = train(pd.concat([clips, row], ignore_index=True), tmp_path / "run", small_plan("logistic"))
    splits = run_of_all.predictions.set_index("group")["split"]
    assert "copy_of" not in run_of_all.predictions
    assert splits["rec9"] == splits["rec1"].iloc[0]


def test_what_is_gathered_twice_is_there_once(folder, caplog):
    once = gather_folder(folder)
    assert len(gather_together([once, once]).clips) == len(once.clips)
    assert "repeat an earlier one" in caplog.text


@given(st.lists(st.sampled_from("abcd"), min_size=1, max_size=60), st.integers(1, 20), st.integers(0, 9))
@settings(max_examples=60, deadline=None)
def test_limiting_and_renaming_lose_nothing_else(labels, most, seed):
    clips = check_clip_table(pd.DataFrame({"file": [f"{n}.wav" for n in range(len(labels))], "label": labels}))
    few = limit_clips(clips, most, seed=seed)
    counts = clips["label"].value_counts()
    assert few["label"].value_counts().to_dict() == counts.clip(upper=most).to_dict()
    assert set(few["file"]) <= set(clips["file"])
    renamed = relabel(clips, dict.fromkeys(sorted(set(labels))[:1], ""))
    assert len(renamed) == len(clips) - counts[min(labels)]


def test_checks_without_audio_tell_what_a_table_alone_can_tell(tmp_path):
    rows = {"file": ["a.wav", "b.wav", "c.wav"], "label": ["x", "x", ""]}
    findings = check_clips(check_clip_table(pd.DataFrame(rows)), audio=False).findings
    assert set(findings["finding"]) == {"moved", "no file", "unlabeled", "one label"}
    assert findings["severity"].tolist() == ["error"] * 5 + ["note"]
    with pytest.raises(TableError, match="no column 'file'"):
        check_clips(check_clip_table(pd.DataFrame({"name": ["a"]})))


def test_takes_recorded_before_ctrl_c_are_kept(tmp_path, monkeypatch):
    answers = iter(["", "k", ""])

    def prompt(*arguments, **options):
        answer = next(answers, None)
        if answer is None:
            raise KeyboardInterrupt
        return answer

    monkeypatch.setattr("click.prompt", prompt)
    simulated = ["--microphone", "simulated:winch", "--speed", "1000", "--count-down", "0", "--length-s", "0.5"]
    assert run(["record", str(tmp_path), "--label", "winch", "--takes", "5", *simulated]) == 130
    table = read_clip_table(tmp_path / "clips.csv")
    assert len(table) == 1
    info = audio_info(table["file"][0])
    assert isinstance(info, AudioInfo)
    assert (info.rate_hz, info.duration_s) == (32_000, 0.5)
    assert np.abs(read_audio(table["file"][0])[0]).max() > 0.001
