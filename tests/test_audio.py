import logging
from itertools import pairwise

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings, strategies as st

from barn_owl.audio import audio_info, prefetch, read_audio, resample, stream_audio, write_audio
from barn_owl.audio.resampling import resample_blocks
from barn_owl.errors import AudioError, OutputError
from helpers import assert_close


def noise(rng, samples, channels=1):
    x = (rng.standard_normal((samples, channels)) * 0.1).clip(-1, 1).astype(np.float32)
    return x[:, 0] if channels == 1 else x


@pytest.mark.parametrize(
    ("ending", "encoding", "step"),
    [(".wav", "PCM_16", 2**-15), (".wav", "PCM_24", 2**-23), (".wav", "FLOAT", 0.0), (".flac", "PCM_16", 2**-15)],
)
def test_written_samples_come_back(tmp_path, rng, ending, encoding, step):
    x = noise(rng, 5000, channels=2)
    path = tmp_path / f"take{ending}"
    write_audio(path, x, 44_100, encoding=encoding)
    info = audio_info(path)
    assert (info.rate_hz, info.channels, info.samples, info.duration_s) == (44_100, 2, 5000, 5000 / 44_100)
    left, rate_hz = read_audio(path, channel=1)
    assert rate_hz == 44_100
    # Integer encodings round to the nearest step of their scale.
    assert_close(left, x[:, 0], rtol=0, atol=step)
    assert_close(read_audio(path)[0], x.mean(axis=1), rtol=1e-6, atol=step)


def test_excerpt_is_the_same_samples_as_the_whole(tmp_path, rng):
    path = tmp_path / "take.flac"
    write_audio(path, noise(rng, 30_000), 8_000)
    whole, _ = read_audio(path)
    part, _ = read_audio(path, start_s=1.25, end_s=2.5)
    assert_close(part, whole[10_000:20_000], rtol=0)


@given(cuts=st.lists(st.integers(1, 9_000), max_size=8), to_hz=st.sampled_from([8_000, 16_000, 44_100, 48_000]))
@settings(max_examples=25, deadline=None)
def test_resampling_does_not_depend_on_the_blocks(cuts, to_hz):
    x = np.random.default_rng(1).standard_normal(20_000).astype(np.float32)
    edges = sorted({0, len(x), *[cut for cut in cuts if cut < len(x)]})
    blocks = [x[a:b] for a, b in pairwise(edges)]
    joined = np.concatenate(list(resample_blocks(blocks, 22_050, to_hz)))
    assert_close(joined, resample(x, 22_050, to_hz), rtol=0)


def test_resampled_tone_keeps_pitch_and_level():
    t = np.arange(48_000) / 48_000
    y = resample(np.sin(2 * np.pi * 1000 * t).astype(np.float32), 48_000, 16_000)
    expected = np.sin(2 * np.pi * 1000 * np.arange(16_000) / 16_000).astype(np.float32)
    # The filter of this quality is good to about -100 dB away from the edges.
    assert_close(y[500:-500], expected[500:-500], rtol=0, atol=2e-5)


def test_eight_channels_at_192_khz_are_mixed_and_resampled(tmp_path, rng):
    x = noise(rng, 19_200, channels=8)
    write_audio(tmp_path / "array.wav", x, 192_000, encoding="FLOAT")
    mono, rate_hz = read_audio(tmp_path / "array.wav", rate_hz=16_000)
    assert (len(mono), rate_hz, mono.dtype) == (1_600, 16_000, np.float32)
    with pytest.raises(AudioError, match="8 channels; there is no channel 9"):
        read_audio(tmp_path / "array.wav", channel=9)


def test_samples_that_are_not_finite_become_silence_and_are_told(tmp_path, rng, caplog):
    x = noise(rng, 1_000)
    x[10], x[20] = np.nan, np.inf
    soundfile.write(tmp_path / "bad.wav", x, 8_000, subtype="FLOAT")
    y, _ = read_audio(tmp_path / "bad.wav")
    assert y[10] == y[20] == 0
    assert "bad.wav: 2 samples are not finite" in caplog.text


@pytest.mark.parametrize(
    ("ending", "told"), [(".wav", "less sound than its header says"), (".flac", "breaks off at")]
)
def test_truncated_file_is_read_as_far_as_it_goes(tmp_path, rng, caplog, ending, told):
    whole = tmp_path / f"whole{ending}"
    write_audio(whole, noise(rng, 200_000), 16_000)
    cut = tmp_path / f"cut{ending}"
    cut.write_bytes(whole.read_bytes()[: whole.stat().st_size // 2])
    with caplog.at_level(logging.WARNING):
        y, _ = read_audio(cut)
    assert 90_000 < len(y) < 110_000
    assert_close(y[:90_000], read_audio(whole)[0][:90_000], rtol=0)
    assert told in caplog.text


@pytest.mark.parametrize(
    ("content", "message"),
    [(None, "does not exist"), (b"", r"is empty \(0 bytes\)"), (b"hello, not sound", "cannot be read as sound")],
)
def test_unreadable_files_are_named(tmp_path, content, message):
    path = tmp_path / "x.wav"
    if content is not None:
        path.write_bytes(content)
    with pytest.raises(AudioError, match=rf"x\.wav {message}"):
        audio_info(path)


@pytest.mark.parametrize(
    ("start_s", "end_s", "message"),
    [(0.5, 0.2, "from 0.5 s to 0.2 s is not possible"), (0, 1.2, "past the end of the file"), (1, 1, "past the end")],
)
def test_impossible_excerpts_are_refused(tmp_path, rng, start_s, end_s, message):
    write_audio(tmp_path / "x.wav", noise(rng, 8_000), 8_000)
    with pytest.raises(AudioError, match=message):
        list(stream_audio(tmp_path / "x.wav", start_s=start_s, end_s=end_s))


def test_writing_leaves_the_old_file_when_it_fails(tmp_path, rng):
    path = tmp_path / "take.wav"
    write_audio(path, noise(rng, 100), 8_000)
    before = path.read_bytes()
    with pytest.raises(OutputError, match=r"take\.wav cannot be written"):
        write_audio.__wrapped__(path, noise(rng, 100), -1, force=True)
    with pytest.raises(AudioError, match="no sound format for the ending '.xyz'"):
        write_audio(tmp_path / "take.xyz", noise(rng, 100), 8_000)
    assert path.read_bytes() == before
    assert [file.name for file in tmp_path.iterdir()] == ["take.wav"]


def test_reading_ahead_passes_errors_on():
    def blocks():
        yield np.zeros(3)
        yield np.ones(2)
        raise AudioError("torn tape")

    got = []
    with pytest.raises(AudioError, match="torn tape"):
        got.extend(len(block) for block in prefetch(blocks()))
    assert got == [3, 2]


@pytest.mark.parametrize("channels", [2, 3, 8])
def test_the_mix_is_the_mean_of_all_channels(tmp_path, rng, channels):
    samples = rng.uniform(-0.5, 0.5, (5000, channels)).astype(np.float32)
    soundfile.write(tmp_path / "many.wav", samples, 16_000, subtype="FLOAT")
    mixed, _ = read_audio(tmp_path / "many.wav")
    np.testing.assert_allclose(mixed, samples.mean(axis=1, dtype=np.float64), rtol=1e-5, atol=1e-7)
