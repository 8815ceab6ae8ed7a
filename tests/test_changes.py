"""Changes to the sound of clips against closed forms and plain loops."""

import numpy as np
import pytest
import scipy
from hypothesis import given, settings, strategies as st

from barn_owl.errors import PlanError
from barn_owl.sound import SoundSettings, UniformSettings, change_sound, changes, preprocess
from barn_owl.sound.augment import CHANGES
from helpers import RATE_HZ


def sine(hertz, seconds=2.0):
    return (0.3 * np.sin(2 * np.pi * hertz * np.arange(round(seconds * RATE_HZ)) / RATE_HZ)).astype(np.float32)


def strongest_hz(samples):
    spectrum = np.abs(np.fft.rfft(samples * np.hanning(len(samples)), 8 * len(samples)))
    return spectrum.argmax() * RATE_HZ / (8 * len(samples))


@pytest.mark.parametrize("factor", [0.7, 0.9, 1.0, 1.2, 1.5])
def test_stretching_keeps_pitch_and_level(factor):
    out = changes.stretch(sine(523.25), RATE_HZ, factor)
    assert len(out) == round(2 * RATE_HZ * factor)
    assert strongest_hz(out) == pytest.approx(523.25, rel=1e-3)
    inner = out[3000:-3000]
    assert np.sqrt(2 * np.mean(inner**2)) == pytest.approx(0.3, rel=0.01)


def test_stretching_keeps_a_chord_and_the_place_of_a_click():
    chord = sine(220) + sine(277.18) + sine(440)
    spectrum = np.abs(np.fft.rfft(changes.stretch(chord, RATE_HZ, 1.25)[4000:36000] * np.hanning(32000)))
    for hertz in (220, 277.18, 440):
        near = round(hertz * 2)
        assert spectrum[near - 3 : near + 4].max() > 0.8 * spectrum.max()
    click = np.zeros(2 * RATE_HZ, np.float32)
    click[16_000:16_040] = 0.5
    assert abs(int(np.abs(changes.stretch(click, RATE_HZ, 1.3)).argmax()) - 16_020 * 1.3) < 0.012 * RATE_HZ


