"""Several networks that are trained side by side."""

import os
import pickle
import signal
import time

import numpy as np
import pytest
from safetensors.numpy import load_file

from barn_owl.clips import ClipFrames, load_frames
from barn_owl.errors import TrainingError
from barn_owl.evaluate import predict
from barn_owl.features import FrontEnd
from barn_owl.learn import Examples, trainer_pool
from barn_owl.learn.fitted import held_out_parts
from barn_owl.learn.trainer_pool import TrainingProcesses, held_out
from barn_owl.model import load_model
from barn_owl.runs import Work, train
from helpers import assert_close, small_plan, sound


def plan_of(networks: int, epochs: int = 2):
    return small_plan("cnn").but(
        cnn={"kinds": ["2d", "1d", "2d"][:networks]},
        training={"epochs": epochs},
        mixtures={"count": 24},
        rehearsal={"minutes": 0},
    )


def test_networks_side_by_side_are_the_same_as_one_after_the_other(few_clips, tmp_path, rng):
    plan = plan_of(3).but(training={"refit": 1})
    alone, together = (train(few_clips, tmp_path / str(n), plan, work=Work(workers=n)) for n in (1, 2))
    assert (alone.folder / "model.safetensors").read_bytes() == (together.folder / "model.safetensors").read_bytes()
    dropped = ["seconds", "waiting"]
    assert alone.curves.drop(columns=dropped).equals(together.curves.drop(columns=dropped))
    # Outputs are averaged, and no two networks are the same.
    classifier, frames = alone.model.classifier, alone.model.front_end.frames(sound("hum", rng, 3.0))
    said = [network.forward(frames[None, ..., None])[0][0] for network in classifier.networks]
    assert_close(classifier.frame_scores(frames).activity, np.mean(said, axis=0)[:, :1], rtol=1e-3, atol=1e-3)
    assert np.abs(said[0] - said[1]).max() > 0.01
    assert classifier.cost(0.01).weights == sum(len(network.vector) for network in classifier.networks)
    assert_close(load_model(alone.folder).frame_scores(frames).activity, classifier.frame_scores(frames).activity)


def test_the_largest_seed_has_room_for_several_networks(few_clips, tmp_path):
    plan = plan_of(2, epochs=1).but(seed=2**63 - 1)
    first, second = train(few_clips, tmp_path / "run", plan, work=Work(workers=1)).model.classifier.networks
    assert not np.array_equal(first.vector, second.vector)


def test_training_goes_on_with_all_networks(few_clips, tmp_path):
    plan = plan_of(2, epochs=3)
    whole = train(few_clips, tmp_path / "whole", plan, work=Work(workers=1))

    class Stopped(BaseException):
        pass

    def stop(line):
        if line.epoch == 2:
            raise Stopped

    with pytest.raises(Stopped):
        train(few_clips, tmp_path / "parts", plan, work=Work(watch=stop))
    again = train(few_clips, tmp_path / "parts", resume=True)
    weights = [load_file(run.folder / "model.safetensors") for run in (whole, again)]
    assert all((weights[0][name] == weights[1][name]).all() for name in weights[0])


# Functions for worker processes are defined within tests, since workers cannot import the module of tests.


def test_a_killed_process_is_told(few_clips, tmp_path, monkeypatch):
    def kill_myself(_epoch, _last):
        os.kill(os.getpid(), signal.SIGKILL)

    monkeypatch.setattr(trainer_pool, "_learn", kill_myself)
    with pytest.raises(TrainingError, match="a process of the training was killed.*use fewer workers"):
        train(few_clips, tmp_path / "run", plan_of(2), work=Work(workers=2))


def test_a_process_that_is_killed_later_costs_no_more_than_what_came_after(few_clips, tmp_path, monkeypatch):
    def kill_later(epoch, last):
        if epoch > 1:
            os.kill(os.getpid(), signal.SIGKILL)
        return [member.epoch(epoch, last) for member in trainer_pool._of_this_process]

    monkeypatch.setattr(trainer_pool, "_learn", kill_later)
    with pytest.raises(TrainingError, match="a process of the training was killed.*The best until then, epoch 1"):
        train(few_clips, tmp_path / "run", plan_of(2, epochs=3), work=Work(workers=2))
    assert load_model(tmp_path / "run").labels


