import itertools
import logging

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st

from barn_owl.audio import write_audio
from barn_owl.classify import DecisionSettings
from barn_owl.errors import AudioError
from barn_owl.tag import Decider, Tagger, TraceBlock, tag_recording, tag_samples, trace_recording
from barn_owl.tag.decision import LONGEST_S, SMOOTH_SHARE, Smoother
from helpers import RATE_HZ, assert_close, sound


@pytest.fixture(scope="module")
def long_take():
    """Half a minute of near silence with three sounds at 5, 12 and 20 seconds."""
    rng = np.random.default_rng(11)
    take = 0.01 * rng.standard_normal(30 * RATE_HZ).astype(np.float32)
    for at, kind in ((5, "hum"), (12, "tick"), (20, "hiss")):
        piece = sound(kind, rng, seconds=2.0)
        take[at * RATE_HZ : at * RATE_HZ + len(piece)] += piece
    return take


def test_events_are_found_where_they_are(runs, long_take, tmp_path):
    model = runs["tcn"].model
    write_audio(tmp_path / "take.wav", long_take, RATE_HZ, encoding="FLOAT")
    found = tag_recording(model, tmp_path / "take.wav")
    assert list(found) == ["file", "start_s", "end_s", "label", "score"]
    for at, kind in ((5, "hum"), (12, "tick"), (20, "hiss")):
        near = found[(found["start_s"] - at).abs() < 0.2]
        assert kind in near["label"].tolist()
    assert found["end_s"].max() <= 30
    pd.testing.assert_frame_equal(
        tag_samples(model, long_take, RATE_HZ).drop(columns="file"), found.drop(columns="file")
    )


@given(cuts=st.lists(st.integers(1, 30 * RATE_HZ), max_size=10))
@settings(max_examples=10, deadline=None)
def test_a_stream_gives_the_same_events(runs, long_take, cuts):
    model = runs["tcn"].model
    tagger, found, edges = Tagger(model), [], sorted({0, len(long_take), *cuts})
    for a, b in itertools.pairwise(edges):
        found += tagger.push(long_take[a:b])
    found += tagger.finish()
    whole = Tagger(model)
    assert found == whole.push(long_take) + whole.finish()


def test_trace_windows_are_those_of_the_model(run, long_take, tmp_path):
    write_audio(tmp_path / "take.wav", long_take, RATE_HZ, encoding="FLOAT")
    blocks = list(trace_recording(run.model, tmp_path / "take.wav"))
    windows, local = run.model.logits(run.model.front_end.frames(long_take))
    scores = np.concatenate([block.windows for block in blocks])
    assert [block.first for block in blocks] == list(range(0, len(windows), 256))
    exact = np.exp(windows - windows.max(axis=1, keepdims=True))
    exact /= exact.sum(axis=1, keepdims=True)
    # Chunks of other shapes may round the last bits of a product differently.
    assert_close(scores, exact.astype(np.float32), rtol=1e-3, atol=1e-4)
    assert len(np.concatenate([block.local for block in blocks])) == len(local)


