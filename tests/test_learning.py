"""Training of networks: targets, gradients, batches, states, the best epoch."""

from dataclasses import replace
from itertools import chain

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

from barn_owl.clips import ClipFrames
from barn_owl.errors import TrainingError
from barn_owl.features import FrontEnd
from barn_owl.learn import Examples, Plan, Progress
from barn_owl.learn.mixtures import Mixtures
from barn_owl.learn.plan import TrainingSettings
from barn_owl.learn.targets import FrameTargets
from barn_owl.learn.tasks import (
    ONSET_LOSS_WEIGHT,
    POSITIVE_ONSET_WEIGHT,
    UNLABELED_SEGMENT_WEIGHT,
    FrameTask,
    WindowTask,
)
from barn_owl.learn.trainer import EpochResult, NetworkTrainer, Start, State
from barn_owl.learn.training import _Best, last_epoch
from helpers import assert_close, small_plan, sound

LABELS = ["hum", "hiss", "still"]
HUM, HISS, STILL, NONE = range(4)


def plan_of(classifier: str = "cnn", **changes) -> Plan:
    return small_plan(classifier, **{"mixtures": {"count": 8, "seconds": 8.0}, "training": {"epochs": 2}, **changes})


def examples(plan: Plan, seed: int = 3, clips: int = 4) -> Examples:
    rng = np.random.default_rng(seed)
    frames = [plan.front_end.frames(sound(kind, rng, 0.6)) for kind in LABELS for _ in range(clips)]
    return Examples(
        clips=ClipFrames(frames), targets=np.repeat(np.eye(3, dtype=np.float32), clips, axis=0),
        extras=np.zeros((len(frames), 0), np.float32), multilabel=plan.multilabel,
    )  # fmt: skip


def over_mixtures(plan: Plan) -> FrameTask:
    return FrameTask(plan, LABELS, examples(plan), None, np.random.default_rng(1), None)


def mixture_of(subject: FrameTask, events: list[tuple[int, int, int, int]]) -> Mixtures:
    """A mixture with these events and complete labels."""
    length = subject._frames
    activity, onsets = (np.zeros((1, length, 3), np.float32) for _ in range(2))
    for _, first, last, label in events:
        if label < 3:
            activity[0, first:last, label] = onsets[0, first, label] = 1
    frames = np.zeros((1, length, subject.mean.size), np.float32)
    return Mixtures(frames, activity, onsets, np.ones_like(activity), events, np.zeros(1, int))


def test_a_mixture_asks_for_any_event_where_it_begins_and_what_each_is_called():
    subject = over_mixtures(plan_of())
    step, middle = subject._classifier.step, subject._classifier.window // 2
    steps = subject._classifier.count(subject._frames)
    first, last = middle + 10 * step, middle + 20 * step
    events = [(0, first, last, HISS), (0, first + 30 * step, last + 30 * step, NONE)]
    targets = subject._targets(mixture_of(subject, events))
    (activity, onsets), (activity_weights, onset_weights) = (
        np.split(both, 2, axis=-1) for both in (targets.scores, targets.weights)
    )
    inside = targets.inside
    assert activity.shape == (1, steps, 1)  # that of any label together
    np.testing.assert_array_equal(np.flatnonzero(activity[0, :, 0]), np.arange(10, 20))
    assert np.flatnonzero(onsets[0, :, 0]).tolist() == [10]
    assert (activity_weights == 1).all()
    # Just before and after an onset either answer will do, and the onset itself counts more.
    assert onset_weights[0, [9, 10, 11, 12], 0].tolist() == [
        0,
        ONSET_LOSS_WEIGHT * POSITIVE_ONSET_WEIGHT,
        0,
        ONSET_LOSS_WEIGHT,
    ]
    np.testing.assert_array_equal(np.flatnonzero(inside[0, :, 0]), np.arange(10, 20))
    np.testing.assert_array_equal(np.flatnonzero(inside[0, :, 1]), np.arange(40, 50))
    called = targets.labels[0]
    assert called[0].tolist() == [0, 1, 0, 0]
    assert called[1].tolist() == [0, 0, 0, 1]
    assert not called[2:].any()


