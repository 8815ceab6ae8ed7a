"""What the examples in docstrings find in their folder: clips, a finished run, a recording with its truth."""

import shutil

import numpy as np
import pandas as pd
import pytest

import barn_owl
from barn_owl.annotation import item_key
from helpers import few_made_up, fill_harbor, leave_figures_blank, registrations_undone, shared

__all__ = ["shared"]


@pytest.fixture(scope="session")
def harbor(shared, tmp_path_factory):
    """A folder with ``clips/`` and their table, three runs, and a recording with its truth and events."""
    folder = tmp_path_factory.mktemp("examples")
    shutil.copytree(shared("harbor", fill_harbor), folder, dirs_exist_ok=True)  # examples write in it
    return folder


@pytest.fixture(autouse=True)
def _in_the_harbour(request, monkeypatch, doctest_namespace):
    """Run an example in that folder, with the packages available that users import."""
    doctest_namespace |= {"barn_owl": barn_owl, "item_key": item_key, "np": np, "pd": pd}
    # Each figure is drawn by the example of the function that makes it; a report of many need not draw them again.
    if request.path.parent.name != "show" or request.path.stem in ("report", "results"):
        leave_figures_blank(monkeypatch)
    if ">>>" in getattr(getattr(request.node, "dtest", None), "docstring", ""):
        monkeypatch.chdir(request.getfixturevalue("harbor"))
    with few_made_up(), registrations_undone():
        yield