def hand_made(model, scores, on=0.6, off=0.3, gap_s=0.0, shortest_s=0.0, chunk=256, **more):
    """Decide on a trace of window scores for the first label; the local scores are those of the windows."""
    steps = model.family.window // model.family.step
    windows = np.zeros((len(scores), len(model.labels)), np.float32)
    windows[:, 0] = scores
    local = np.pad(windows, ((steps // 2, steps), (0, 0)))[: len(windows) + steps]
    more = {"smooth_s": 0.0, **more}
    decider = Decider(model, DecisionSettings(on=on, off=off, gap_s=gap_s, shortest_s=shortest_s, **more))
    found = []
    for first in range(0, len(scores), chunk):
        last = first + chunk >= len(scores)
        part = slice(first, None if last else first + chunk)
        rise = np.zeros(len(local[part]) * model.family.step, np.float32)
        found += decider.push(TraceBlock(first, windows[part], local[part], rise, np.ones_like(windows[part])))
    return found + decider.finish()


def test_two_thresholds_on_hand_made_traces(runs):
    model = runs["tcn"].model
    trace = np.zeros(1000)
    trace[100:150], trace[120] = 0.4, 0.9  # reaches on, stays above off
    trace[300:350] = 0.5  # never reaches on
    trace[500:520], trace[580:600] = 0.8, 0.8  # a gap of 60 steps, 2.4 s
    apart, joined = hand_made(model, trace), hand_made(model, trace, gap_s=3.0)
    assert [event.label for event in apart] == [model.labels[0]] * 3
    assert [round(event.score, 2) for event in apart] == [0.9, 0.8, 0.8]
    assert len(joined) == 2
    assert joined[1].start_s == apart[1].start_s
    assert joined[1].end_s == apart[2].end_s
    assert hand_made(model, trace, shortest_s=5.0) == []
    assert hand_made(model, trace * 0.5) == []


@pytest.mark.parametrize("chunk", [7, 64, 256, 100_000])
def test_a_sound_without_end_is_one_event_in_bounded_memory(runs, chunk):
    model = runs["tcn"].model
    steps = round(3.5 * LONGEST_S / model.step_s)
    trace = np.zeros(steps + 500)
    trace[200 : 200 + steps] = 0.9
    (event,) = hand_made(model, trace, chunk=chunk)
    assert event.end_s - event.start_s == pytest.approx(3.5 * LONGEST_S, abs=1.5)


def test_recordings_of_every_odd_kind(run, tmp_path, rng, caplog):
    def tag(name, samples, rate_hz=RATE_HZ, **options):
        write_audio(tmp_path / name, samples, rate_hz, **options)
        return tag_recording(run.model, tmp_path / name)

    short = tag("short.wav", sound("hum", rng, seconds=0.3))
    assert (short["end_s"] <= 0.3).all()
    tag("silent.wav", np.zeros(40_000))
    tag("eight.wav", np.stack([sound("hum", rng)] * 8, axis=1), 48_000)
    tag("fast.wav", np.repeat(sound("hum", rng), 12), 192_000)
    with caplog.at_level(logging.WARNING):
        tag("nan.wav", np.full(40_000, np.nan), encoding="FLOAT")
    assert "40000 samples are not finite" in caplog.text
    with pytest.raises(AudioError, match=r"tiny\.wav .* too short for one frame of 32 ms"):
        tag("tiny.wav", np.zeros(10))
    with pytest.raises(AudioError, match="must be mono"):
        tag_samples(run.model, np.zeros((100, 2)), RATE_HZ)


@pytest.mark.parametrize("smooth_s", [None, 0.0, 0.2, 1.0])
def test_scores_are_averaged_around_each_step_however_they_come_in(runs, rng, smooth_s):
    model = runs["tcn"].model
    rows = rng.random((90, 3)).astype(np.float32)
    half = round((SMOOTH_SHARE * model.window_s if smooth_s is None else smooth_s) / model.step_s) // 2
    expected = np.array([rows[max(n - half, 0) : n + half + 1].mean(axis=0) for n in range(len(rows))])
    got = []
    for size in (len(rows), 7):
        smoother = Smoother.of(model, DecisionSettings(smooth_s=smooth_s))
        parts = [smoother.push(rows[first : first + size]) for first in range(0, len(rows), size)]
        got.append(np.concatenate([*parts, smoother.finish(3)]))
    assert_close(got[0], expected, rtol=1e-5, atol=1e-6)
    assert (got[0] == got[1]).all()


def test_decoding_ahead_changes_no_event(run, long_take, tmp_path):
    write_audio(tmp_path / "take.wav", long_take, RATE_HZ)
    alone, ahead = (tag_recording(run.model, tmp_path / "take.wav", ahead=ahead) for ahead in (False, True))
    assert alone.equals(ahead)
