"""Small parts by hand and by brute force: layers over two axes, summaries, several labels, checkpoints, figures."""

import math

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st

from barn_owl.classifiers.base import label_scores, segment_logits
from barn_owl.classifiers.cnn import Convolutional
from barn_owl.classifiers.ensemble import Ensemble
from barn_owl.classifiers.kind import read_config, rebuild
from barn_owl.classifiers.level import Level
from barn_owl.clips import join_labels, join_multilabel, labels_in
from barn_owl.errors import ModelError, OutputError, TableError
from barn_owl.features import FrontEnd
from barn_owl.features.activity import clip_background
from barn_owl.learn import Plan
from barn_owl.learn.checkpoint import Checkpoint, read_checkpoint
from barn_owl.learn.summary import summary
from barn_owl.model import load_model
from barn_owl.network import Convolution, Network, Pool
from barn_owl.network.architecture import NetworkSettings
from barn_owl.runs import ensemble_of, open_run
from barn_owl.runs.data import label_names, usable_clips, with_splits
from barn_owl.runs.suggest import _active_s
from barn_owl.show import classifiers_figure, curves_figure
from helpers import assert_close, evaluation_of, small_plan, sound


def convolved(x, kernel, stride, dilation):
    """The definition of a convolution over two axes, by loops; x : ``(steps, bands, channels)``, padded already."""
    taps_t, taps_b, _, channels = kernel.shape
    steps = (x.shape[0] - (taps_t - 1) * dilation - 1) // stride[0] + 1
    bands = (x.shape[1] - taps_b) // stride[1] + 1
    y = np.zeros((steps, bands, channels))
    for t, b, i, j in np.ndindex(steps, bands, taps_t, taps_b):
        y[t, b] += x[t * stride[0] + i * dilation, b * stride[1] + j] @ kernel[i, j]
    return y


