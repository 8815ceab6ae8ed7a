"""Formats, raw pipes, facts of a file, level and silence."""

import io
import struct

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings, strategies as st

from barn_owl.audio import (
    Gate,
    audio_info,
    facts_table,
    file_facts,
    find_activity,
    integrated_loudness,
    read_audio,
    remove_silence,
    set_level,
    stream_raw,
    write_audio,
)
from barn_owl.audio.loudness import k_weighting
from barn_owl.audio.silence import two_threshold_runs
from barn_owl.errors import AudioError, PlanError
from helpers import assert_close

LOSSLESS = [
    ("wav", "WAV", "PCM_U8", 2**-7),
    ("wav", "WAV", "PCM_32", 2**-24),
    ("wav", "WAV", "DOUBLE", 1e-7),
    ("wav", "WAVEX", "PCM_24", 2**-23),
    ("rf64", "RF64", "PCM_16", 2**-15),
    ("w64", "W64", "PCM_24", 2**-23),
    ("aiff", "AIFF", "PCM_24", 2**-23),
    ("caf", "CAF", "PCM_16", 2**-15),
    ("flac", "FLAC", "PCM_24", 2**-23),
]


def tone(hertz=440.0, seconds=2.0, rate=48_000, level=0.5):
    return (level * np.sin(2 * np.pi * hertz * np.arange(round(seconds * rate)) / rate)).astype(np.float32)


@pytest.mark.parametrize(("ending", "kind", "encoding", "step"), LOSSLESS)
def test_lossless_formats_and_their_excerpts(tmp_path, rng, ending, kind, encoding, step):
    x = rng.uniform(-0.9, 0.9, (30_000, 2)).astype(np.float32)
    path = tmp_path / f"x.{ending}"
    soundfile.write(path, x, 44_100, format=kind, subtype=encoding)
    assert_close(read_audio(path, channel=2)[0], x[:, 1], rtol=0, atol=step)
    part, _ = read_audio(path, start_s=0.25, end_s=0.5, channel=1)
    assert_close(part, x[11_025:22_050, 0], rtol=0, atol=step)


@pytest.mark.parametrize(("ending", "worst"), [("ogg", 0.05), ("opus", 0.1), ("mp3", 0.05)])
def test_lossy_formats_come_back_nearly(tmp_path, ending, worst):
    x = tone(seconds=4.0)
    write_audio(tmp_path / f"x.{ending}", x, 48_000)
    y, rate_hz = read_audio(tmp_path / f"x.{ending}")
    assert rate_hz == 48_000
    assert abs(len(y) - len(x)) < 5_000
    # Lossy codecs are judged away from the edges, where they may delay and fade in.
    assert np.abs(y[20_000:100_000] - x[20_000:100_000]).max() < worst
    part, _ = read_audio(tmp_path / f"x.{ending}", start_s=1.0, end_s=2.0)
    assert np.abs(part[1_000:47_000] - y[49_000:95_000]).max() < 1e-3


def test_an_excerpt_beyond_four_gigabytes_is_found_at_once(tmp_path):
    path = tmp_path / "long.rf64"
    soundfile.write(path, np.zeros(100), 48_000, format="RF64", subtype="PCM_16")
    head = bytearray(path.read_bytes()[:-200])
    samples = 2_500_000_000  # 5 GB, of which nearly all is a hole in the file
    place = head.index(b"ds64") + 8
    struct.pack_into("<QQQ", head, place, len(head) + 2 * samples - 8, 2 * samples, samples)
    with path.open("wb") as file:
        file.write(head)
        file.seek(len(head) + 2 * (samples - 48_000))
        file.write(np.full(48_000, 16_384, "<i2").tobytes())
    assert audio_info(path).samples == samples
    x, _ = read_audio(path, start_s=samples / 48_000 - 2)
    assert_close(x, np.repeat(np.float32([0, 0.5]), 48_000))


def test_the_loudest_channel_is_taken(tmp_path, rng):
    x = rng.standard_normal((5_000, 3)).astype(np.float32) * [0.01, 0.1, 0.05]
    write_audio(tmp_path / "x.wav", x, 8_000, encoding="FLOAT")
    assert_close(read_audio(tmp_path / "x.wav", channel="loudest")[0], x[:, 1].astype(np.float32))


