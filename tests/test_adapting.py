"""Adaptation of a model to a place, without labels."""

import numpy as np
import pytest
import scipy.signal

import barn_owl as owl
from barn_owl.cli.main import run as barn_owl
from barn_owl.errors import AudioError, ModelError
from barn_owl.network.layer import Fresh
from barn_owl.network.layers import BatchNorm
from barn_owl.runs import ensemble_of
from barn_owl.runs.adapting import COUNTED_SOUNDS, HALF_SOUNDS, LARGEST_SHARE
from barn_owl.tag import Tagger
from helpers import RATE_HZ, sound

KINDS = ("hum", "tick")


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    """A recording of 24 sounds, plain and through a response that falls by 6 dB per octave."""
    folder, rng = tmp_path_factory.mktemp("place"), np.random.default_rng(5)
    parts = [part for n in range(24) for part in (sound("still", rng, 1.5), sound(KINDS[n % 2], rng, 1.0))]
    plain = np.concatenate(parts)
    owl.write_audio(folder / "plain.wav", plain, RATE_HZ)
    filtered = scipy.signal.lfilter([0.2], [1, -0.8], plain).astype(np.float32)
    owl.write_audio(folder / "filtered.wav", filtered, RATE_HZ)
    return folder


def first_norms(model):
    return [next(layer for layer in net.layers if isinstance(layer, BatchNorm)) for net in model.classifier.networks]


def statistics_of_sounds(model, path):
    """Mean of the inputs of the first normalization of each network, over windows around the known sounds."""
    frames, means = model.front_end.frames(owl.read_audio(path)[0]), []
    windows = np.lib.stride_tricks.sliding_window_view(frames, model.classifier.window, axis=0)[::4].swapaxes(1, 2)
    centers_s = (np.arange(len(windows)) * 4 + model.classifier.window / 2) * model.front_end.hop_s
    x = windows[(centers_s % 2.5 > 1.5) & (centers_s < 60)].swapaxes(0, 1)[..., None]
    for network in model.classifier.networks:
        y = x
        for layer in network.layers:
            if isinstance(layer, BatchNorm):
                break
            y, _ = layer.forward(y, None, Fresh())
        means.append(y.reshape(-1, y.shape[-1]).mean(axis=0))
    return means


def test_statistics_move_towards_those_of_the_sounds_of_the_place(runs, place):
    model = runs["cnn"].model
    before = [norm.state["mean"].copy() for norm in first_norms(model)]
    adapted = owl.adapt(model, place / "filtered.wav")
    for old, norm, new, there in zip(
        before, first_norms(model), first_norms(adapted.model), statistics_of_sounds(model, place / "filtered.wav"),
        strict=True,
    ):  # fmt: skip
        assert np.array_equal(old, norm.state["mean"])  # the original is not changed
        reached = old + (new.state["mean"] - old) / adapted.share
        assert np.abs(reached - there).mean() < 0.3 * np.abs(old - there).mean()
    # all other weights and statistics are the same
    states = (one.classifier.state() for one in (model, adapted.model))
    changed = [name for (name, old), new in zip(*(s.items() for s in states), strict=False) if (old != new[1]).any()]
    assert len(changed) == 2 * len(model.classifier.networks)


def test_the_share_grows_with_the_number_of_sounds_and_labels(runs, place):
    adapted = owl.adapt(runs["cnn"].folder, [place / "plain.wav"])
    evidence = adapted.sounds["before"].clip(upper=COUNTED_SOUNDS).sum()
    assert evidence >= 12
    assert adapted.share == pytest.approx(LARGEST_SHARE * evidence / (evidence + HALF_SOUNDS))
    assert adapted.seconds == pytest.approx(48, abs=1)  # three stretches of 16 s
    assert "before" in adapted._repr_html_()


def test_an_adapted_model_is_a_model(runs, place, tmp_path):
    adapted = owl.adapt(runs["cnn"].model, place).model
    adapted.save(tmp_path / "here.safetensors")
    loaded = owl.load_model(tmp_path / "here.safetensors")
    assert loaded.provenance["adapted"]["recordings"] == [str(place)]
    offline = owl.tag_recording(loaded, place / "filtered.wav")
    samples, _ = owl.read_audio(place / "filtered.wav")
    tagger = Tagger(loaded)
    parts = [tagger.push(part) for part in np.array_split(samples, 17)] + [tagger.finish()]
    events = [(event.start_s, event.end_s, event.label) for part in parts for event in part]
    assert events == list(offline[["start_s", "end_s", "label"]].itertuples(index=False, name=None))
    assert len(events) > 0
    with pytest.raises(ModelError, match="already adapted"):
        owl.adapt(loaded, place)
    both = owl.adapt(ensemble_of([runs["cnn"].model, runs["cnn"].model]), place / "plain.wav").model
    for member, *_ in both.classifier.members:
        assert not np.array_equal(member.state()["0.2.mean"], runs["cnn"].model.classifier.state()["0.2.mean"])


def test_recordings_without_sounds_and_models_without_normalization_are_refused(runs, place, tmp_path):
    owl.write_audio(tmp_path / "quiet.wav", np.full(20 * RATE_HZ, 1e-3, dtype=np.float32), RATE_HZ)
    owl.write_audio(tmp_path / "short.wav", np.full(2 * RATE_HZ, 1e-3, dtype=np.float32), RATE_HZ)
    cnn = runs["cnn"].model
    for model, path, error, words in (
        (runs["logistic"].model, place / "plain.wav", ModelError, "no batch normalization"),
        (cnn, tmp_path / "quiet.wav", AudioError, "finds no sounds"),
        (cnn, tmp_path / "short.wav", AudioError, "none in .* has 8 s"),
        (cnn, tmp_path / "none.wav", AudioError, "none.wav does not exist"),
    ):
        with pytest.raises(error, match=words):
            owl.adapt(model, path)


def test_the_command_writes_a_model_of_its_own(runs, place, tmp_path, capsys):
    model, out = str(runs["cnn"].folder), tmp_path / "here.safetensors"
    arguments = ["adjust", model, "--recordings", str(place / "filtered.wav")]
    for more, words in (
        ([], "name it with -o"),
        (["truth.csv", "-o", str(out)], "takes no TRUTH"),
        (["--undo"], "takes only MODEL"),
    ):
        assert barn_owl([*arguments, *more]) == 2
        assert words in capsys.readouterr().err
    assert barn_owl([*arguments, "--dry-run"]) == 0
    assert not out.exists()
    assert barn_owl([*arguments, "-o", str(out)]) == 0
    assert "share of the normalization statistics" in capsys.readouterr().out
    assert barn_owl([*arguments, "-o", str(out)]) == 1
    assert "--force" in capsys.readouterr().err
    assert owl.load_model(out).labels == runs["cnn"].model.labels