def test_background_sounds_but_is_no_event():
    subject = over_mixtures(plan_of())
    targets = subject._targets(mixture_of(subject, [(0, 100, 160, STILL)]))
    assert not targets.scores.any()
    assert targets.inside.any()
    assert targets.labels[0, 0].tolist() == [0, 0, 1, 0]


def test_where_labels_overlap_each_is_followed_by_itself_and_a_sound_may_have_several_names():
    subject = over_mixtures(plan_of(multilabel=True))
    targets = subject._targets(mixture_of(subject, [(0, 100, 160, HUM), (0, 100, 160, HISS)]))
    activity, onsets = np.split(targets.scores, 2, axis=-1)
    inside = targets.inside
    assert activity.shape[-1] == onsets.shape[-1] == 3
    assert (activity[..., HUM] == activity[..., HISS]).all()
    assert not activity[..., STILL].any()
    assert inside[..., 0].any()
    assert not inside[..., 1:].any()  # a single segment
    assert targets.labels[0, 0].tolist() == [1, 1, 0, 0]


@pytest.mark.parametrize("multilabel", [False, True])
def test_the_gradient_of_what_mixtures_ask_is_its_difference_quotient(multilabel, rng):
    subject = over_mixtures(plan_of(multilabel=multilabel))
    events = [(0, 60, 100, HUM), (0, 120, 150, HISS), (0, 200, 215, NONE)]
    events += [(0, 120, 150, STILL)] * multilabel  # a sound of two labels
    targets = subject._targets(mixture_of(subject, events))
    targets = FrameTargets(*(array.astype(np.float64) for array in vars(targets).values()))
    steps, outputs = targets.scores.shape[1], (6 if multilabel else 2) + 4 + 1
    logits = rng.standard_normal((1, steps, outputs))
    loss, gradient = subject.loss(logits, targets)
    assert gradient.shape == logits.shape
    for _ in range(20):
        direction = rng.standard_normal(logits.shape)
        up, down = (subject.loss(logits + size * direction, targets)[0] for size in (1e-4, -1e-4))
        # Smoothing and counts are float32 numbers, the same on both sides.
        assert (up - down) / 2e-4 == pytest.approx(float((gradient * direction).sum()), rel=1e-4, abs=1e-6)
    assert loss > 0


def test_a_stretch_of_no_label_counts_less_than_one_of_a_label():
    subject = over_mixtures(plan_of())

    def pull(label):
        """Gradient of the label loss of a segment beside a segment of hum."""
        targets = subject._targets(mixture_of(subject, [(0, 60, 100, HUM), (0, 160, 200, label)]))
        logits = np.zeros((1, targets.scores.shape[1], 2 + 4 + 1), np.float32)
        gradient = subject.loss(logits, targets)[1][0, :, 2:-1]
        inside = targets.inside[0]
        own, other = (np.abs(gradient[inside[:, number] > 0]).sum() for number in (1, 0))
        return own / other

    assert pull(HISS) == pytest.approx(1, rel=1e-3)
    assert pull(NONE) == pytest.approx(UNLABELED_SEGMENT_WEIGHT, rel=1e-3)


