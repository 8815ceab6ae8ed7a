"""What the examples in docstrings find in their folder: clips, a finished run, a recording with its truth."""

import shutil

import numpy as np
import pandas as pd
import pytest

import barn_owl
from barn_owl import runs
from barn_owl.annotation import item_key
from helpers import RATE_HZ, few_made_up, leave_figures_blank, shared, small_plan, sound, write_folder

__all__ = ["shared"]


@pytest.fixture(scope="session")
def harbor(shared, tmp_path_factory):
    """A folder with ``clips/`` and their table, three runs, and a recording with its truth and events."""
    folder = tmp_path_factory.mktemp("examples")
    shutil.copytree(shared("harbor", _fill), folder, dirs_exist_ok=True)  # examples write in it
    return folder


def _fill(folder):
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
        runs.train(clips, "first", small_plan("logistic", decoding=surer))
        runs.train(clips, "second", small_plan("nearest"))
        runs.train(clips, "network", small_plan("cnn", training={"epochs": 1}))
        rng, night, rows = np.random.default_rng(3), [], []
        for number, kind in enumerate(["hum", "tick", "hiss", "hum"]):
            night += [sound("still", rng, 2.0), sound(kind, rng, 1.0)]
            rows.append({"file": "night.wav", "start_s": 2.0 + 3 * number, "end_s": 3.0 + 3 * number, "label": kind})
        barn_owl.write_audio("night.wav", np.concatenate([*night, sound("still", rng, 2.0)]), RATE_HZ)
        barn_owl.write_clip_table(pd.DataFrame(rows), "truth.csv")
        events = barn_owl.tag_recording(barn_owl.load_model("first"), "night.wav")
        barn_owl.write_clip_table(events, "events.csv")


@pytest.fixture(autouse=True)
def _in_the_harbour(request, monkeypatch, doctest_namespace):
    """Run an example in that folder, with the packages available that users import."""
    doctest_namespace |= {"barn_owl": barn_owl, "item_key": item_key, "np": np, "pd": pd}
    # Each figure is drawn by the example of the function that makes it; a report of many need not draw them again.
    if request.path.parent.name != "show" or request.path.stem in ("report", "results"):
        leave_figures_blank(monkeypatch)
    if ">>>" in getattr(getattr(request.node, "dtest", None), "docstring", ""):
        monkeypatch.chdir(request.getfixturevalue("harbor"))
    with few_made_up():
        yield
