from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

from barn_owl.errors import AudioError, PlanError
from barn_owl.features import FrontEnd, hertz_from_mel, mel_bank, mel_from_hertz, pool
from barn_owl.features.activity import activity
from helpers import assert_close


def plain_log_mel(front_end: FrontEnd, x: np.ndarray) -> np.ndarray:
    """The textbook in float64: loops, a discrete Fourier transform by its definition, triangles by sampling."""
    n, bins = front_end.fft_length, front_end.fft_length // 2 + 1
    fourier = np.exp(-2j * np.pi * np.outer(np.arange(bins), np.arange(n)) / n)
    window = 0.5 - 0.5 * np.cos(2 * np.pi * np.arange(front_end.frame) / front_end.frame)
    low, high = (2595 * np.log10(1 + f / 700) for f in (front_end.low_hz, front_end.top_hz))
    edges = 700 * (10 ** (np.linspace(low, high, front_end.bands + 2) / 2595) - 1)
    bank = np.zeros((bins, front_end.bands))
    for k in range(bins):
        inside = np.linspace(k - 0.5, k + 0.5, 2001) * front_end.rate_hz / n
        for b in range(front_end.bands):
            triangle = np.interp(inside, edges[b : b + 3], [0, 1, 0], left=0, right=0)
            bank[k, b] = np.trapezoid(triangle, dx=1 / 2000)
    rows = []
    for start in range(0, len(x) - front_end.frame + 1, front_end.hop):
        frame = np.zeros(n)
        frame[: front_end.frame] = x[start : start + front_end.frame] * window
        power = np.abs(fourier @ frame * 2 / window.sum()) ** 2
        rows.append(10 * np.log10(power @ bank + 10 ** (front_end.floor_db / 10)))
    return np.array(rows)


def test_log_mel_is_the_textbook(rng):
    front_end = FrontEnd(rate_hz=8_000, frame_ms=20, hop_ms=7, bands=9, low_hz=100, high_hz=3_000)
    x = (0.1 * rng.standard_normal(900)).astype(np.float32)
    expected = plain_log_mel(front_end, x.astype(np.float64)).astype(np.float32)
    # Float32 spectra against float64; the triangles are summed over 2000 points in the reference.
    assert_close(front_end.frames(x), expected, rtol=0, atol=2e-3)


@given(cuts=st.lists(st.integers(1, 60_000), max_size=12), hop_ms=st.sampled_from([10.0, 4.0, 32.0]))
@settings(max_examples=30, deadline=None)
def test_a_stream_gives_the_same_frames_bit_for_bit(cuts, hop_ms):
    front_end = FrontEnd(hop_ms=hop_ms)
    x = np.random.default_rng(3).standard_normal(60_000).astype(np.float32)
    stream, edges = front_end.stream(), sorted({0, len(x), *cuts})
    parts = [stream.push(x[a:b]) for a, b in pairwise(edges)]
    np.testing.assert_array_equal(np.concatenate(parts), front_end.frames(x))


@pytest.mark.parametrize("rate_hz", [8_000, 16_000, 44_100, 192_000])
def test_frames_are_counted_as_promised(rate_hz, rng):
    front_end = FrontEnd(rate_hz=rate_hz)
    for samples in (front_end.frame, front_end.frame + front_end.hop - 1, front_end.frame + front_end.hop, rate_hz):
        frames = front_end.frames(rng.standard_normal(samples))
        assert frames.shape == (front_end.count(samples), 48)
        assert frames.dtype == np.float32
        assert front_end.samples_for(len(frames)) <= samples


def test_full_scale_sine_at_a_center_reads_its_level_and_gain_shifts_it():
    front_end = FrontEnd(bands=24)
    f = round(front_end.centers_hz[12] / 31.25) * 31.25  # on a bin, for exact neighbors
    x = np.sin(2 * np.pi * f * np.arange(16_000) / 16_000).astype(np.float32)
    loud, quiet = front_end.frames(x), front_end.frames(x * np.float32(0.1))
    assert np.abs(loud.max() - 10 * np.log10(1.5)) < 1  # the window spreads a power of 1.5 over three bins
    assert loud.mean(axis=0).argmax() == 12
    # Only bands far above the floor move by exactly the gain.
    assert_close(quiet[loud > -50], loud[loud > -50] - 20, rtol=0, atol=2e-3)