@pytest.mark.parametrize(
    ("sample_type", "encoding"),
    [("uint8", "PCM_U8"), ("int16", "PCM_16"), ("int24", "PCM_24"), ("int32", "PCM_32"), ("float32", "FLOAT")],
)
def test_raw_samples_are_those_of_a_file(tmp_path, rng, sample_type, encoding):
    x = rng.uniform(-0.9, 0.9, (5_000, 2)).astype(np.float32)
    soundfile.write(tmp_path / "x.raw", x, 8_000, subtype=encoding, format="RAW", endian="LITTLE")
    soundfile.write(tmp_path / "x.wav", x, 8_000, subtype=encoding)
    raw = (tmp_path / "x.raw").read_bytes()

    class Drip(io.RawIOBase):
        """A pipe that returns seven bytes at a time."""

        def __init__(self):
            self.source = io.BytesIO(raw)

        def read(self, size=-1):
            return self.source.read(7)

    blocks = stream_raw(Drip(), from_hz=8_000, sample_type=sample_type, channels=2, channel=2)
    assert_close(np.concatenate(list(blocks)), read_audio(tmp_path / "x.wav", channel=2)[0], rtol=1e-6, atol=1e-9)


def test_raw_streams_that_cannot_be(caplog):
    with pytest.raises(AudioError, match="no sample type 'int12'; there are uint8, int16"):
        list(stream_raw(io.BytesIO(b""), from_hz=8_000, sample_type="int12"))
    (block,) = stream_raw(io.BytesIO(b"\xff" * 64), from_hz=8_000, sample_type="float32")
    assert not block.any()
    assert "are they really float32" in caplog.text
    with pytest.raises(AudioError, match="there is no channel 3"):
        list(stream_raw(io.BytesIO(b""), from_hz=8_000, channels=2, channel=3))


def test_k_weighting_is_that_of_the_standard():
    # ITU-R BS.1770-4, tables 1 and 2, at 48 kHz.
    shelf = [1.53512485958697, -2.69169618940638, 1.19839281085285, 1.0, -1.69065929318241, 0.73248077421585]
    high_pass = [1.0, -2.0, 1.0, 1.0, -1.99004745483398, 0.99007225036621]
    assert_close(k_weighting(48_000), np.array([shelf, high_pass]), rtol=1e-7)


@pytest.mark.parametrize(
    ("parts", "expected"),
    [
        # EBU Tech 3341, table 1: tones of 1 kHz in both channels, level in dBFS and seconds.
        ([(-23.0, 20)], -23.0),
        ([(-33.0, 20)], -33.0),
        ([(-36.0, 10), (-23.0, 60), (-36.0, 10)], -23.0),
        ([(-72.0, 10), (-36.0, 10), (-23.0, 60), (-36.0, 10), (-72.0, 10)], -23.0),
        ([(-26.0, 20), (-20.0, 20.1), (-26.0, 20)], -23.0),
    ],
)
@pytest.mark.parametrize("rate", [48_000, 16_000])
def test_loudness_of_the_published_signals(parts, expected, rate):
    mono = np.concatenate([tone(1000, seconds, rate, 10 ** (level / 20)) for level, seconds in parts])
    assert integrated_loudness(np.stack([mono, mono], axis=1), rate) == pytest.approx(expected, abs=0.1)


def test_loudness_of_silence_and_of_a_blink_is_none():
    assert integrated_loudness(np.zeros(48_000), 48_000) == -np.inf
    assert np.isnan(integrated_loudness(tone(seconds=0.2), 48_000))
    short = set_level(tone(seconds=0.2), 48_000, -30, measure="loudness")  # too short for a loudness: its RMS instead
    assert 10 * np.log10(np.mean(short.astype(np.float64) ** 2)) == pytest.approx(-30, abs=0.1)


def test_facts_of_a_known_file(tmp_path, rng):
    x = np.concatenate([tone(997, 3.0, level=0.5), np.zeros(48_000, np.float32)]) + np.float32(0.01)
    x[1_000:1_005] = x[2_000:2_003] = 1.0
    x[3_000:3_002] = -1.0  # two equal samples are a peak, not clipping
    write_audio(tmp_path / "x.wav", x, 48_000, encoding="FLOAT")
    facts = file_facts(tmp_path / "x.wav")
    assert (facts.duration_s, facts.rate_hz, facts.channels, facts.encoding) == (4.0, 48_000, 1, "WAV FLOAT")
    assert facts.peak_db == pytest.approx(0, abs=1e-6)
    assert facts.clipped == 2
    assert facts.dc_offset == pytest.approx(0.01, abs=1e-3)
    assert facts.rms_db == pytest.approx(20 * np.log10(np.sqrt(np.mean(x**2))), abs=1e-3)
    assert facts.silent_share == 0
    assert facts.noise_floor_db == pytest.approx(-40, abs=0.1)
    write_audio(tmp_path / "x.caf", x, 48_000, encoding="FLOAT")
    assert file_facts(tmp_path / "x.caf").fingerprint == facts.fingerprint


