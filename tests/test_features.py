from itertools import pairwise

import numpy as np
import pytest
import scipy
from hypothesis import given, settings, strategies as st

from barn_owl.arrays import quantile
from barn_owl.errors import AudioError, PlanError
from barn_owl.features import FrontEnd, mel_bank, pool, pooled_names
from barn_owl.features.catalog import FEATURES
from barn_owl.features.cepstrum import deltas
from helpers import assert_close

EVERYTHING = ["log-mel", "deltas", "second-deltas", "mfcc", "deltas", "chroma", "shape", "zero-crossings", "level"]
EVERYTHING += ["loudness", "pitch", "deltas", "pitch-confidence", "spectrogram", "power", "magnitude", "mel"]
RATE = 16_000


def sine(hertz, seconds=1.0, level=1.0, rate=RATE):
    return (level * np.sin(2 * np.pi * hertz * np.arange(round(seconds * rate)) / rate)).astype(np.float32)


def column(front_end, frames, name):
    return frames[:, front_end.columns.index(name)]


@given(
    cuts=st.lists(st.integers(1, 30_000), max_size=12),
    hop_ms=st.sampled_from([10.0, 7.3, 32.0, 1.0]),
    buffered=st.booleans(),
)
@settings(max_examples=20, deadline=None)
def test_every_feature_of_a_stream_is_that_of_the_file_bit_for_bit(cuts, hop_ms, buffered):
    front_end = FrontEnd(features=EVERYTHING, hop_ms=hop_ms)
    x = np.random.default_rng(2).standard_normal(30_000).astype(np.float32)
    x[9_000:12_000] = 0
    stream, edges = front_end.stream(buffered=buffered), sorted({0, len(x), *cuts})
    parts = [stream.push(x[a:b]) for a, b in pairwise(edges)] + [stream.finish()]
    whole = front_end.frames(x)
    np.testing.assert_array_equal(np.concatenate(parts), whole)
    assert whole.shape == (front_end.count(len(x)), front_end.width)
    assert len(front_end.columns) == len(front_end.units) == front_end.width
    assert len(front_end.times(len(whole))) == len(whole)


@pytest.mark.parametrize("features", [["log-mel", "deltas"], EVERYTHING])
def test_long_sound_has_the_same_frames_however_many_threads_share_it(rng, features):
    front_end = FrontEnd(features=features)
    x = rng.standard_normal(45 * RATE).astype(np.float32)
    alone = front_end.frames(x, workers=1)
    assert_close(front_end.frames(x, workers=3), alone, rtol=0)
    x[40 * RATE] = np.nan
    with pytest.raises(AudioError, match="samples must be finite"):
        front_end.frames(x, workers=3)


