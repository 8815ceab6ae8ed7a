"""Shared fixtures: seeds that can be swept, small trained runs, a small harbour."""

import logging
import os
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import settings

from barn_owl.clips import gather_folder
from barn_owl.demo import Quay, write_quay
from barn_owl.learn.plan import FAMILIES
from barn_owl.runs import Run, open_run, train_families
from helpers import small_plan, write_folder

# How long an example takes says more about the machine than about the code.
settings.register_profile("patient", deadline=None)
settings.load_profile("patient")


def pytest_generate_tests(metafunc):
    if "seed" in metafunc.fixturenames:
        seeds = [int(seed) for seed in os.environ.get("BARN_OWL_SEEDS", "0").split(",")]
        metafunc.parametrize("seed", seeds)


@pytest.fixture(autouse=True)
def _warnings_are_heard(monkeypatch):
    """The command line gives warnings a handler of its own; a test after it wants to hear them too."""
    monkeypatch.setattr(logging.getLogger("barn_owl"), "propagate", True)
    monkeypatch.setattr(logging.getLogger("barn_owl"), "level", logging.WARNING)


@pytest.fixture
def rng(seed):
    return np.random.default_rng(seed)


@pytest.fixture(scope="session")
def folder(tmp_path_factory) -> Path:
    """A folder per label: 36 clips of three labels."""
    return write_folder(tmp_path_factory.mktemp("sounds") / "clips", seed=5)


@pytest.fixture(scope="session")
def clips(folder) -> pd.DataFrame:
    return gather_folder(folder, names="{group}_{take}").clips


@pytest.fixture(scope="session")
def ranking(clips, tmp_path_factory) -> tuple[Path, pd.DataFrame]:
    """All families trained on the same clips: the folder of their runs, and how they rank."""
    folder = tmp_path_factory.mktemp("families")
    return folder, train_families(clips, folder, small_plan("cnn", rehearsal={"minutes": 0.4}))


@pytest.fixture(scope="session")
def runs(ranking) -> dict[str, Run]:
    return {family: open_run(ranking[0] / family) for family in ("cnn", "logistic")}


@pytest.fixture(params=["cnn", "logistic"])
def run(request, runs) -> Run:
    return runs[request.param]


@pytest.fixture(params=[family for family in FAMILIES if family != "majority"])
def any_run(request, ranking) -> Run:
    return open_run(ranking[0] / request.param)


@pytest.fixture(scope="session")
def quay(tmp_path_factory) -> Quay:
    """A small harbour: 12 clips a label, one minute of night."""
    return write_quay(tmp_path_factory.mktemp("quay") / "quay", clips_per_label=12, minutes=1.0)