def test_an_epoch_of_mixtures_holds_each_twice_beside_others(rng):
    subject = over_mixtures(plan_of(mixtures={"count": 32, "seconds": 3.0}))
    batches = [make() for make in subject.batches(rng)]
    mixtures = [
        list(zip(map(bytes, one.inputs), map(bytes, one.targets.scores), one.names, strict=True)) for one in batches
    ]
    first, again = mixtures[: len(mixtures) // 2], mixtures[len(mixtures) // 2 :]
    assert sorted(chain(*first)) == sorted(chain(*again))
    assert len({inputs for inputs, _, _ in chain(*mixtures)}) == 16
    assert sorted(map(sorted, first)) != sorted(map(sorted, again))


def test_an_epoch_of_rows_holds_each_once(rng):
    plan = plan_of("mlp")
    subject = WindowTask(plan, LABELS, examples(plan), None, np.random.default_rng(1))
    batches = [make() for make in subject.batches(rng)]
    rows = np.concatenate([batch.inputs for batch in batches])
    assert sorted(map(tuple, rows)) == sorted(map(tuple, subject._rows))
    assert all(len(batch.inputs) == len(batch.targets) == len(batch.names) for batch in batches)
    assert np.isnan(subject.judge()).all()  # without validation clips


@pytest.mark.parametrize("classifier", ["cnn", "mlp"])
def test_a_network_goes_on_from_a_state_as_if_nothing_had_been(classifier):
    plan = plan_of(classifier, training={"epochs": 3})

    def member(threads):
        return NetworkTrainer(plan, LABELS, examples(plan), examples(plan, seed=4), None, threads)

    through, later = member(1), member(2)
    states = [through.epoch(number, 3).state for number in (1, 2)]
    later.restore(states[1], 2)
    last, again = through.epoch(3, 3), later.epoch(3, 3)
    for name, array in last.arrays.items():
        np.testing.assert_array_equal(array, again.arrays[name])
    assert (last.train_loss, last.loss, last.f1) == (again.train_loss, again.loss, again.f1)
    assert last.state.numbers == again.state.numbers
    # The running average is kept, and training continues from the weights themselves.
    assert not np.array_equal(last.state.arrays["averaged"], last.state.arrays["vector"])
    through.close(), later.close()


def test_a_network_starts_from_another_one_with_its_standardization_and_frozen_layers():
    plan = plan_of()
    first = NetworkTrainer(plan, LABELS, examples(plan), None, None, 1)
    learned = first.epoch(1, 5)
    standard = first.task.mean + 1, first.task.deviation * 2
    further = plan.but(start={"frozen": 2, "rate_share": 0.5})
    second = NetworkTrainer(further, LABELS, examples(plan, seed=9), None, Start(learned.arrays, standard), 1)
    assert_close(second.task.mean, standard[0])
    arrays = second.epoch(1, 5).arrays
    moved = [name for name in arrays if not np.array_equal(arrays[name], learned.arrays[name])]
    still = [name for name in arrays if name not in moved]
    assert moved
    assert any("kernel" in name for name in still)
    first.close(), second.close()


def test_the_clip_with_frames_that_are_no_numbers_is_named():
    plan = plan_of("mlp", training={"epochs": 1})
    bad = examples(plan)
    member = NetworkTrainer(plan, LABELS, bad, None, None, 1)
    member.task._rows[5] = np.nan
    member.task._names[5] = "the broken one"
    with pytest.raises(TrainingError, match=r"not a number at epoch 1, batch \d of \d+, the broken one; lower"):
        member.epoch(1, 1)
    member.close()


def learned(loss: float, f1: float = 0.5, **more) -> EpochResult:
    one = EpochResult(train_loss=0, waiting=0, loss=loss, recall=f1, f1=f1, arrays={}, state=State({}, {}))
    return replace(one, **more)


def best_of(losses: list[float], *, judges: bool = True, **training) -> int:
    best = _Best(plan_of(training={"epochs": len(losses), **training}), judges=judges)
    for epoch, loss in enumerate(losses, start=1):
        best.take(epoch, len(losses), [learned(loss, arrays={"epoch": np.array(epoch)})])
    assert best.arrays[0]["epoch"] == best.epoch
    return best.epoch


@given(st.lists(st.floats(0, 10), min_size=2, max_size=42))
@settings(max_examples=40)
def test_the_best_epoch_is_the_first_of_least_loss_in_the_last_tenth(losses):
    late = 9 * len(losses) // 10
    assert best_of(losses, stop_on="loss") == late + 1 + int(np.argmin(losses[late:]))


def end_of(losses: list[tuple[float, float]], **training) -> int:
    ends = TrainingSettings(**training)
    curves = [
        Progress(epoch=n, epochs=0, train_loss=train, validation_loss=unseen, validation_recall=0, validation_f1=0,
                 best=False, seconds=0)
        for n, (train, unseen) in enumerate(losses, start=1)
    ]  # fmt: skip
    found = [last_epoch(ends, curves[:count]) for count in range(len(curves) + 1)]
    assert found[0] == ends.epochs
    assert found == sorted(found, reverse=True)
    return found[-1]


def test_training_ends_early_when_neither_loss_improves():
    falling = [(1 / n, 1 / n) for n in range(1, 31)]
    assert end_of(falling, epochs=40, patience=4) == 40
    flat = falling[:14] + [(1, 1)] * 4
    assert end_of(flat, epochs=40, patience=4) == 20  # 18 epochs, and as many again as are a tenth of all
    assert end_of([*flat, (0, 0)], epochs=40, patience=4) == 20  # once decided, it stays
    assert end_of(flat, epochs=19, patience=4) == 19
    assert end_of(flat, epochs=40, patience=5) == end_of(flat, epochs=40, patience=0) == 40


@pytest.mark.parametrize("still", [0, 1])
def test_one_loss_that_improves_is_enough_to_train_on(still):
    losses = [(1 / n, 1.0) if still else (1.0, 1 / n) for n in range(1, 31)]
    assert end_of(losses, epochs=40, patience=4) == 40
    assert end_of([(loss, np.nan) for loss in (3, 2, 1, 1, 1)], epochs=40, patience=2) == 6  # no validation clips


def test_without_a_judge_the_last_epoch_is_best_and_a_loss_that_is_no_number_never():
    assert best_of([0.1, 0.5, 0.9], judges=False) == 3
    assert best_of([0.4, np.nan, 0.3, np.nan], stop_on="loss") == 3
    assert best_of([0.1] * 9 + [np.nan] + [0.5] * 9 + [0.3, 0.4, np.nan] * 2, stop_on="loss") == 23


def test_a_network_without_validation_clips_of_its_own_has_no_say():
    best = _Best(plan_of(training={"epochs": 30, "stop_on": "loss"}), judges=True)
    for epoch, (one, other) in enumerate([(0, 0)] * 27 + [(2, 1), (1, 9), (2, 0)], start=1):
        best.take(epoch, 30, [learned(one), learned(other, judged=False)])
    assert best.epoch == 29


def test_epochs_are_judged_by_how_whole_sounds_are_named():
    plan = plan_of()
    subject = FrameTask(plan, LABELS, examples(plan), examples(plan, seed=4), np.random.default_rng(1), None)
    watched = subject._watched
    named, wanted = subject._labeled_segments(
        np.zeros((len(watched.frames), subject._classifier.count(subject._frames), 7)), watched
    )
    assert named.shape == wanted.shape
    assert (wanted.sum(axis=1) == 1).all()
    assert len(wanted) == len({event[:3] for event in watched.events if event[3] < 3 and _has_a_step(subject, event)})
    loss, recall, f1 = subject.judge()
    assert loss > 0
    assert 0 <= min(recall, f1) <= max(recall, f1) <= 1


def _has_a_step(subject: FrameTask, event: tuple[int, int, int, int]) -> bool:
    at = (
        np.arange(subject._classifier.count(subject._frames)) * subject._classifier.step
        + subject._classifier.window // 2
    )
    return bool(((at >= event[1]) & (at < event[2])).any())


@pytest.mark.parametrize("hop_ms", [5, 10, 20, 32])
def test_level_is_relative_to_the_same_time_whatever_the_hop(hop_ms):
    plan = Plan(front_end=FrontEnd(hop_ms=hop_ms), level={"span_s": 0.5})
    assert plan.levels.frames * plan.front_end.hop_s == pytest.approx(0.5, abs=plan.front_end.hop_s)