def test_silence_reads_the_floor():
    assert_close(FrontEnd(floor_db=-80).frames(np.zeros(600)), np.full((1, 48), -80, np.float32), rtol=1e-6)


def test_mel_bank_sums_to_one_between_the_outer_centers_and_no_band_is_empty():
    bank = mel_bank(128, 20, 8_000, 16_000, 512)
    assert (bank.sum(axis=0) > 0).all()
    width, hertz = 16_000 / 512, np.arange(257) * 16_000 / 512
    centers = hertz_from_mel(np.linspace(*mel_from_hertz([20, 8_000]), 130))[[1, -2]]
    inside = (hertz - width / 2 >= centers[0]) & (hertz + width / 2 <= centers[1])
    assert_close(bank[inside].sum(axis=1), np.ones(inside.sum()), rtol=1e-12)


@given(st.lists(st.floats(0, 1e5), min_size=1, max_size=5))
def test_mel_and_back(hertz):
    assert_close(hertz_from_mel(mel_from_hertz(hertz)), np.array(hertz), rtol=1e-9, atol=1e-9)
    with pytest.raises(ValueError, match="must not be negative"):
        mel_from_hertz([-1.0])


@pytest.mark.parametrize(
    ("settings", "message"),
    [
        ({"hop_ms": 0}, "hop_ms: should be greater than 0, got 0"),
        ({"hop_ms": 40}, "hop_ms must be at most frame_ms=32, got 40"),
        ({"hop_ms": 0.01}, "hop_ms=0.01 is less than one sample at 16000 Hz"),
        ({"high_hz": 9_000}, "high_hz must be at most half of rate_hz=16000, got 9000"),
        ({"low_hz": 500, "high_hz": 400}, "low_hz must be below high_hz=400, got 500"),
        ({"bnads": 3}, "bnads: unknown key; did you mean bands?"),
        ({"bands": "many"}, "bands: should be a valid integer"),
        ({"rate_hz": float("nan")}, "rate_hz:"),
    ],
)
def test_settings_that_cannot_work_are_refused(settings, message):
    with pytest.raises(PlanError) as error:
        FrontEnd(**settings)
    assert message in str(error.value)


@pytest.mark.parametrize(
    ("samples", "message"),
    [
        (np.zeros(511), r"511 samples \(0.03194 s at 16000 Hz\) are too short for one frame of 32 ms"),
        (np.zeros((2, 600)), r"shape \(samples,\) or \(samples, channels\); got \(2, 600\)"),
        (np.full(600, np.nan), "must be finite"),
    ],
)
def test_samples_that_cannot_be_used_are_refused(samples, message):
    with pytest.raises(AudioError, match=message):
        FrontEnd().frames(samples)


def test_activity_finds_the_sound_and_ignores_level_and_noise(rng):
    frames = np.full((300, 8), -60.0, np.float32)
    frames[:, 0] = -10  # a steady hum
    frames[200:240, 3] += 30
    expected = np.zeros(300, np.float32)
    expected[202:238] = (30 - 6) / 8  # 30 dB less the margin, in an eighth of the bands; edges are smoothed
    inside = np.r_[0:198, 202:238, 242:300]
    assert_close(activity(frames, 0.016)[inside], expected[inside], rtol=1e-6)
    assert_close(activity(frames - 20, 0.016), activity(frames, 0.016), rtol=1e-6)
    # Steady noise does not stand out of itself.
    noise = FrontEnd().frames(0.1 * rng.standard_normal(48_000).astype(np.float32))
    assert activity(noise, 0.016).mean() < 0.01


def test_pooling_is_mean_and_deviation(rng):
    frames = rng.standard_normal((50, 3)).astype(np.float32)
    expected = np.concatenate([frames.mean(axis=0), frames.std(axis=0)]).astype(np.float32)
    assert_close(pool(frames), expected, rtol=1e-5, atol=1e-7)
    loudest = frames[np.argsort(frames.mean(axis=1))[-10:]].mean(axis=0)
    change = np.abs(np.diff(frames, axis=0)).mean(axis=0)
    assert_close(pool(frames, ["loud", "change"]), np.concatenate([loudest, change]), rtol=1e-5, atol=1e-7)
