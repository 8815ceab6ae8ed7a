"""Helpers of several tests: strict comparison and synthetic sounds."""

import contextlib
import os
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
import soundfile
from filelock import FileLock
from matplotlib.figure import Figure
from matplotlib.layout_engine import ConstrainedLayoutEngine

import barn_owl
from barn_owl.classifiers import built_in
from barn_owl.evaluate import Evaluation
from barn_owl.features import custom
from barn_owl.learn import Plan, sources
from barn_owl.show.style import Picture

RATE_HZ = 16_000
TINY = {"size": "tiny", "kinds": ["2d"]}
BLANK = Figure(figsize=(1, 1), dpi=10)


def assert_close(actual, expected, *, rtol=1e-7, atol=0.0):
    """Strict on type and shape; every looser tolerance has a comment at the call."""
    actual, expected = np.asarray(actual), np.asarray(expected)
    assert actual.dtype == expected.dtype, f"{actual.dtype} is not {expected.dtype}"
    assert actual.shape == expected.shape, f"{actual.shape} is not {expected.shape}"
    np.testing.assert_allclose(actual, expected, rtol=rtol, atol=atol)


def leave_figures_blank(patch: pytest.MonkeyPatch) -> None:
    """Build figures, but neither lay them out nor draw them: that takes most of the time of a small command.

    That there is something to draw is seen to all the same.
    """

    def write_blank(figure, *arguments, **options):
        shown = figure.texts or any(axes.has_data() or axes.texts for axes in figure.axes)  # some state a reason
        assert shown, "there is nothing in this figure"
        BLANK.savefig(*arguments, **options)

    patch.setattr(Picture, "savefig", write_blank)
    patch.setattr(Picture, "disable_math", lambda _: None)
    patch.setattr(ConstrainedLayoutEngine, "execute", lambda *_: None)


@contextlib.contextmanager
def few_made_up() -> Iterator[None]:
    """Synthesize a tenth of the unknown sounds, which take seconds of each training."""
    before = sources.SYNTHETIC
    make_up(24)
    try:
        yield
    finally:
        make_up(before)


@contextlib.contextmanager
def registrations_undone() -> Iterator[None]:
    """Forget the classifiers and features that are registered within the block: another test may take their names."""
    registries = (built_in.registered, custom._registered)
    before = [dict(registry) for registry in registries]
    try:
        yield
    finally:
        for registry, entries in zip(registries, before, strict=True):
            registry.clear()
            registry.update(entries)


def make_up(count: int) -> None:
    """Set the number of synthetic unknown sounds for further trainings of this process."""
    sources.SYNTHETIC = count
    sources.synthetic_sounds.cache_clear()


def evaluation_of(
    truth: Sequence[str], predicted: Sequence[str], labels: Sequence[str], *, multilabel: bool = False
) -> Evaluation:
    """Evaluate predicted labels without scores; the first of `labels` is the most frequent in training."""
    table = pd.DataFrame({"label": list(truth), "predicted": list(predicted)})
    for label in labels:
        table[f"score:{label}"] = [float(label in text.split("|")) for text in predicted]
    return Evaluation(
        split="test", predictions=table, labels=list(labels), majority=labels[0], multilabel=multilabel, rounds=0
    )


def sound(kind: str, rng: np.random.Generator, seconds: float = 1.2) -> np.ndarray:
    """Return a synthetic sound of a kind: hum, hiss, ticks or stillness, at any level."""
    t = np.arange(round(seconds * RATE_HZ)) / RATE_HZ
    noise = 0.02 * rng.standard_normal(len(t))
    if kind == "hum":
        signal = sum(np.sin(2 * np.pi * k * rng.uniform(180, 260) * t) / k for k in range(1, 6))
    elif kind == "hiss":
        signal = np.diff(rng.standard_normal(len(t) + 1))
    else:
        signal = np.zeros(len(t))
    if kind == "tick":
        for at in range(rng.integers(2000), len(t) - 400, 3000):
            signal[at : at + 400] += 2 * np.sin(np.arange(400) * 0.9) * np.exp(-np.arange(400) / 90)
    return ((signal * 0.2 + noise) * rng.uniform(0.3, 1.0)).astype(np.float32)


