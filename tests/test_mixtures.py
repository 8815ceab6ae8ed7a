"""Mixtures: their parts, audibility, and effects on levels and bands."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

from barn_owl.clips import ClipFrames
from barn_owl.features import FrontEnd
from barn_owl.features.activity import is_active, onset_frame, sounding
from barn_owl.learn import Examples, Plan
from barn_owl.learn.augment import Augment, reverberant
from barn_owl.learn.mixtures import MixtureMaker
from barn_owl.learn.plan import AugmentSettings
from barn_owl.learn.sources import describe
from helpers import RATE_HZ, small_plan, sound

PLAIN = {"tilt_db": 0, "shift_bands": 0, "tempo_percent": 0, "low_pass": 0, "mask": 0, "reverb": 0}


def examples(rng, front_end=FrontEnd(), kinds=("hum", "hiss", "still"), clips=6) -> Examples:  # noqa: B008 - frozen
    frames = [front_end.frames(sound(kind, rng, 0.6)) for kind in kinds for _ in range(clips)]
    targets = np.repeat(np.eye(len(kinds), dtype=np.float32), clips, axis=0)
    return Examples(clips=ClipFrames(frames), targets=targets, extras=np.zeros((len(frames), 0), np.float32))


def maker(rng, background=(2,), **changes) -> MixtureMaker:
    changes = {
        "augment": PLAIN,
        "mixtures": {"unknown": 0.0, "empty": 0.0, "snr_low_db": 20, "snr_high_db": 25},
    } | changes
    changes["mixtures"] = {"whole_clips": 0.0, **changes["mixtures"]}
    return MixtureMaker(Plan(background=["still"], **changes), examples(rng), list(background))


def test_mixtures_are_louder_where_a_label_sounds(rng):
    mixtures = maker(rng).make(40, 200, rng, most=1)
    assert mixtures.frames.shape == (40, 200, 48)
    assert mixtures.activity.shape == mixtures.onsets.shape == mixtures.counts.shape == (40, 200, 3)
    level = mixtures.frames.mean(axis=2)
    heard = mixtures.activity[..., :2].any(axis=2)
    sure = mixtures.counts[..., :2].all(axis=2)
    apart = [level[n][heard[n]].mean() - level[n][~heard[n] & sure[n]].mean() for n in range(40) if heard[n].any()]
    assert len(apart) > 30
    assert np.median(apart) > 10
    assert (mixtures.activity[..., 2] == (~heard & sure)).all()  # background is where nothing sounds


def test_onsets_are_where_sounds_begin(rng):
    mixtures = maker(rng).make(60, 200, rng, most=1)
    begun = 0
    for mixture, first, last, label in mixtures.events:
        onsets = np.flatnonzero(mixtures.onsets[mixture, :, label])
        assert (mixtures.activity[mixture, first:last, label] == 1).all()
        if len(onsets):
            begun += 1
            assert first - 4 <= onsets[0] <= first + 4
    assert begun > 30


def test_all_labels_are_drawn_as_often_however_many_clips_they_have(rng):
    made = examples(rng)
    keep = np.r_[0:6, 6:8, 12:18]  # six hums, two hisses
    few = Examples(clips=made.clips.take(keep), targets=made.targets[keep], extras=made.extras[keep])
    plan = Plan(background=["still"], augment=PLAIN, mixtures={"whole_clips": 0.0, "unknown": 0.0, "empty": 0.0})
    mixtures = MixtureMaker(plan, few, [2]).make(200, 120, rng, most=1)
    numbers = np.bincount([label for *_, label in mixtures.events], minlength=2)
    assert 0.7 < numbers[0] / numbers[1] < 1.4


def test_made_up_sounds_are_no_label_and_beds_alone_are_background(rng):
    for changes in ({"unknown": 0.99, "empty": 0.0}, {"unknown": 0.0, "empty": 0.99}):
        mixtures = maker(rng, mixtures=changes).make(30, 120, rng)
        assert mixtures.activity[..., :2].mean() < 0.02
        assert mixtures.activity[..., 2].mean() > 0.95


def test_what_is_too_faint_is_not_asked_for(rng):
    mixtures = maker(rng, mixtures={"unknown": 0, "empty": 0, "snr_low_db": -30, "snr_high_db": -29}).make(
        30, 200, rng
    )
    assert mixtures.activity[..., :2].mean() < 0.06
    assert (mixtures.counts == 0).any()


@given(most=st.integers(1, 3), frames=st.integers(30, 150), seed=st.integers(0, 50))
@settings(max_examples=15, deadline=None)
def test_mixtures_are_finite_and_come_again_from_their_seed(most, frames, seed):
    made = maker(np.random.default_rng(0), augment={}, mixtures={})
    one, two = (made.make(4, frames, np.random.default_rng(seed), most=most) for _ in range(2))
    assert np.isfinite(one.frames).all()
    for name in ("frames", "activity", "onsets", "counts"):
        np.testing.assert_array_equal(getattr(one, name), getattr(two, name))
    assert one.events == two.events


def test_whole_clips_follow_each_other_as_they_are_each_in_its_own_quiet(rng):
    made = examples(rng, kinds=("hum", "hiss", "still"))
    plan = Plan(background=["still"], augment=PLAIN, mixtures={"whole_clips": 1.0, "unknown": 0.0})
    margin = 30
    rows = MixtureMaker(plan, made, [2]).make(40, 300, rng, margin=margin)
    by_mixture = [[event for event in rows.events if event[0] == mixture] for mixture in range(40)]
    assert max(map(len, by_mixture)) > 2
    assert {label for *_, label in rows.events} == {0, 1, 2}  # background is a label like any
    for events in by_mixture:
        assert events[0][1] == margin
        assert all(one[2] <= other[1] for one, other in itertools.pairwise(events))  # none over another
    shapes = []
    for mixture, first, last, label in rows.events:
        clip = rows.frames[mixture, first:last]
        # Only the level changes: the difference to a clip of its label is constant.
        own = [made.clips[n] for n in range(len(made.clips)) if made.targets[n, label]]
        shapes.append(min(np.ptp(clip - one[: len(clip)]) for one in own if len(one) == len(clip)))
    assert max(shapes) < 0.01
    # Between clips the level is steady, and during a clip its label is active.
    mixture, _, end, _ = by_mixture[0][-1]
    assert np.ptp(rows.frames[mixture, end:], axis=0).max() < 1e-3
    assert all(
        rows.activity[mixture, first:last, label].any() for mixture, first, last, label in rows.events if label < 2
    )
    synthetic = MixtureMaker(plan.but(mixtures={"unknown": 0.5}), made, [2]).make(40, 300, rng, margin=margin)
    assert 3 in {label for *_, label in synthetic.events}  # none of the labels


def test_quiet_between_sounds_is_named_as_what_is_behind(rng):
    for background, label in (([2], 2), ([], 3)):  # background of a known label, and of none
        mixtures = maker(rng, background).make(30, 300, rng, most=2)
        sounding = [event for event in mixtures.events if event[3] < 2]
        quiet = [event for event in mixtures.events if event[3] == label]
        assert len(quiet) > 20
        for mixture, first, last, _ in quiet:
            assert not mixtures.activity[mixture, first:last, :2].any()
            assert all(last <= one[1] or first >= one[2] for one in sounding if one[0] == mixture)


@pytest.mark.parametrize("direct_db", [-3.0, 10.0])
def test_reverberation_decays_by_60_db_in_its_time_and_is_as_loud_as_asked(direct_db):
    decay = 40.0
    click = np.zeros((10, 3), np.float32)
    click[4] = 2.0, 1.0, 0.5
    heard = reverberant(click, decay, direct_db)
    assert len(heard) == 10 + round(decay / 2)
    np.testing.assert_array_equal(heard[:5], click[:5])  # nothing before it, and itself as it was
    tail = heard[5:]
    fall_db = 10 * np.log10(tail[1:] / tail[:-1])
    np.testing.assert_allclose(fall_db, -60 / decay, rtol=1e-4)
    kept = 1 - 10 ** (-6 / decay * len(tail))  # of an endless decay
    np.testing.assert_allclose(10 * np.log10(click[4] * kept / tail.sum(axis=0)), direct_db, atol=0.01)


def test_warped_bands_keep_their_ratio(rng):
    frames = np.full((20, 48), -80, dtype=np.float32)
    frames[:, [10, 30]] = -20
    augment = Augment(AugmentSettings(**PLAIN, warp_percent=20), FrontEnd())
    peaks = []
    for _ in range(60):
        warped, heard, _ = augment.warped(frames, describe(FrontEnd(), frames).of_clip(frames), rng, 1.0)
        assert warped.shape == frames.shape
        assert len(heard) == len(frames)
        peaks.append([warped[0, :20].argmax(), 20 + warped[0, 20:].argmax()])
    low, high = np.array(peaks).T
    assert (low.min(), low.max()) == (8, 12)
    assert high.min() == 25
    assert high.max() >= 36
    np.testing.assert_allclose(high / low, 3, atol=0.3)


def test_sounds_in_rooms_are_not_heard_in_what_they_leave(rng):
    dry, wet = (maker(np.random.default_rng(3), augment={**PLAIN, "reverb": share}) for share in (0.0, 1.0))
    one, two = (made.make(20, 200, np.random.default_rng(4), most=1) for made in (dry, wet))
    assert two.activity[..., :2].mean() < 1.3 * one.activity[..., :2].mean()
    assert two.frames.mean() > one.frames.mean() + 0.5  # the tails


def test_a_clip_that_is_longer_than_a_mixture_is_met_in_parts(rng):
    front_end = FrontEnd()
    ramp = np.repeat(np.linspace(-40, -10, 900, dtype=np.float32)[:, None], front_end.width, axis=1)
    whole = Examples(clips=ClipFrames([ramp, ramp[::-1]]), targets=np.eye(2, dtype=np.float32),
                     extras=np.zeros((2, 0), np.float32))  # fmt: skip
    plan = Plan(augment=PLAIN, mixtures={"whole_clips": 1.0, "unknown": 0.0})
    rows = MixtureMaker(plan, whole, []).make(20, 300, rng, margin=30)
    lengths = {last - first for _, first, last, _ in rows.events}
    assert lengths == {300 - 30 - 15}


def test_low_pass_takes_away_what_recordings_at_8_khz_lack(rng):
    whole, narrow = (maker(rng, augment={**PLAIN, "low_pass": share}).make(20, 60, rng) for share in (0.0, 1.0))
    bands = [mixtures.frames.mean(axis=(0, 1)) for mixtures in (whole, narrow)]
    below = FrontEnd().centers_hz < 3500
    assert bands[1][-1] < bands[0][-1] - 15
    assert np.abs(bands[1] - bands[0])[below].max() < 6

    augment = Augment(AugmentSettings(**(PLAIN | {"low_pass": 1})), FrontEnd(rate_hz=8000, high_hz=3400))
    power = np.ones((10, 48), dtype=np.float32)
    augment.narrow(power, rng)
    assert (power == 1).all()  # nothing to take away
    augment = Augment(AugmentSettings(**(PLAIN | {"low_pass": 1})), FrontEnd(rate_hz=32000, low_hz=5000))
    for _ in range(40):
        augment.narrow(power := np.ones((10, 48), dtype=np.float32), rng)
        assert (power[:, :24] == 1).all()  # or a model of high frequencies would be left with nothing


def test_frames_that_are_no_levels_take_the_place_of_what_is_behind(rng):
    front_end = FrontEnd(features=["mfcc", "deltas"])
    made = examples(rng, front_end)
    plan = small_plan("cnn", front_end=front_end.model_dump(), mixtures={"empty": 0.0, "whole_clips": 0.0})
    mixtures = MixtureMaker(plan, made, [2]).make(10, 100, rng, most=1)
    known = np.concatenate(made.clips.parts)
    at = mixtures.frames[0, 50]
    assert np.abs(known - at).max(axis=1).min() < 1e-4


def test_sounding_is_what_stands_out_and_all_of_a_clip_that_is_cut_close(rng):
    quiet, loud = np.full((60, 8), -60.0), np.full((20, 8), -30.0)
    noise = rng.normal(0, 1, (100, 8))
    clip = (np.concatenate([quiet[:40], loud, quiet[:40]]) + noise).astype(np.float32)
    heard = sounding(clip, 0.016)
    assert heard[41:59].all()
    assert not heard[:35].any()
    assert abs(onset_frame(clip, heard) - 40) <= 2
    decay = (-20 - np.arange(12)[:, None] * 2 + rng.normal(0, 0.5, (12, 8))).astype(np.float32)
    assert sounding(decay, 0.016).all()
    steady = (-40 + rng.normal(0, 1, (100, 8))).astype(np.float32)
    assert sounding(steady, 0.016).all()
    assert is_active(np.array([[0.0], [-29.0], [-31.0]], np.float32)).tolist() == [True, True, False]


@pytest.mark.parametrize("kind", ["hum", "tick"])
def test_short_and_long_sounds_are_found_in_silence(kind, rng):
    samples = np.concatenate([np.zeros(RATE_HZ), sound(kind, rng, 0.2), np.zeros(RATE_HZ)]).astype(np.float32)
    heard = np.flatnonzero(sounding(FrontEnd(hop_ms=10).frames(samples), 0.01))
    assert 95 <= heard[0] <= 103
    assert heard[-1] <= 122


def test_any_stretch_of_a_whole_recording_is_heard(rng):
    """A recording with a label as a whole: the levels of its frames show their position."""
    front_end = FrontEnd()
    ramp = np.repeat(np.linspace(-16, -10, 6000, dtype=np.float32)[:, None], front_end.width, axis=1)
    bed = np.full((400, front_end.width), -90, np.float32)
    targets = np.eye(2, dtype=np.float32)
    whole = Examples(clips=ClipFrames([ramp, bed]), targets=targets, extras=np.zeros((2, 0), np.float32))
    mixtures_ = {"whole_clips": 0.0, "unknown": 0.0, "empty": 0.0, "noise": 0.0, "snr_low_db": 30, "snr_high_db": 30}
    made = MixtureMaker(Plan(background=["bed"], augment=PLAIN, mixtures=mixtures_), whole, [1]).make(
        60, 300, rng, most=1
    )
    levels = made.frames[:, 150].mean(axis=1)
    assert np.ptp(np.quantile(levels, [0.1, 0.9])) > 3.5  # of the 6 dB
