"""Learning from recordings without labels."""

import numpy as np
import pytest
import soundfile
from safetensors.numpy import load_file

from barn_owl.classifiers.cnn import split_outputs
from barn_owl.clips import ClipFrames, read_clip_table
from barn_owl.features import FrontEnd
from barn_owl.learn.augment import Augment
from barn_owl.learn.plan import AugmentSettings
from barn_owl.learn.unlabeled import FULL, WARM, Unlabeled, active_runs
from barn_owl.network import sigmoid
from barn_owl.runs import Work, train
from helpers import RATE_HZ, able_plan, assert_close, small_plan, sound

LABELS, STEPS = 3, 40
FRONT_END = FrontEnd()


def teacher_of(*sounding: tuple[int, int, list[float]]):
    """A teacher that hears sounds at these steps, with these logits of the labels and of none."""
    outputs = np.full((1, STEPS, 2 + LABELS + 2), -4.0, dtype=np.float32)
    for first, last, logits in sounding:
        outputs[:, first:last, 0] = 4.0
        outputs[:, first:last, 2 : 2 + LABELS + 1] = logits
    return lambda _frames: outputs


def unlabeled(*lengths: int) -> Unlabeled:
    rng = np.random.default_rng(0)
    parts = [rng.normal(-60, 5, (length, FRONT_END.width)).astype(np.float32) for length in lengths]
    return Unlabeled(ClipFrames(parts), 100, 0.064, LABELS, Augment(AugmentSettings(), FRONT_END))


def test_the_network_is_to_say_what_the_teacher_is_sure_of():
    sure, doubted, none, short = [9.0, 0, 0, 0], [1.0, 1, 0, 0], [0, 0, 0, 9.0], [9.0, 0, 0, 0]
    teacher = teacher_of((2, 8, sure), (12, 18, doubted), (22, 28, none), (32, 34, short))
    drawn = unlabeled(100).drawn(teacher, FULL / 2, 4, np.random.default_rng(1))
    assert drawn.frames.shape == (1, 100, FRONT_END.width)
    sounds, begins, _ = split_outputs(teacher(None), LABELS)
    assert_close(drawn.wanted, sigmoid(np.concatenate([sounds, begins], axis=-1)))
    assert (drawn.counts == 0.5).all()
    assert drawn.inside.shape == (1, STEPS, 4)
    assert [np.flatnonzero(drawn.inside[0, :, place]).tolist() for place in range(4)] == [
        list(range(2, 8)), [], list(range(22, 28)), []
    ]  # fmt: skip
    assert drawn.names[0, 0].argmax() == 0
    assert drawn.names[0, 2].argmax() == LABELS  # none of the labels
    few = unlabeled(100).drawn(teacher, FULL, 1, np.random.default_rng(1))
    assert few.inside.sum() == 6
    assert few.counts.max() == 1


def test_a_stretch_is_changed_by_a_response_and_a_gain_only():
    recordings = unlabeled(300)
    drawn = recordings.drawn(teacher_of(), 1.0, 4, np.random.default_rng(2))
    starts = [part - drawn.frames[0] for part in np.lib.stride_tricks.sliding_window_view(
        recordings._parts[0], (100, FRONT_END.width))[:, 0]]  # fmt: skip
    changes = min(starts, key=lambda change: change.std(axis=0).max())
    assert_close(changes, np.broadcast_to(changes[0], changes.shape), atol=1e-4)
    assert 0 < np.abs(changes[0]).max() < 25


def test_nothing_is_drawn_too_early_or_of_what_is_too_short():
    rng = np.random.default_rng(3)
    assert unlabeled(100).drawn(teacher_of(), WARM / 2, 4, rng) is None
    assert unlabeled(99).drawn(teacher_of(), 1.0, 4, rng) is None
    assert unlabeled().drawn(teacher_of(), 1.0, 4, rng) is None


@pytest.mark.parametrize("scores", [[], [0.9] * 2, [0.5] * 9])
def test_short_and_faint_runs_are_no_sounds(scores):
    assert active_runs(np.array(scores), 0.064) == []


@pytest.fixture(scope="module")
def night(tmp_path_factory):
    rng = np.random.default_rng(5)
    bed = 0.02 * rng.standard_normal(40 * RATE_HZ)
    for at in range(3, 38, 5):
        bed[at * RATE_HZ : at * RATE_HZ + 19_200] += sound("hum", rng)
    path = tmp_path_factory.mktemp("night") / "night.wav"
    soundfile.write(path, bed, RATE_HZ)
    return str(path)


def test_a_training_with_recordings_says_what_it_learned_from_and_is_reproducible(few_clips, night, tmp_path):
    plan, said = able_plan("cnn", recordings=[night]).but(training={"epochs": 8}), []
    run = train(few_clips, tmp_path / "one", plan, work=Work(stage=said.append, workers=1))
    assert "learning from 1 min of the recordings without labels, too" in said
    heard = read_clip_table(run.folder / "unlabeled.csv")
    assert set(heard["label"]) <= {*run.model.labels, ""}
    hums = np.arange(3, 38, 5)
    assert sum(np.abs(heard["start_s"] - at).min() < 0.3 for at in hums) >= 5

    class Stopped(BaseException):
        pass

    def stop(line):
        if line.epoch == 5:
            raise Stopped

    with pytest.raises(Stopped):
        train(few_clips, tmp_path / "two", plan, work=Work(watch=stop))
    again = train(few_clips, tmp_path / "two", resume=True)
    weights = [load_file(one.folder / "model.safetensors") for one in (run, again)]
    assert all((weights[0][name] == weights[1][name]).all() for name in weights[0])


def test_other_classifiers_and_several_labels_learn_from_labels_only(few_clips, night, tmp_path):
    said = []
    for name, plan in (("rows", small_plan("nearest")), ("several", small_plan("cnn", multilabel=True))):
        train(few_clips, tmp_path / name, plan.but(recordings=[night]), work=Work(stage=said.append))
    assert not any("without labels" in sentence for sentence in said)