def write_folder(folder: Path, seed: int, clips: int = 12, kinds=("hum", "hiss", "tick", "still")) -> Path:
    """Write a folder per label with `clips` WAV files each, by four recorders."""
    rng = np.random.default_rng(seed)
    for kind in kinds:
        (folder / kind).mkdir(parents=True)
        for number in range(clips):
            path = folder / kind / f"rec{number % 4}_{number:02d}.wav"
            soundfile.write(path, sound(kind, rng), RATE_HZ)
    return folder


def able_plan(classifier: str, **changes) -> Plan:
    """A plan that learns synthetic sounds in a second or four."""
    return Plan(
        classifier=classifier,
        training={"epochs": 16, "learning_rate": 1e-2, "weight_averaging": 0.8, "refit": 0},
        cnn=TINY,
        trees={"rounds": 40},
        kernel={"width": 1.2, "landmarks": 300},
        # Synthetic sounds, shifts and rehearsals have separate tests: the first two need more epochs.
        **{
            "background": ["still"],
            "level": {"span_s": 0.34},
            "mixtures": {"unknown": 0.0, "count": 64, "seconds": 2.5},
            "augment": {"shift_bands": 0, "tempo_percent": 0, "low_pass": 0, "mask": 0, "reverb": 0},
            "rehearsal": {"minutes": 0},
            "pooling": {"windows": 200},
            **changes,
        },
    )


def small_plan(classifier: str, **changes) -> Plan:
    """A plan to see that all is there, and not how well it is learned; that takes a quarter of the time."""
    quick = {
        "training": {"epochs": 5},
        "mixtures": {"count": 16},
        "pooling": {"windows": 60},
        "logistic": {"penalty": 0.03},
    }
    return able_plan(classifier).but(**{**quick, **changes})


def fill_harbor(folder: Path) -> None:
    """Write the files of the docstring examples: clips, their table, three runs, a recording, truth and events."""
    with pytest.MonkeyPatch.context() as patch:
        write_folder(folder / "clips", seed=5)
        patch.chdir(folder)
        clips = barn_owl.gather_folder("clips", names="{group}_{take}").clips
        barn_owl.write_clip_table(clips, "clips.csv")
        surer = {
            "threshold": 0.6,
            "release_threshold": 0.5,
            "smoothing_s": 0.1,
            "onset_shift_s": 0.2,
            "offset_shift_s": -0.2,
        }
        barn_owl.train(clips, "first", small_plan("logistic", decoding=surer))
        barn_owl.train(clips, "second", small_plan("nearest"))
        barn_owl.train(clips, "network", small_plan("cnn", training={"epochs": 1}))
        rng, night, rows = np.random.default_rng(3), [], []
        for number, kind in enumerate(["hum", "tick", "hiss", "hum"]):
            night += [sound("still", rng, 2.0), sound(kind, rng, 1.0)]
            rows.append({"file": "night.wav", "start_s": 2.0 + 3 * number, "end_s": 3.0 + 3 * number, "label": kind})
        barn_owl.write_audio("night.wav", np.concatenate([*night, sound("still", rng, 2.0)]), RATE_HZ)
        barn_owl.write_clip_table(pd.DataFrame(rows), "truth.csv")
        events = barn_owl.tag_recording(barn_owl.load_model("first"), "night.wav")
        barn_owl.write_clip_table(events, "events.csv")


@pytest.fixture(scope="session")
def shared(tmp_path_factory) -> Callable[[str, Callable[[Path], object]], Path]:
    """A folder that whoever asks first fills; another process of the tests finds it filled. Only read it."""
    own = tmp_path_factory.getbasetemp()
    root = own.parent if "PYTEST_XDIST_WORKER" in os.environ else own

    def filled(name: str, fill: Callable[[Path], object]) -> Path:
        folder, done = root / name, root / f"{name}.filled"
        with FileLock(root / f"{name}.lock"):
            if not done.exists():
                fill(folder)
                done.touch()
        return folder

    return filled