def test_who_may_wait_is_given_frames_by_whole_chunks_and_the_rest_at_the_end(rng):
    front_end = FrontEnd(hop_ms=10)
    x = rng.standard_normal(5 * RATE).astype(np.float32)
    blocks = list(front_end.frame_blocks(np.split(x, range(700, len(x), 700))))
    counts = [len(block) for block in blocks if len(block)]
    assert counts[:-1] == [128] * (front_end.count(len(x)) // 128)
    assert_close(np.concatenate(blocks), front_end.frames(x), rtol=0)
    stream = front_end.stream(buffered=True)
    assert stream.wait_s == pytest.approx(1.27)
    length = front_end.samples_for(127)
    pushed = [x[:length], x[length:][: front_end.hop], x[:1_000]]
    assert [len(stream.push(part)) for part in pushed] == [0, 128, 0]
    assert len(stream.finish()) == 6


@pytest.mark.parametrize("window", ["hann", "hamming", "blackmanharris"])
def test_power_is_that_of_scipy(rng, window):
    front_end = FrontEnd(features=["power"], window=window, frame_ms=25, hop_ms=10, fft=512)
    x = rng.standard_normal(8_000).astype(np.float32)
    w = scipy.signal.get_window(window, 400)
    other = scipy.signal.ShortTimeFFT(w * 2 / w.sum(), 160, RATE, mfft=512, phase_shift=None)
    ours = front_end.frames(x)
    # SciPy centers its windows on samples 0, 160, ...; ours begin there, 200 samples earlier.
    turned = np.roll(np.pad(x.astype(np.float64), (0, 400)), -200)
    theirs = np.abs(other.stft(turned).T[-other.p_min :]) ** 2
    assert_close(ours[2:], theirs[2 : len(ours)].astype(np.float32), rtol=1e-3, atol=1e-6)


@pytest.mark.parametrize(("frame_ms", "fft"), [(10, None), (10, 245), (7, 113), (6.25, 100)])
def test_odd_even_and_padded_transforms_are_the_definition(rng, frame_ms, fft):
    front_end = FrontEnd(features=["power", "mel"], frame_ms=frame_ms, hop_ms=5, fft=fft, bands=12)
    x = rng.standard_normal(1_000).astype(np.float32)
    n, frame = front_end.fft_length, front_end.frame
    window = 0.5 - 0.5 * np.cos(2 * np.pi * np.arange(frame) / frame)
    framed = np.lib.stride_tricks.sliding_window_view(x, frame)[:: front_end.hop] * (window * 2 / window.sum())
    fourier = np.exp(-2j * np.pi * np.outer(np.arange(n // 2 + 1), np.arange(frame)) / n)
    expected = np.abs(framed @ fourier.T) ** 2
    got = front_end.frames(x)
    assert_close(got[:, : n // 2 + 1], expected.astype(np.float32), rtol=1e-3, atol=1e-6)
    bank = mel_bank(12, 50, 8_000, RATE, n)
    assert_close(got[:, n // 2 + 1 :], (expected @ bank).astype(np.float32), rtol=1e-3, atol=1e-6)


def test_parseval_and_stages_agree(rng):
    x = rng.standard_normal(4_000).astype(np.float32)
    front_end = FrontEnd(
        features=["power", "magnitude", "spectrogram", "mel", "log-mel", "mfcc"], lifter=22, hop_ms=10
    )
    f = front_end.frames(x)
    bins = front_end.fft_length // 2 + 1
    power, magnitude, level = f[:, :bins], f[:, bins : 2 * bins], f[:, 2 * bins : 3 * bins]
    mel, log_mel, mfcc = np.split(f[:, 3 * bins :], [48, 96], axis=1)
    window = 0.5 - 0.5 * np.cos(2 * np.pi * np.arange(512) / 512)
    framed = np.lib.stride_tricks.sliding_window_view(x, 512)[::160] * (window * 2 / window.sum())
    both_sides = power.sum(axis=1) * 2 - power[:, 0] - power[:, -1]
    assert_close(both_sides, (512 * (framed**2).sum(axis=1)).astype(np.float32), rtol=1e-4)
    assert_close(magnitude**2, power, rtol=1e-5)
    assert_close(level, 10 * np.log10(power + front_end.floor), rtol=0, atol=1e-3)
    assert_close(log_mel, 10 * np.log10(mel + front_end.floor), rtol=0, atol=1e-3)
    n = np.arange(13)
    expected = scipy.fft.dct(log_mel.astype(np.float64), type=2, norm="ortho", axis=1)[:, :13] * (
        1 + 11 * np.sin(np.pi * n / 22)
    )
    # Float32 sums of 48 values around -30 dB.
    assert_close(mfcc, expected.astype(np.float32), rtol=1e-4, atol=5e-3)


def test_deltas_by_a_plain_loop_and_of_a_straight_line(rng):
    x = rng.standard_normal((20, 3))
    padded = np.concatenate([x[:1]] * 2 + [x] + [x[-1:]] * 2)
    expected = [sum(n * (padded[t + 2 + n] - padded[t + 2 - n]) for n in (1, 2)) / 10 for t in range(20)]
    assert_close(deltas(padded, 2), np.array(expected))
    line = np.arange(30.0)[:, None] * 0.7
    assert_close(deltas(line, 3), np.full((24, 1), 0.7), rtol=1e-12)
    front_end = FrontEnd(features=["level", "deltas", "second-deltas"], delta_ms=32)
    f = front_end.frames(sine(500) * np.linspace(0.1, 1, RATE, dtype=np.float32))
    base = np.concatenate([f[:1, :1]] * 4 + [f[:, :1]] + [f[-1:, :1]] * 4)
    assert_close(f[:, 1:2], deltas(base[2:-2], 2), rtol=1e-6)
    assert_close(f[:, 2:3], deltas(deltas(base, 2), 2), rtol=1e-6)


def test_a_sine_has_the_shape_of_a_line():
    front_end = FrontEnd(features=["shape", "level", "zero-crossings", "pitch", "pitch-confidence", "chroma"])
    f = front_end.frames(sine(1000))
    assert np.abs(column(front_end, f, "centroid") - 1000).max() < 1
    # The Hann window spreads a line over bins of weight 1/6, 4/6, 1/6.
    assert_close(column(front_end, f, "spread"), np.full(len(f), 31.25 / np.sqrt(3), np.float32), rtol=1e-3)
    assert_close(column(front_end, f, "kurtosis"), np.full(len(f), 3, np.float32), rtol=1e-2)
    assert np.abs(column(front_end, f, "skewness")).max() < 1e-2
    assert np.abs(column(front_end, f, "roll-off") - 1000).max() <= 31.25
    assert column(front_end, f, "flatness").max() < 1e-6
    assert_close(column(front_end, f, "crest"), np.full(len(f), 257 / 1.5, np.float32), rtol=1e-3)
    assert column(front_end, f, "flux").max() < 1e-3
    assert np.abs(column(front_end, f, "level")).max() < 0.05
    assert np.abs(column(front_end, f, "zero-crossings") - 2000).max() < 40
    assert np.abs(column(front_end, f, "pitch") - 1000).max() < 5
    assert column(front_end, f, "pitch-confidence").min() > 0.98
    tuned = FrontEnd(features=["chroma"]).frames(sine(440))
    assert FrontEnd(features=["chroma"]).columns[int(tuned.mean(axis=0).argmax())] == "chroma A"


def test_white_noise_is_flat_and_a_tilt_has_its_slope(rng):
    front_end = FrontEnd(features=["flatness", "centroid", "slope", "pitch-confidence"])
    f = front_end.frames(rng.standard_normal(10 * RATE).astype(np.float32))
    # The geometric mean of exponentially distributed powers is e^-gamma of their mean: 0.561.
    assert column(front_end, f, "flatness").mean() == pytest.approx(np.exp(-0.5772), abs=0.02)
    assert column(front_end, f, "centroid").mean() == pytest.approx(4000, rel=0.01)
    assert abs(column(front_end, f, "slope").mean()) < 0.1
    assert column(front_end, f, "pitch-confidence").mean() < 0.5
    click = np.zeros(600, np.float32)
    click[250] = 1
    assert_close(FrontEnd(features=["flatness"]).frames(click)[:, 0], np.ones(1, np.float32), rtol=1e-4)


def test_silence_is_finite_in_every_feature():
    front_end = FrontEnd(features=EVERYTHING)
    f = front_end.frames(np.zeros(2_000, np.float32))
    assert np.isfinite(f).all()
    assert column(front_end, f, "pitch").max() == 0
    assert column(front_end, f, "level").max() == pytest.approx(-140)


@pytest.mark.parametrize("hertz", [85, 120, 223.7, 440, 777, 990])
def test_pitch_of_harmonic_tones_is_within_half_a_percent(hertz):
    front_end = FrontEnd(features=["pitch", "pitch-confidence"])
    x = sum(sine(k * hertz) / k for k in range(1, 8) if k * hertz < 8_000) * np.float32(0.2)
    f = front_end.frames(x)
    assert np.abs(f[:, 0] / hertz - 1).max() < 0.005
    assert f[:, 1].min() > 0.9


def test_pitch_follows_a_sweep():
    t = np.arange(2 * RATE) / RATE
    front_end = FrontEnd(features=["pitch"])
    f = front_end.frames(scipy.signal.chirp(t, 150, 2, 600).astype(np.float32))[:, 0]
    # Half a frame minus half the longest lag lies before the middle of the compared samples.
    middle = front_end.times(len(f))
    assert np.median(np.abs(f / (150 + 225 * middle) - 1)) < 0.005


def test_flux_is_the_distance_to_the_frame_before(rng):
    x = np.concatenate([sine(500, 0.5), sine(2000, 0.5)])
    f = FrontEnd(features=["flux"], hop_ms=32).frames(x)[:, 0]
    assert f[0] == 0
    assert np.argmax(f) in (15, 16)
    assert f.max() == pytest.approx(np.sqrt(2), abs=0.3)


def test_momentary_loudness_of_the_reference_tone():
    front_end = FrontEnd(features=["loudness"], rate_hz=48_000, hop_ms=10)
    x = sine(997, seconds=2, rate=48_000)
    # BS.1770-4: a full-scale 997 Hz sine in a channel reads -3.01.
    assert_close(front_end.frames(x)[60:, 0], np.full(137, -3.01, np.float32), rtol=0, atol=0.02)
    assert front_end.units == ["LUFS"]


def test_range_limits_how_far_below_the_strongest_band():
    f = FrontEnd(range_db=30).frames(sine(1000))
    assert_close(f.max(axis=1) - f.min(axis=1), np.full(len(f), 30, np.float32), rtol=1e-5)


def test_pooling_by_numpy(rng):
    frames = rng.standard_normal((2, 40, 3)).astype(np.float32)
    statistics = ["mean", "deviation", "minimum", "maximum", "slope", "quantile 0.25"]
    slopes = [[np.polyfit(np.arange(40), clip[:, k], 1)[0] for k in range(3)] for clip in frames]
    expected = [
        frames.mean(1),
        frames.std(1),
        frames.min(1),
        frames.max(1),
        slopes,
        np.quantile(frames, 0.25, axis=1),
    ]
    assert_close(pool(frames, statistics), np.concatenate(expected, axis=1).astype(np.float32), rtol=1e-4, atol=1e-6)
    assert pooled_names(["a", "b"], ["mean", "slope"]) == ["mean of a", "mean of b", "slope of a", "slope of b"]
    for wrong in ("median", "quantile 2", "quantile x"):
        with pytest.raises(PlanError, match="there is no statistic"):
            pool(frames, [wrong])


@given(st.integers(1, 60), st.integers(1, 4), st.floats(0, 1), st.integers(0, 99))
def test_quantiles_are_those_of_numpy_to_the_bit(count, width, share, seed):
    values = (50 * np.random.default_rng(seed).standard_normal((count, width))).astype(np.float32)
    values[seed % count :: 3] = values[0]  # some are the same
    assert_close(quantile(values, share), np.quantile(values, share, axis=0), rtol=0)
    values[seed % count, 0] = np.nan
    assert np.isnan(quantile(values, share)[0])


@pytest.mark.parametrize(
    ("changes", "message"),
    [
        ({"features": ["mfccs"]}, "unknown feature 'mfccs'; did you mean mfcc?"),
        ({"features": ["zebra!"]}, "unknown feature 'zebra!'; there are power, magnitude"),
        ({"features": ["deltas"]}, "deltas must come after the feature it is of"),
        ({"features": []}, "features: List should have at least 1 item"),
        ({"fft": 256}, "fft must be at least the frame's 512 samples, got 256"),
        ({"bands": 300}, "bands must be at most the 256 bins of the transform, got 300"),
        ({"features": ["mfcc"], "coefficients": 60}, "coefficients must be at most bands=48, got 60"),
        ({"window": "hanning!"}, "window 'hanning!' is not known"),
        ({"pitch_low_hz": 2000}, "pitch_low_hz must be below pitch_high_hz=1000, got 2000"),
    ],
)
def test_features_that_cannot_be_are_refused(changes, message):
    with pytest.raises(PlanError) as error:
        FrontEnd(**changes)
    assert message in str(error.value)


def test_caveats_are_told_and_a_short_clip_is_padded_on_request():
    assert FrontEnd().caveats == []
    narrow = FrontEnd(bands=128, low_hz=20, features=["mfcc"]).caveats
    assert "mel bands are narrower than a bin" in narrow[0]
    assert (
        "too short for a pitch of 30 Hz, which needs 66.7 ms"
        in FrontEnd(features=["pitch"], pitch_low_hz=30).caveats[0]
    )
    with pytest.raises(AudioError, match="too short"):
        FrontEnd().frames(np.zeros(100))
    padded = FrontEnd(pad_short=True, features=["level", "deltas"])
    assert padded.frames(np.ones(100)).shape == (1, 2)
    assert (
        padded.frames(np.ones(100))[0, 0] == FrontEnd(features=["level"]).frames(np.pad(np.ones(100), (0, 412)))[0, 0]
    )


def test_every_feature_says_unit_and_formula():
    for feature in FEATURES.values():
        assert feature.unit
        assert feature.formula


def test_no_stage_changes_what_another_reads(rng):
    """Features are the same in any company and order: stages share memory, not results."""
    samples = rng.standard_normal(4000).astype(np.float32)
    names = ["power", "magnitude", "spectrogram", "mel", "log-mel", "mfcc", "flatness", "slope"]
    alone = {name: FrontEnd(features=[name]).frames(samples) for name in names}
    for order in (names, names[::-1]):
        whole = FrontEnd(features=order)
        frames, first = whole.frames(samples), 0
        for name in order:
            width = whole.widths[name]
            np.testing.assert_array_equal(frames[:, first : first + width], alone[name])
            first += width
