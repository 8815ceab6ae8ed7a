"""Takes cut from synthetic recordings with truth, and takes recorded from the simulated microphone."""

import io
import json

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st

from barn_owl.audio import read_audio, write_audio
from barn_owl.audio.microphone import SimulatedMicrophone
from barn_owl.cli.main import run
from barn_owl.clips import (
    TakeSettings,
    check_clip_table,
    cut_windows,
    draw_background,
    find_takes,
    read_clip_table,
    write_excerpts,
)
from barn_owl.errors import AudioError, OutputError, PlanError, TableError
from barn_owl.show import cuts_figure
from helpers import RATE_HZ


def recording(path, rng, onsets, *, snr_db=10.0, length_s=0.3, spare_s=1.0, hum=False):
    """Decaying chords at `onsets`, loudest part `snr_db` above noise; offsets are where they sink into it."""
    samples = round((onsets[-1] + length_s + spare_s) * RATE_HZ)
    t = np.arange(round(length_s * RATE_HZ)) / RATE_HZ
    sound = np.zeros(samples)
    for onset in onsets:
        chord = sum(np.sin(2 * np.pi * hz * t + rng.uniform(0, 6)) for hz in rng.uniform(300, 4000, 12))
        chord *= np.exp(-t / 0.08)
        at = round(onset * RATE_HZ)
        sound[at : at + len(t)] += chord / np.sqrt(np.mean(chord[: RATE_HZ // 10] ** 2))
    noise = rng.standard_normal(samples) * 10 ** (-snr_db / 20)
    if hum:
        noise += np.sin(2 * np.pi * 120 * np.arange(samples) / RATE_HZ)
    write_audio(path, 0.05 * (sound + noise), RATE_HZ)


@pytest.mark.parametrize("hum", [False, True])
def test_takes_are_found_to_the_hundredth_of_a_second(tmp_path, rng, hum):
    onsets = 1.0 + np.cumsum(rng.uniform(0.9, 1.8, 60))
    recording(tmp_path / "takes.wav", rng, onsets, hum=hum)
    takes = find_takes(tmp_path / "takes.wav", TakeSettings(length_s=0.8), label="x")
    error = np.abs(takes["onset_s"].to_numpy()[:, None] - onsets)
    assert (error.min(axis=0) < 0.05).mean() >= 0.98
    assert (error.min(axis=1) < 0.05).mean() >= 0.98
    assert np.median(error.min(axis=0)) < 0.01
    # Each clip has the requested length, is inside the recording, and contains its event.
    np.testing.assert_allclose(takes["end_s"] - takes["start_s"], 0.8, atol=2e-6)
    assert (takes["start_s"] >= 0).all()
    assert (takes["start_s"] <= takes["onset_s"] + 1e-6).all()
    assert (takes["end_s"] >= takes["onset_s"]).all()
    # The place in the clip is random, and the same for the same seed.
    assert (takes["onset_s"] - takes["start_s"]).std() > 0.08
    pd.testing.assert_frame_equal(takes, find_takes(tmp_path / "takes.wav", TakeSettings(length_s=0.8), label="x"))
    other = find_takes(tmp_path / "takes.wav", TakeSettings(length_s=0.8), seed=1)
    assert not np.allclose(other["start_s"], takes["start_s"])


def test_places_and_pauses_inside_a_take(tmp_path, rng):
    pairs = np.sort(np.concatenate([np.arange(2, 30, 3.0), np.arange(2, 30, 3.0) + 0.5]))
    recording(tmp_path / "pairs.wav", rng, pairs, snr_db=25, length_s=0.2)
    assert len(find_takes(tmp_path / "pairs.wav", TakeSettings(max_gap_s=0.1))) == len(pairs)
    joined = find_takes(tmp_path / "pairs.wav", TakeSettings(max_gap_s=0.6, length_s=1.5, place="start"))
    assert len(joined) == len(pairs) / 2
    np.testing.assert_allclose(joined["onset_s"] - joined["start_s"], 0.02, atol=1e-5)
    centerd = find_takes(tmp_path / "pairs.wav", TakeSettings(max_gap_s=0.6, length_s=1.5, place="center"))
    middle = (centerd["onset_s"] + centerd["offset_s"]) / 2
    np.testing.assert_allclose(middle, (centerd["start_s"] + centerd["end_s"]) / 2, atol=1e-5)


def test_digital_silence_is_not_the_quiet_of_the_place(tmp_path, rng):
    onsets = np.arange(12.0, 40.0, 2.0)
    recording(tmp_path / "takes.wav", rng, onsets, snr_db=15)
    samples, _ = read_audio(tmp_path / "takes.wav")
    samples[: 8 * RATE_HZ] = 0
    samples[25 * RATE_HZ : 28 * RATE_HZ] = 0
    write_audio(tmp_path / "holes.wav", samples, RATE_HZ)
    found = find_takes(tmp_path / "holes.wav")["onset_s"].to_numpy()
    whole = onsets[(onsets < 24.6) | (onsets > 28)]
    assert np.abs(found[:, None] - whole).min(axis=0).max() < 0.02
    write_audio(tmp_path / "nothing.wav", np.zeros(3 * RATE_HZ), RATE_HZ)
    assert not len(find_takes(tmp_path / "nothing.wav"))


def test_noise_alone_holds_no_take_and_bad_settings_are_refused(tmp_path, rng):
    write_audio(tmp_path / "noise.wav", 0.05 * rng.standard_normal(20 * RATE_HZ), RATE_HZ)
    assert len(find_takes(tmp_path / "noise.wav")) <= 1
    with pytest.raises(AudioError, match="shorter than the clips of 30 s"):
        find_takes(tmp_path / "noise.wav", TakeSettings(length_s=30))
    with pytest.raises(PlanError, match="release_db must be at most threshold_db=3"):
        TakeSettings(threshold_db=3, release_db=4)


def test_windows_cover_a_recording_and_excerpts_become_files(tmp_path, rng):
    write_audio(tmp_path / "night.wav", 0.1 * rng.standard_normal(RATE_HZ * 5), RATE_HZ)
    ends = cut_windows(tmp_path / "night.wav", 2.0)["end_s"].tolist()
    assert ends == [2.0, 4.0]
    multilabel = cut_windows(tmp_path / "night.wav", 2.0, step_s=0.5, label="a/b".replace("/", "-"))
    assert len(multilabel) == 7
    files = write_excerpts(multilabel, tmp_path / "cut")
    whole, _ = read_audio(tmp_path / "night.wav")
    piece, _ = read_audio(files["file"][3])
    np.testing.assert_allclose(piece, whole[24_000:56_000], atol=1e-4)
    with pytest.raises(OutputError, match="already exists"):
        write_excerpts(multilabel, tmp_path / "cut")
    with pytest.raises(AudioError, match="shorter than one window of 9 s"):
        cut_windows(tmp_path / "night.wav", 9.0)


@given(starts=st.lists(st.floats(0, 19), min_size=1, max_size=12), seed=st.integers(0, 5), length=st.floats(0.3, 2))
@settings(max_examples=40, deadline=None)
def test_background_never_touches_an_event(tmp_path_factory, starts, seed, length):
    path = tmp_path_factory.mktemp("night") / "night.wav"
    write_audio(path, np.zeros(20 * 1000), 1000)
    truth = check_clip_table(
        pd.DataFrame({"file": str(path), "start_s": starts, "end_s": np.array(starts) + 0.5, "label": "x"})
    )
    try:
        drawn = draw_background(truth, length, 3, seed=seed)
    except TableError as error:
        assert "fit between the events" in str(error)  # noqa: PT017 - either outcome is right
        return
    assert len(drawn) == 3
    assert (drawn["end_s"] <= 20 + 1e-6).all()
    for row in drawn.itertuples():
        apart = (truth["start_s"] >= row.end_s + 0.2 - 1e-5) | (truth["end_s"] <= row.start_s - 0.2 + 1e-5)
        assert apart.all()
    assert (drawn["start_s"].to_numpy()[1:] >= drawn["end_s"].to_numpy()[:-1] - 1e-5).all()


def test_the_cut_command_draws_and_writes(tmp_path, rng, capsys):
    recording(tmp_path / "takes.wav", rng, np.arange(1, 12, 1.5), snr_db=20)
    (tmp_path / "broken.wav").write_bytes(b"")
    takes, outputs = [tmp_path / "takes.wav", tmp_path / "broken.wav"], ["--write", tmp_path / "out"]
    outputs += ["-o", tmp_path / "claps.csv", "--figure", tmp_path / "claps.png", "--json"]
    arguments = ["cut", *takes, "--label", "clap", *outputs]
    assert run(list(map(str, arguments))) == 0
    said = json.loads(capsys.readouterr().out)
    assert said["clips"] == 8
    assert "is empty" in said["missed"][0]
    table = read_clip_table(tmp_path / "claps.csv")
    assert len(table) == len(list((tmp_path / "out" / "clap").glob("*.wav"))) == 8
    assert table["onset_s"].astype(float).between(0, 1).all()  # now within the file
    figure = cuts_figure(tmp_path / "takes.wav", find_takes(tmp_path / "takes.wav"))
    assert "8 clips of 1 s" in figure.get_suptitle()
    assert run(["cut", str(tmp_path / "takes.wav"), "-o", str(tmp_path / "claps.csv")]) == 1
    assert "--force" in capsys.readouterr().err


def test_the_simulated_microphone_plays_in_time_and_then_falls_silent():
    blocks = iter([np.ones(300, np.float32), np.full(300, 2, np.float32)])
    microphone = SimulatedMicrophone(blocks, 1000, speed=1000)
    np.testing.assert_array_equal(microphone.record(0.4), np.repeat([1, 2], [300, 100]))
    np.testing.assert_array_equal(microphone.record(0.4), np.repeat([2, 0], [200, 200]))
    with pytest.raises(AudioError, match="must be above 0"):
        SimulatedMicrophone(iter([]), 1000, speed=0)


def test_takes_are_recorded_kept_repeated_and_added_to_the_table(tmp_path, monkeypatch, capsys):
    write_audio(tmp_path / "source.wav", np.repeat([0.1, 0.2, 0.3, 0.4], 1000), 1000)
    base = ["record", str(tmp_path / "takes"), "--length-s", "1", "--speed", "1000", "--count-down", "0"]
    simulated = ["--microphone", f"simulated:{tmp_path / 'source.wav'}"]
    # The first take is repeated, the second kept, then something that is no answer, and the end.
    monkeypatch.setattr("sys.stdin", io.StringIO("\nr\n\nk\nwhat\nq\n"))
    assert run([*base, *simulated, "--label", "step", "--takes", "3", "--group", "shed"]) == 0
    said = capsys.readouterr()
    assert "Please answer with one of: Enter, q" in said.err
    assert "Kept 1 takes" in said.out
    kept, rate_hz = read_audio(tmp_path / "takes" / "step" / "step_0001.wav")
    assert (rate_hz, round(float(kept.mean()), 2)) == (1000, 0.2)
    # More takes are added to the same table and numbered on.
    arguments = [*base, "--microphone", "simulated:hull-knock", "--label", "step", "--takes", "2", "--keep-all"]
    assert run([*arguments, "--quiet"]) == 0
    table = read_clip_table(tmp_path / "takes" / "clips.csv")
    assert [name.rsplit("/", 1)[-1] for name in table["file"]] == [f"step_000{n}.wav" for n in (1, 2, 3)]
    assert table["group"].tolist() == ["shed", "", ""]
    # A silent take is dropped, and a microphone that hears nothing does not continue for ever.
    write_audio(tmp_path / "pauses.wav", np.repeat([0.0, 0.2, 0.0, 0.0, 0.0], 1000), 1000)
    pauses = [
        "--microphone",
        f"simulated:{tmp_path / 'pauses.wav'}",
        "--label",
        "pause",
        "--takes",
        "2",
        "--keep-all",
    ]
    capsys.readouterr()
    assert run([*base, *pauses]) == 2
    said = capsys.readouterr()
    assert said.out.count("silent: dropped, repeating") == 3
    assert "3 silent takes in a row" in said.err
    assert len(list((tmp_path / "takes" / "pause").iterdir())) == 1
    assert run([*base, "--microphone", "simulated:nothing", "--label", "x"]) == 2
    assert "neither a sound file nor a sound of the demo: bell-buoy" in capsys.readouterr().err
    assert run([*base, *simulated, "--label", "a/b"]) == 2
    assert "a label names a folder" in capsys.readouterr().err


def test_a_clip_of_a_longer_event_holds_some_of_its_sound(tmp_path, rng):
    """Three knocks of an event, with more than a clip of quiet between them."""
    x = 0.001 * rng.standard_normal(8 * RATE_HZ)
    for at in (2.0, 3.4, 4.8):
        x[round(at * RATE_HZ) :][:1600] += 0.3 * rng.standard_normal(1600)
    write_audio(tmp_path / "knocks.wav", x.astype(np.float32), RATE_HZ, encoding="FLOAT")
    for seed in range(8):
        found = find_takes(tmp_path / "knocks.wav", TakeSettings(max_gap_s=2.0, length_s=0.5), seed=seed)
        (row,) = found.itertuples()
        assert row.offset_s - row.onset_s > 2.5
        assert np.abs(x[round(row.start_s * RATE_HZ) : round(row.end_s * RATE_HZ)]).max() > 0.1
