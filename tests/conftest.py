"""Shared fixtures: seeds that can be swept, small trained runs, a small harbor."""

import contextlib
import gc
import io
import logging
import os
import shutil
import signal
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import settings

from barn_owl.classifiers.kind import names
from barn_owl.cli.main import run as barn_owl
from barn_owl.clips import gather_folder
from barn_owl.demo import Harbor
from barn_owl.runs import Run, open_run, suggest_plan, train_classifiers
from helpers import TINY, able_plan, few_made_up, leave_figures_blank, shared, write_folder

__all__ = ["shared"]

WITH_PYARROW = ("test_bad_input", "test_clip_table", "test_cluster", "test_gather_and_split", "test_many_clips")

# The duration of an example depends more on the machine than on the code.
settings.register_profile("buffered", deadline=None)
settings.load_profile("buffered")
# A shell that runs the tests in the background has them ignore Ctrl-C, and so would the commands that they start.
signal.signal(signal.SIGINT, signal.default_int_handler)


def pytest_collection_finish():
    """Freeze imported objects: collecting garbage in them again takes two hundredths of the time."""
    gc.freeze()


def pytest_generate_tests(metafunc):
    if "seed" in metafunc.fixturenames:
        seeds = [int(seed) for seed in os.environ.get("BARN_OWL_SEEDS", "0").split(",")]
        metafunc.parametrize("seed", seeds)


@pytest.fixture(autouse=True)
def _warnings_are_heard(monkeypatch):
    """The command line replaces the handler of warnings; later tests need them in the log."""
    monkeypatch.setattr(logging.getLogger("barn_owl"), "propagate", True)
    monkeypatch.setattr(logging.getLogger("barn_owl"), "level", logging.WARNING)


@pytest.fixture(autouse=True)
def _texts_as_in_the_plain_install(request):
    """Without pyarrow, which the plain install lacks, tables keep texts otherwise: most tests see that.

    Tests of tables and stores, docstring examples and subprocesses cover the alternative.
    """
    if request.path.stem in WITH_PYARROW:
        yield
        return
    with pd.option_context("mode.string_storage", "python"):
        yield


@pytest.fixture
def drawn():
    """For tests that look at drawn figures."""


@pytest.fixture(autouse=True)
def _only_what_is_looked_at_is_drawn(request, monkeypatch):
    if "drawn" not in request.fixturenames:
        leave_figures_blank(monkeypatch)


@pytest.fixture
def few_made_up_sounds():
    """For tests of training without the rejection of unknown sounds, whose synthesis takes seconds."""
    with few_made_up():
        yield


@pytest.fixture
def rng(seed):
    return np.random.default_rng(seed)


@pytest.fixture(scope="session")
def folder(shared) -> Path:
    """A folder per label: 48 clips of four labels."""
    return shared("sounds", lambda folder: write_folder(folder / "clips", seed=5)) / "clips"


@pytest.fixture(scope="session")
def clips(folder) -> pd.DataFrame:
    return gather_folder(folder, names="{group}_{take}").clips


@pytest.fixture(scope="session")
def few_clips(clips) -> pd.DataFrame:
    """Eight clips of each label, two by each recorder: enough to train where accuracy does not matter."""
    return clips.groupby(["label", "group"]).head(2).reset_index(drop=True)


@pytest.fixture(scope="session")
def ranking(clips, shared) -> tuple[Path, pd.DataFrame]:
    """All classifiers trained on the same clips: the folder of their runs, and how they rank."""

    def fill(folder: Path) -> None:
        train_classifiers(clips, folder, able_plan("cnn", rehearsal={"minutes": 0.4})).to_pickle(folder / "ranking")

    folder = shared("classifiers", fill)
    return folder, pd.read_pickle(folder / "ranking")  # noqa: S301 - our own


@pytest.fixture(scope="session")
def runs(ranking) -> dict[str, Run]:
    return {classifier: open_run(ranking[0] / classifier) for classifier in ("cnn", "logistic")}


@pytest.fixture(params=["cnn", "logistic"])
def run(request, runs) -> Run:
    return runs[request.param]


@pytest.fixture(params=[classifier for classifier in names() if classifier != "majority"])
def any_run(request, ranking) -> Run:
    return open_run(ranking[0] / request.param)


@pytest.fixture(scope="session")
def demo(shared) -> Path:
    """Folder of the demo command with 12 clips per label, a minute of night and a small run; its output is in
    said.txt."""

    def fill(folder: Path) -> None:
        said = io.StringIO()
        with pytest.MonkeyPatch.context() as patch, few_made_up(), contextlib.redirect_stdout(said):
            leave_figures_blank(patch)
            # A small network, a few mixtures and epochs are enough to see that all is there.
            patch.setattr("barn_owl.cli.demo.SCENES", 32)
            small = {"training": {"epochs": 3, "refit": 1}, "cnn": TINY, "rehearsal": {"minutes": 1}}
            patch.setattr("barn_owl.suggest_plan", lambda clips, **said: suggest_plan(clips, **said).but(**small))
            small_demo = ["--minutes", "1", "--clips", "12", "--workers", "1", "--second-night"]
            assert barn_owl(["demo", str(folder), *small_demo]) == 0
        (folder / "said.txt").write_text(said.getvalue())

    return shared("demo", fill)


@pytest.fixture(scope="session")
def quay(demo, shared) -> Harbor:
    """The small harbor of the demo, as it is before anything is trained on it."""
    own = shutil.ignore_patterns("run", "second", "*.csv", "*.png", "said.txt")

    def fill(folder: Path) -> None:
        shutil.copytree(demo, folder, ignore=own)
        for name in ("truth.csv", "second-truth.csv"):
            shutil.copy(demo / name, folder)

    folder = shared("quay", fill)
    return Harbor(
        clips=folder / "clips", recording=folder / "night.flac", truth=folder / "truth.csv",
        second_recording=folder / "second-night.flac", second_truth=folder / "second-truth.csv",
    )  # fmt: skip
