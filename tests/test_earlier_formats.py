"""Files of earlier versions are read as they were meant: models, plans, event tables, stores.

Each folder of ``golden/format-N`` was written by the version with model format N, from the synthetic sounds of
`helpers`; a new format gets a new folder, and the earlier ones stay.
"""

import shutil
from pathlib import Path

import numpy as np
import pytest

import barn_owl as owl
from helpers import RATE_HZ, sound

GOLDEN = sorted(Path(__file__).with_name("golden").glob("format-*"))


@pytest.fixture
def night(tmp_path, monkeypatch) -> str:
    """The recording that the golden events are of."""
    monkeypatch.chdir(tmp_path)
    rng, samples = np.random.default_rng(3), []
    for kind in ("hum", "tick", "hiss", "hum"):
        samples += [sound("still", rng, 2.0), sound(kind, rng, 1.0)]
    owl.write_audio("night.wav", np.concatenate([*samples, sound("still", rng, 2.0)]), RATE_HZ)
    return "night.wav"


def same_events(found, wanted) -> None:
    assert found["label"].tolist() == wanted["label"].tolist()
    for name in ("start_s", "end_s", "score"):
        np.testing.assert_allclose(found[name], wanted[name], atol=2e-3)


@pytest.mark.parametrize("folder", GOLDEN, ids=lambda folder: folder.name)
def test_models_and_event_tables_of_earlier_versions_mean_the_same(folder, night):
    model, events = owl.load_model(folder / "model.safetensors"), owl.read_events(folder / "events.csv")
    assert model.labels == ["hiss", "hum", "still", "tick"]
    assert len(events) == 4
    same_events(owl.tag_recording(model, night), events)
    model.save("again.safetensors")
    same_events(owl.tag_recording("again.safetensors", night), events)


@pytest.mark.parametrize("folder", GOLDEN, ids=lambda folder: folder.name)
def test_plans_of_earlier_versions_are_read(folder):
    plan = owl.read_plan(folder / "plan.toml")
    assert (plan.classifier, plan.background, plan.training.epochs) == ("cnn", ["still"], 8)
    assert plan.decoding.min_known_probability == 0.6


@pytest.mark.parametrize("folder", GOLDEN, ids=lambda folder: folder.name)
def test_stores_of_earlier_versions_know_their_recordings(folder, night):
    shutil.copy(folder / "store.sqlite", "store.sqlite")
    events = owl.read_events(folder / "events.csv")
    same_events(owl.archive.read_store("store.sqlite"), events)
    archive = owl.tag_archive(folder / "model.safetensors", [night], store="store.sqlite")
    assert list(archive.kept) == [night]
    same_events(archive.events, events)