@given(
    taps=st.tuples(st.integers(1, 4), st.integers(1, 4)),
    stride=st.tuples(st.integers(1, 3), st.integers(1, 4)),
    dilation=st.integers(1, 2),
    padding=st.sampled_from(["valid", "bands"]),
    depthwise=st.booleans(),
    channels=st.sampled_from([2, 16]),
    seed=st.integers(0, 99),
)
@settings(max_examples=60, deadline=None)
def test_convolution_over_two_axes_is_its_definition(taps, stride, dilation, padding, depthwise, channels, seed):
    rng = np.random.default_rng(seed)
    layer = Convolution(None if depthwise else 3, taps, stride, dilation, padding)
    x = rng.standard_normal((2, 9, 8, channels))
    Network([layer], x.shape[1:], rng)
    kernel = layer.weights["kernel"].astype(np.float64)
    layer.weights["kernel"] = kernel
    y, _ = Network.forward(_single(layer), x)
    full = np.zeros((*taps, channels, y.shape[-1]))
    if depthwise:
        full[..., range(channels), range(channels)] = kernel.reshape(*taps, channels)
    else:
        full[:] = kernel.reshape(full.shape)
    zeros = [(0, 0), (0, 0)]
    for axis, (size, span) in enumerate(((9, (taps[0] - 1) * dilation + 1), (8, taps[1]))):
        if padding == "bands" and axis == 1:
            total = max((math.ceil(size / stride[axis]) - 1) * stride[axis] + span - size, 0)
            zeros[axis] = (total // 2, total - total // 2)
    for clip in range(2):
        expected = convolved(np.pad(x[clip], [*zeros, (0, 0)]), full, stride, dilation)
        assert_close(y[clip], expected, rtol=1e-9, atol=1e-12)


def _single(layer):
    """A network with a single layer and its weights."""
    net = object.__new__(Network)
    net.layers, net.frozen, net._begin = [layer], 0, 0
    return net


def test_pools_are_their_definition(rng):
    x = rng.standard_normal((2, 7, 6, 3))
    for kind, of in (("max", np.max), ("mean", np.mean)):
        y, _ = Network.forward(_single(Pool(kind, (3, 2), (2, 2))), x)
        for t, b in np.ndindex(3, 3):
            assert_close(y[:, t, b], of(x[:, 2 * t : 2 * t + 3, 2 * b : 2 * b + 2], axis=(1, 2)), rtol=1e-12)


def convolutional(bands=48, labels=7, size="small", frames=51, **more) -> Convolutional:
    settings_ = NetworkSettings(size=size, kinds=["2d"])
    return Convolutional(
        bands, labels, settings_, Level(frames=frames, range_db=50), np.random.default_rng(0), **more
    )


def test_the_summary_counts_right():
    made = convolutional()
    table = summary(made.networks[0], hop_ms=10, frame_ms=32)
    level, first = table.iloc[0], table.iloc[1]
    frames = made.window - 50
    steps = (frames - 5) // 2 + 1
    assert (level["layer"], level["weights"]) == ("relative level, 51 frames", 0)
    assert first["output"] == f"{steps} x 16 x 16"
    assert first["weights"] == 5 * 5 * 16
    assert first["multiply_adds"] == steps * 16 * 16 * 25
    assert first["receptive_field_ms"] == 32 + (50 + 4) * 10
    assert first["activation_kb"] == pytest.approx(steps * 16 * 16 * 4 / 1000)
    assert table["weights"].sum() == made.cost(0.01).weights == len(made.networks[0].vector)
    assert (
        table["receptive_field_ms"].iloc[-1] == 32 + (made.window - 1) * 10
    )  # the receptive field is the classifier's window
    # Steps share their work: a second of them costs less than 25 windows.
    alone = table["multiply_adds"].sum()
    assert alone < made.cost(0.01).multiply_adds < 25 * alone


@pytest.mark.parametrize("size", ["tiny", "small", "medium"])
@pytest.mark.parametrize("bands", [10, 30, 48, 64])
def test_sizes_that_ship_fit_any_bands_and_grow(size, bands):
    made = convolutional(bands, 5, size)
    steps = (200 - made.window) // made.step + 1
    for tracks, classifier in ((1, made), (5, convolutional(bands, 5, size, multilabel=True))):
        said = classifier.frame_scores(np.zeros((200, bands), np.float32))
        assert said.activity.shape == said.onsets.shape == (classifier.count(200), tracks) == (steps, tracks)
        assert said.label_logits.shape == (steps, 7)
        assert len(said.embedding) == steps
    small = convolutional(bands, 5).cost(0.01).weights
    assert {"tiny": made.cost(0.01).weights < small, "medium": made.cost(0.01).weights > small}.get(size, True)


LABELS = st.lists(st.sampled_from(["bell", "gull", "a b", "ö"]), unique=True)


@given(LABELS)
def test_labels_of_a_clip_are_written_and_read_back(labels):
    assert labels_in(join_labels(labels)) == sorted(labels)


@given(st.lists(st.tuples(LABELS, LABELS), min_size=1, max_size=30))
def test_overlapping_scores_are_those_of_brute_force(pairs):
    names = ["bell", "gull", "a b", "ö"]
    truth, said = ([join_labels(pair[split]) for pair in pairs] for split in (0, 1))
    scores = evaluation_of(truth, said, names, multilabel=True).scores
    assert scores.clips == len(pairs)
    assert scores.accuracy == pytest.approx(np.mean([set(a) == set(b) for a, b in pairs]))
    for name in names:
        right = sum(name in a and name in b for a, b in pairs)
        given_, count = sum(name in b for _, b in pairs), sum(name in a for a, _ in pairs)
        row = scores.by_label.loc[name]
        assert row["count"] == count
        assert row["recall"] == pytest.approx(right / count, nan_ok=True) if count else np.isnan(row["recall"])
        assert row["precision"] == pytest.approx(right / given_) if given_ else np.isnan(row["precision"])


def test_rows_of_one_excerpt_become_one(clips):
    rows = pd.DataFrame(
        [("a.wav", 0.0, 1.0, "bell", "x"), ("a.wav", 0.0, 1.0, "gull", "x"), ("a.wav", 1.0, 2.0, "gull|bell", "y")],
        columns=["file", "start_s", "end_s", "label", "note"],
    )
    joined = join_multilabel(rows)
    assert joined["label"].tolist() == ["bell|gull", "bell|gull"]
    assert joined["note"].tolist() == ["x", "y"]
    plan = Plan(multilabel=True)
    assert label_names(joined, plan) == ["bell", "gull"]
    with pytest.raises(TableError, match="set multilabel = true"):
        usable_clips(rows, Plan())
    # Stratification uses the rarest label of a clip; its label does not change.
    several = clips.assign(label=clips["label"] + "|sound")
    sided = with_splits(several, plan)
    assert sided["label"].tolist() == several["label"].tolist()
    assert set(sided["split"]) == {"train", "validation", "test"}


def test_a_checkpoint_comes_back_and_damage_is_told(tmp_path, rng):
    kept = Checkpoint(
        arrays={"vector": rng.standard_normal(5).astype(np.float32)},
        numbers={"random": rng.bit_generator.state, "least": float("inf")},
        curves=[{"epoch": 1}],
    )
    kept.save(tmp_path / "c.safetensors")
    back = read_checkpoint(tmp_path / "c.safetensors")
    assert_close(back.arrays["vector"], kept.arrays["vector"])
    assert (back.numbers, back.curves) == (kept.numbers, kept.curves)
    (tmp_path / "c.safetensors").write_bytes((tmp_path / "c.safetensors").read_bytes()[:40])
    with pytest.raises(ModelError, match="is damaged .*train again from the start"):
        read_checkpoint(tmp_path / "c.safetensors")
    (tmp_path / "file").write_text("")
    with pytest.raises(OutputError):
        kept.save(tmp_path / "file" / "c.safetensors")


def test_arrays_that_do_not_fit_are_refused(any_run):
    classifier = any_run.model.classifier
    arrays = {name: array.copy() for name, array in classifier.state().items()}
    shape = read_config({"name": classifier.name, **classifier.config()})
    again = rebuild(shape, arrays, 48, 4, multilabel=False)
    assert again.cost(0.01) == classifier.cost(0.01)
    with pytest.raises((ValueError, KeyError)):
        rebuild(shape, arrays, 48, 5, multilabel=False)
    with pytest.raises((ValueError, KeyError)):
        rebuild(shape, {}, 48, 4, multilabel=False)
    with pytest.raises(ValueError, match="there is no classifier 'forest'"):
        read_config({"name": "forest", **classifier.config()})


def test_members_of_an_ensemble_look_at_one_length(ranking):
    models = [load_model(ranking[0] / classifier) for classifier in ("cnn", "logistic")]
    members = [(model.classifier, model.mean, model.deviation) for model in models]
    with pytest.raises(ValueError, match="windows of different lengths"):
        Ensemble(members)


def test_what_is_active_is_the_shortest_stretch_that_holds_most():
    loud = np.zeros(300)
    loud[100:140] = 5.0
    loud[250:252] = 2.0
    assert _active_s(loud, 0.01) == pytest.approx(0.37)  # 0.9 of 204 are 37 frames of 5
    assert _active_s(np.full(300, 0.1), 0.01) == 1.0  # a steady sound


def test_figures_say_what_was_found(ranking):
    folder, table = ranking
    figure = classifiers_figure(table)
    (axes,) = figure.axes
    assert [text.get_text() for text in axes.get_yticklabels()] == table["classifier"].tolist()
    assert table["classifier"].iloc[0] in axes.get_title(loc="left")
    widths = [patch.get_width() for patch in axes.patches[: len(table)]]
    assert_close(np.array(widths), table["validation_balanced_accuracy"].to_numpy())
    run = open_run(folder / "cnn")
    losses, scores = curves_figure(run).axes
    drawn = {line.get_label(): line.get_ydata() for line in losses.get_lines()}
    assert_close(np.asarray(drawn["validation"]), run.curves["validation_loss"].to_numpy())
    assert scores.get_xlabel() == "epoch"
    assert curves_figure(open_run(folder / "logistic")).axes[1].get_xlabel() == "candidate"


def test_pooled_classifiers_take_any_front_end(clips, tmp_path):
    from barn_owl.runs import train

    plan = small_plan("trees").but(
        front_end=FrontEnd(features=["mfcc", "deltas", "pitch", "shape"]).model_dump(),
        pooling={"statistics": ["mean", "minimum", "slope", "quantile 0.9"]},
    )
    run = train(clips, tmp_path / "run", plan)
    assert run.evaluate().scores.balanced_accuracy > 0.8
    assert load_model(run.folder).classifier.statistics == plan.pooling.statistics


def test_scores_of_labels_share_what_is_said_of_any(rng):
    label_logits = rng.normal(0, 1, (5, 6)).astype(np.float32)  # four labels, none of them, attention
    activity = rng.random((5, 1), dtype=np.float32)
    found = label_scores(activity, label_logits)
    whole = np.exp(label_logits[:, :5]) / np.exp(label_logits[:, :5]).sum(axis=1, keepdims=True)
    assert_close(found, activity * whole[:, :4], rtol=1e-5)
    each = rng.random((5, 4), dtype=np.float32)
    assert label_scores(each, label_logits) is each


def test_pooled_classifiers_name_a_clip_by_its_windows_and_as_a_whole(ranking, rng):
    model = open_run(ranking[0] / "logistic").model
    classifier, frames = model.classifier, model.front_end.frames(sound("tick", rng))
    around = np.repeat(clip_background(frames, model.front_end.hop_s, -140)[None], classifier.window // 2, axis=0)
    steps = model.frame_scores(np.concatenate([around, frames, around]))
    ready = (frames - model.mean) / model.deviation
    whole = classifier.row_classifier.logits(classifier.rows(ready[None]))[0]
    assert_close(model.clip(frames).logits, (segment_logits(steps.label_logits)[:-1] + whole) / 2, rtol=1e-5)
    # An ensemble does the same; networks classify a clip by its steps only.
    several = ensemble_of([model, model])
    assert_close(several.clip(frames).logits, model.clip(frames).logits, rtol=1e-5)
    assert not hasattr(open_run(ranking[0] / "cnn").model.classifier, "whole")