@pytest.mark.parametrize("semitones", [-5, -1, 4])
def test_pitch_moves_by_semitones_and_length_stays(semitones):
    out = changes.change_pitch(sine(400), RATE_HZ, semitones)
    assert len(out) == 2 * RATE_HZ
    assert strongest_hz(out[: -RATE_HZ // 4]) == pytest.approx(400 * 2 ** (semitones / 12), rel=2e-3)


def test_speed_changes_pitch_and_length():
    out = changes.change_speed(sine(400), 1.1)
    assert len(out) == pytest.approx(2 * RATE_HZ / 1.1, abs=2)
    assert strongest_hz(out) == pytest.approx(440, rel=1e-3)


@pytest.mark.parametrize(("color", "slope"), [("white", 0), ("pink", -1), ("brown", -2), ("blue", 1), ("violet", 2)])
def test_noise_has_its_color(rng, color, slope):
    noise = changes.noise(color, 100_003, rng)
    assert (len(noise), noise.dtype) == (100_003, np.float32)
    assert np.mean(noise**2) == pytest.approx(1, rel=0.05)
    hertz, power = scipy.signal.welch(noise, RATE_HZ, nperseg=2048)
    inside = (hertz > 200) & (hertz < 6000)
    fitted = np.polyfit(np.log(hertz[inside]), np.log(power[inside]), 1)[0]
    assert fitted == pytest.approx(slope, abs=0.1)


@given(snr=st.floats(-20, 40), length=st.integers(50, 3000), seed=st.integers(0, 50))
@settings(deadline=None)
def test_sounds_are_mixed_at_the_ratio_asked_for(snr, length, seed):
    rng = np.random.default_rng(seed)
    sound, other = rng.standard_normal(2000).astype(np.float32), rng.standard_normal(length).astype(np.float32)
    added = changes.mix(sound, other, snr).astype(np.float64) - sound
    assert 10 * np.log10(np.mean(sound**2) / np.mean(added**2)) == pytest.approx(snr, abs=0.05)
    assert (changes.mix(sound, np.zeros(5, np.float32), snr) == sound).all()


@given(by=st.integers(-60, 60))
def test_shifting_moves_and_fills_with_silence(by):
    sound = np.arange(1, 51, dtype=np.float32)
    expected = [sound[n - by] if 0 <= n - by < 50 else 0 for n in range(50)]
    np.testing.assert_array_equal(changes.shift(sound, max(-50, min(50, by))), np.float32(expected))


def test_echoes_of_a_room_by_walking_through_its_images():
    size, source, listener = np.array([4.0, 3.0, 2.5]), np.array([1.0, 1.2, 1.1]), np.array([2.7, 2.0, 1.4])
    response = changes.room_response(RATE_HZ, size, source, listener, 0.7, 0.02)
    expected = np.zeros(len(response))
    direct = np.linalg.norm(source - listener)
    for i in range(-3, 4):
        for j in range(-3, 4):
            for k in range(-3, 4):
                # Image number n of a wall pair: the room is mirrored |n| times.
                image = [
                    n * L + (s if n % 2 == 0 else L - s) for n, L, s in zip((i, j, k), size, source, strict=True)
                ]
                distance = np.linalg.norm(np.array(image) - listener)
                delay = round((distance - direct) / 343.0 * RATE_HZ)
                if delay < len(expected):
                    expected[delay] += 0.7 ** (abs(i) + abs(j) + abs(k)) * direct / distance
    assert response[0] == pytest.approx(1)
    np.testing.assert_allclose(response, expected, atol=1e-6)


def test_clipping_telephone_and_equalizer_do_what_their_names_say(rng):
    clipped = changes.overdrive(sine(300), 6.02)
    assert np.abs(clipped).max() == pytest.approx(0.3, rel=1e-3)
    assert (np.abs(clipped) > 0.299).mean() == pytest.approx(2 / 3, abs=0.01)  # arcsin(1/2) is a third of a quarter
    wide = rng.standard_normal(2 * RATE_HZ).astype(np.float32)
    hertz, power = scipy.signal.welch(changes.telephone(wide, RATE_HZ), RATE_HZ, nperseg=1024)
    assert power[hertz > 4300].max() < 1e-4 * power[(hertz > 500) & (hertz < 3000)].mean()
    kept = changes.telephone(sine(1000), RATE_HZ)[2000:-2000]
    error = kept - sine(1000)[2000:-2000]
    assert 20 < 10 * np.log10(np.mean(kept**2) / np.mean(error**2)) < 50  # eight bits by the mu-law
    _, before = scipy.signal.welch(wide, RATE_HZ)
    _, after = scipy.signal.welch(changes.equalize(wide, 6.0, rng), RATE_HZ)
    assert (np.abs(10 * np.log10(after / before))[2:-2] < 6.5).all()


@pytest.mark.parametrize("name", CHANGES)
@pytest.mark.parametrize("samples", [200, 30_000])
def test_every_change_gives_sound_of_the_same_kind_and_again_the_same(name, samples):
    sound = np.random.default_rng(1).standard_normal(samples).astype(np.float32) * 0.1
    settings = SoundSettings(**{name: 1.0})
    out, said = change_sound(sound, RATE_HZ, settings, np.random.default_rng(3), background=lambda: sound[::-1])
    again, _ = change_sound(sound, RATE_HZ, settings, np.random.default_rng(3), background=lambda: sound[::-1])
    assert out.dtype == np.float32
    assert len(said) == 1
    assert np.isfinite(out).all()
    assert np.abs(out).max() <= 1
    assert 0.5 * samples < len(out) < 1.6 * samples
    np.testing.assert_array_equal(out, again)
    assert not np.array_equal(out, sound)


def test_nothing_asked_for_changes_nothing():
    sound = sine(100)
    out, said = change_sound(sound, RATE_HZ, SoundSettings(), np.random.default_rng(0))
    assert said == []
    assert out is sound or (out == sound).all()
    assert not SoundSettings().any
    with pytest.raises(PlanError, match="snr_low_db must be at most snr_high_db=10"):
        SoundSettings(snr_low_db=20, snr_high_db=10)
    with pytest.raises(PlanError, match="colors"):
        SoundSettings(colors=["mauve"])


def test_clips_are_made_uniform():
    quiet = np.concatenate([np.zeros(8000, np.float32), 0.01 * sine(440, 0.5), np.zeros(8000, np.float32)])
    assert preprocess(quiet, RATE_HZ, UniformSettings()) is quiet
    loud = preprocess(quiet, RATE_HZ, UniformSettings(level="peak", level_db=-6))
    assert np.abs(loud).max() == pytest.approx(10 ** (-6 / 20), rel=1e-3)
    trimmed = preprocess(quiet, RATE_HZ, UniformSettings(remove_silence=True))
    assert len(trimmed) == pytest.approx(0.6 * RATE_HZ, abs=0.05 * RATE_HZ)  # half a second and its padding