def test_true_peak_lies_between_the_samples(tmp_path):
    # A tone at a quarter of the rate, sampled 45 degrees off its crests, peaks 3 dB above its samples.
    x = np.sin(np.pi / 2 * np.arange(48_000) + np.pi / 4).astype(np.float32) * np.float32(0.5)
    write_audio(tmp_path / "x.wav", x, 48_000, encoding="FLOAT")
    facts = file_facts(tmp_path / "x.wav")
    assert facts.peak_db == pytest.approx(-9.03, abs=0.01)
    assert facts.true_peak_db == pytest.approx(-6.02, abs=0.2)


def test_bandwidth_really_used_is_seen(tmp_path, rng):
    noise = rng.standard_normal(88_200)
    spectrum = np.fft.rfft(noise)
    spectrum[np.fft.rfftfreq(88_200, 1 / 44_100) > 4_000] = 0
    for name, x in (("narrow", np.fft.irfft(spectrum)), ("full", noise)):
        write_audio(tmp_path / f"{name}.wav", 0.1 * x, 44_100)
    assert file_facts(tmp_path / "narrow.wav").bandwidth_hz == pytest.approx(4_000, abs=100)
    assert file_facts(tmp_path / "full.wav").bandwidth_hz > 21_900


def test_a_table_of_facts_reports_what_it_leaves_out(folder, tmp_path):
    paths = [*sorted(folder.rglob("*.wav"))[:4], tmp_path / "none.wav"]
    told = []
    table, skipped = facts_table(paths, progress=lambda done, total: told.append((done, total)))
    assert table["file"].tolist() == [str(path) for path in paths[:4]]
    assert list(skipped) == [str(paths[4])]
    assert told[-1] == (5, 5)
    for samples, loudness in ((100, np.nan), (8_000, -np.inf)):
        write_audio(tmp_path / "silent.wav", np.zeros(samples), 8_000, force=True)
        assert str(file_facts(tmp_path / "silent.wav").loudness_lufs) == str(loudness)


@pytest.mark.parametrize("measure", ["peak", "rms", "loudness"])
def test_levels_are_set(measure, rng):
    x = tone(seconds=1.0) + np.float32(0.01) * rng.standard_normal(48_000).astype(np.float32)
    y = set_level(x, 48_000, -20, measure=measure)
    now = {
        "peak": 20 * np.log10(np.abs(y).max()),
        "rms": 10 * np.log10(np.mean(y.astype(np.float64) ** 2)),
        "loudness": integrated_loudness(y, 48_000),
    }
    assert now[measure] == pytest.approx(-20, abs=1e-3)
    assert y.dtype == np.float32
    assert_close(set_level(np.zeros(48_000), 48_000, -20, measure=measure), np.zeros(48_000, np.float32))
    with pytest.raises(PlanError, match="no measure 'vu'"):
        set_level(x, 48_000, -20, measure="vu")


def test_activity_is_found_with_hold_and_padding(rng):
    x = 1e-3 * rng.standard_normal(10 * 8_000).astype(np.float32)
    for start, end in ((2.0, 2.5), (2.56, 3.0), (6.0, 6.2)):
        x[round(start * 8_000) : round(end * 8_000)] += tone(500, end - start, 8_000)
    found = find_activity(x, 8_000)
    np.testing.assert_allclose(found, [[1.95, 3.05], [5.95, 6.25]], atol=0.011)
    np.testing.assert_allclose(
        find_activity(x, 8_000, Gate(hold_s=0.0, pad_s=0.0)), [[2, 2.5], [2.56, 3], [6, 6.2]], atol=0.011
    )
    assert len(remove_silence(x, 8_000)) == pytest.approx(1.4 * 8_000, abs=200)
    assert len(find_activity(x, 8_000, Gate(min_duration_s=0.5))) == 1
    np.testing.assert_allclose(find_activity(tone(500, 2.0, 8_000), 8_000), [[0, 2]])
    assert find_activity(np.zeros(8_000), 8_000).shape == (0, 2)
    with pytest.raises(PlanError, match="release_db must be at most threshold_db=12, got 20"):
        Gate(release_db=20)


@given(st.lists(st.integers(0, 3), max_size=30))
@settings(max_examples=100)
def test_two_thresholds_by_a_plain_loop(values):
    expected, begin = [], None
    for at, value in enumerate([*values, 0]):
        if value >= 1 and begin is None:
            begin = at
        if value < 1 and begin is not None:
            if max(values[begin:at]) >= 3:
                expected.append([begin, at])
            begin = None
    assert two_threshold_runs(np.array(values, float), 3, 1).tolist() == expected
