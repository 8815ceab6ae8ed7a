"""Kinds of classifiers: a new kind is added in a single place, and works everywhere."""

from functools import cache
from pathlib import Path

import numpy as np
import pytest
from pydantic import Field

import barn_owl as owl
from barn_owl import extensions
from barn_owl.classifiers import kind as registry, register_classifier
from barn_owl.classifiers.kind import kind_of, kinds, names
from barn_owl.classifiers.row_classifiers import Candidate, rows_kind, squared_distances
from barn_owl.errors import PlanError
from barn_owl.settings import Settings
from helpers import registrations_undone, small_plan


class Centroids:
    """Log-odds fall with the squared distance from the mean row of each label."""

    def __init__(self, means, sharpness):
        self.means, self.sharpness = means, sharpness

    def logits(self, rows):
        return (4 - self.sharpness * squared_distances(rows, self.means) / rows.shape[1]).astype(np.float32)

    def state(self):
        return {"means": self.means, "sharpness": np.array([self.sharpness], np.float32)}

    def multiply_adds(self):
        return self.means.size


class CentroidSettings(Settings):
    sharpness: float = Field(default=4.0, gt=0)


def candidates(task, settings):
    means = [task.rows[task.targets[:, label] > 0].mean(axis=0) for label in range(task.targets.shape[1])]
    made = Centroids(np.array(means, np.float32), settings.sharpness)
    yield Candidate.made(made, float("nan"), made.logits(task.watched))


KIND = rows_kind(
    "centroids", settings=CentroidSettings, candidates=candidates,
    rebuild=lambda arrays: Centroids(arrays["means"], float(arrays["sharpness"][0])),
    searched={"centroids.sharpness": [1.0, 4.0]}, drawn=1,
)  # fmt: skip


@pytest.fixture
def centroids():
    with registrations_undone():
        register_classifier(KIND)
        yield KIND


def test_a_new_kind_is_planned_trained_kept_tagged_with_and_ranked(clips, centroids, tmp_path):
    assert names()[-1] == "centroids"
    plan = small_plan("centroids", centroids={"sharpness": 6.0})
    owl.write_plan(plan, tmp_path / "plan.toml")
    assert owl.read_plan(tmp_path / "plan.toml") == plan
    assert "[centroids]\nsharpness = 6.0" in (tmp_path / "plan.toml").read_text()
    run = owl.train(clips, tmp_path / "run", plan)
    assert run.evaluate().scores.balanced_accuracy > 0.6
    again = owl.load_model(tmp_path / "run")
    frames = again.front_end.frames(np.random.default_rng(0).standard_normal(20_000))
    np.testing.assert_array_equal(again.frame_scores(frames).activity, run.model.frame_scores(frames).activity)
    found = owl.tag_samples(
        again, np.zeros(40_000), 16_000, decoding=owl.DecodingSettings(threshold=0.01, release_threshold=0.005)
    )
    assert set(found["label"]) <= set(again.event_labels)
    ranking = owl.train_classifiers(clips, tmp_path / "all", small_plan("cnn"), classifiers=["majority", "centroids"])
    assert ranking["classifier"].tolist() == ["centroids", "majority"]
    with pytest.raises(PlanError, match=r"centroids.sharpness: should be greater than 0, got -1"):
        plan.but(centroids={"sharpness": -1})


def test_names_of_kinds_are_taken_once(centroids):
    register_classifier(centroids)  # the same again
    for name in ("cnn", "centroids"):
        with pytest.raises(ValueError, match=f"there is a classifier '{name}' already"):
            register_classifier(rows_kind(name, candidates=candidates, rebuild=Centroids))


def test_another_package_adds_one_by_an_entry_point(monkeypatch, caplog):
    class Found:
        name = "centroids"

        def load(self):
            return KIND

        value = "their.module:KIND"

    class Broken(Found):
        name = "broken"

        def load(self):
            raise ImportError("no such module")

    monkeypatch.setattr(
        extensions, "entry_points", lambda group: {"barn_owl.classifiers": [Broken(), Found()]}[group]
    )
    monkeypatch.setattr(registry, "installed", cache(extensions.installed.__wrapped__))
    assert kind_of("centroids") is KIND
    assert kinds()[-1] is KIND
    assert (
        "broken of their.module:KIND (entry points barn_owl.classifiers) cannot be loaded: no such module"
        in caplog.text
    )
    with pytest.raises(ValueError, match="there is no classifier 'broken'"):
        kind_of("broken")


def test_nothing_outside_asks_for_a_classifier_by_its_name_or_class():
    source = Path(owl.__file__).parent
    allowed = {"device/c_source.py"}  # how whole numbers lie in memory
    asks = [
        str(path.relative_to(source))
        for path in source.rglob("*.py")
        if path.parent.name != "classifiers"
        for line in path.read_text().splitlines()
        if ("isinstance(" in line and any(f" {one})" in line for one in ("Convolutional", "Pooled", "Quantized")))
        or ("classifier ==" in line and '"all"' not in line)
        or "classifier !=" in line
    ]
    assert set(asks) <= allowed