def test_a_process_that_holds_much_is_not_replaced_by_an_empty_one():
    def hold(megabytes):
        trainer_pool._of_this_process.append(np.ones(megabytes * 1_000_000, "u1"))
        time.sleep(1.1)  # a pool looks at the memory of its processes once per second
        return sum(len(one) for one in trainer_pool._of_this_process)

    with TrainingProcesses(plan_of(2), workers=2) as processes:
        pool = processes.take()
        assert [pool.submit(hold, megabytes).result() for megabytes in (400, 0, 0)] == [400_000_000] * 3
        pool.kill()


def test_frames_on_disk_go_to_another_process_without_their_content(clips, tmp_path):
    kept, _, _ = load_frames(clips, FrontEnd(), cache=tmp_path / "cache")
    memory, _, _ = load_frames(clips, FrontEnd())
    sent = pickle.dumps(kept.take(range(len(kept))[::-1]))
    assert len(sent) < 0.1 * sum(part.nbytes for part in kept.parts)
    for there, here in zip(pickle.loads(sent).parts, memory.parts[::-1], strict=True):  # noqa: S301
        assert (there == here).all()
    again = pickle.loads(pickle.dumps(memory))  # noqa: S301
    assert all((there == here).all() for there, here in zip(again.parts, memory.parts, strict=True))


def examples_of(groups: str, labels: str) -> Examples:
    """Clips of a single frame for each letter, with its number as value."""
    numbers = np.arange(len(groups), dtype=np.float32)
    targets = np.array([[label == other for other in "xyb"] for label in labels], dtype=np.float32)
    frames = ClipFrames([np.full((1, 4), number, np.float32) for number in numbers])
    return Examples(clips=frames, targets=targets, extras=np.zeros((len(groups), 0), np.float32), groups=list(groups))


def test_each_validation_clip_is_unheard_by_one_network():
    train, validation = examples_of("zz", "xy"), examples_of("aabbccdd", "xyxyxyxy")
    plan = plan_of(2).but(background=["b"], training={"refit": 1})
    parts = held_out(plan, validation)
    assert all(len({part for part, group in zip(parts, validation.groups, strict=True) if group == name}) == 1
               for name in "abcd")  # fmt: skip
    assert (np.bincount(parts) == 4).all()
    shares = trainer_pool.cross_fitted(plan, ["x", "y", "b"], train, validation)
    for number, (own, judged_on) in enumerate(shares):
        assert [clip[0, 0] for clip in judged_on.clips.parts] == np.flatnonzero(parts == number).tolist()
        assert [clip[0, 0] for clip in own.clips.parts] == [0, 1, *np.flatnonzero(parts != number)]
        assert (own.targets[2:] == validation.targets[parts != number]).all()
    # Without refit, no network trains on them; nor does a single network.
    for other in (plan.but(training={"refit": 0}), plan_of(1).but(training={"refit": 1})):
        assert not len(held_out(other, validation))
        assert all(
            share == (train, validation)
            for share in trainer_pool.cross_fitted(other, ["x", "y", "b"], train, validation)
        )


def test_a_single_group_is_left_out_by_one_network_and_background_judges_none():
    validation = examples_of("aaac", "xyxb")
    assert held_out_parts(examples_of("aaa", "xyx"), 2).tolist() == [0, 0, 0]
    shares = trainer_pool.cross_fitted(
        plan_of(2).but(background=["b"], training={"refit": 1}), ["x", "y", "b"], examples_of("z", "x"), validation
    )
    assert [judged_on is None for _, judged_on in shares] == [False, True]


def test_what_is_said_of_a_validation_clip_comes_from_the_network_that_has_not_heard_it(few_clips, tmp_path):
    run = train(few_clips, tmp_path / "run", plan_of(2).but(training={"refit": 1}))
    said, again = run.predictions, predict(run.model, few_clips)[0].set_index("file")["score"]
    own = said[said["split"] == "validation"].set_index("file")["score"]
    assert not np.allclose(own, again[own.index], rtol=0.001)
    test = said[said["split"] == "test"].set_index("file")["score"]
    assert_close(test.to_numpy(), again[test.index].to_numpy(), rtol=1e-4)
