"""Descriptors of a spectrum against their definitions, computed the slow way in float64."""

import numpy as np
import pytest
from hypothesis import given, strategies as st

from barn_owl.features.pitch import pitch
from barn_owl.features.shape import Blocks, crest, flatness, slope
from helpers import RATE_HZ


def moments_slowly(power, width_hz):
    p = power.astype(np.float64)
    p /= p.sum(axis=1, keepdims=True)
    f = np.arange(p.shape[1]) * width_hz
    centroid = p @ f
    away = f - centroid[:, None]
    spread = np.sqrt((p * away**2).sum(axis=1))
    higher = [(p * away**n).sum(axis=1) / spread**n for n in (3, 4)]
    return np.stack([centroid, spread, *higher], axis=1)


@given(bins=st.integers(3, 300), seed=st.integers(0, 99), tilt=st.floats(0, 12))
def test_moments_and_roll_off_of_any_spectrum(bins, seed, tilt):
    power = np.random.default_rng(seed).exponential(size=(5, bins)) * (1 + np.arange(bins)) ** -tilt
    power = power.astype(np.float32)
    expected = moments_slowly(power, 10.0)
    blocks = Blocks(power, 10.0)
    # Of a spectrum narrower than a bin, which no window leaves, float32 keeps too little.
    wide = expected[:, 1] > 10
    np.testing.assert_allclose(blocks.moments()[wide], expected[wide], rtol=5e-3, atol=5e-3)
    running = np.cumsum(power, axis=1, dtype=np.float64)
    at = (blocks.roll_off(0.85) / 10).astype(int)
    rows = np.arange(5)
    assert (running[rows, at] >= 0.85 * running[:, -1] * (1 - 1e-6)).all()
    assert (np.where(at > 0, running[rows, at - 1], 0) <= 0.85 * running[:, -1] * (1 + 1e-6)).all()


@pytest.mark.parametrize("middle", [3, 15, 16, 130, 250])
def test_a_narrow_peak_keeps_its_higher_moments_wherever_it_is(middle):
    power = np.full((1, 257), 1e-9, dtype=np.float32)
    power[0, middle - 2 : middle + 3] = [0.01, 0.3, 1, 0.6, 0.02]
    np.testing.assert_allclose(Blocks(power, 31.25).moments(), moments_slowly(power, 31.25), rtol=1e-3)


def test_descriptors_of_flat_single_and_silent_spectra():
    flat, single, silent = (
        np.ones((1, 257), np.float32),
        np.zeros((1, 257), np.float32),
        np.zeros((1, 257), np.float32),
    )
    single[0, 40] = 2
    assert flatness(flat, np.log(flat))[0] == pytest.approx(1)
    assert crest(flat)[0] == pytest.approx(1)
    assert crest(single)[0] == pytest.approx(257)
    np.testing.assert_allclose(Blocks(single, 10.0).moments(), [[400, 0, 0, 0]], atol=1e-3)
    assert Blocks(single, 10.0).roll_off()[0] == 400
    assert not Blocks(silent, 10.0).moments().any()
    assert Blocks(silent, 10.0).roll_off()[0] == 0
    falling = (10 ** (-0.3 * np.arange(257) / 10) * np.ones((1, 1))).astype(np.float32)
    assert slope(np.log(falling), 100.0)[0] == pytest.approx(-3, rel=1e-4)  # 0.3 dB every 0.1 kHz


def pitch_slowly(frame, rate_hz, low_hz, high_hz):
    """FrameScores 2 to 5 of the paper, in loops."""
    longest = int(np.ceil(rate_hz / low_hz)) + 1
    window = len(frame) - longest
    x = frame.astype(np.float64)
    d = np.array([((x[:window] - x[lag : lag + window]) ** 2).sum() for lag in range(longest + 1)])
    normalized = np.ones(longest + 1)
    for lag in range(1, longest + 1):
        normalized[lag] = d[lag] / d[1 : lag + 1].mean()
    lags = range(max(2, int(rate_hz / high_hz)), longest)
    dips = [k for k in lags if normalized[k] < 0.15 and normalized[k - 1] >= normalized[k] < normalized[k + 1]]
    lag = dips[0] if dips else min(lags, key=lambda k: normalized[k])
    left, middle, right = normalized[lag - 1 : lag + 2]
    bend = left - 2 * middle + right
    shift = np.clip(0.5 * (left - right) / bend, -0.5, 0.5) if bend > 1e-9 else 0.0
    return rate_hz / (lag + shift), np.clip(1 - (middle - 0.25 * (left - right) * shift), 0, 1)


@pytest.mark.parametrize("samples", [512, 511, 640])
def test_pitch_by_the_plain_loops_of_the_paper(rng, samples):
    t = np.arange(samples) / RATE_HZ
    tones = [np.sin(2 * np.pi * hz * t) + 0.5 * np.sin(4 * np.pi * hz * t + 1) for hz in (95, 220, 333.3, 900)]
    noisy = [tone + 0.3 * rng.standard_normal(samples) for tone in tones]
    frames = np.array([*tones, *noisy, rng.standard_normal(samples)], dtype=np.float32)
    expected = [pitch_slowly(frame, RATE_HZ, 80, 1000) for frame in frames]
    np.testing.assert_allclose(pitch(frames, RATE_HZ, 80, 1000), expected, rtol=1e-3, atol=1e-3)
