"""Classifiers against optima, brute force and a general learning library."""

import logging
from importlib.util import find_spec
from pathlib import Path
from unittest import mock

import numpy as np
import pandas as pd
import pytest
import scipy.optimize
import soundfile
from hypothesis import given, settings as limits, strategies as st
from pandas.testing import assert_frame_equal

from barn_owl.classifiers.kernel import KernelSettings, alike, candidates as kernels
from barn_owl.classifiers.logistic import Linear, LogisticSettings, candidates as penalties, fit_logistic
from barn_owl.classifiers.majority import candidates as majority
from barn_owl.classifiers.nearest import Nearest, NearestSettings, candidates as neighbors
from barn_owl.classifiers.row_classifiers import RowTask, squared_distances
from barn_owl.classifiers.trees import MIN_WEIGHT, STEPS, TreesSettings, _best_cuts, _histograms, candidates as trees
from barn_owl.errors import ModelError, TableError
from barn_owl.learn import pooled
from barn_owl.learn.extras import learn_columns
from barn_owl.model import load_model
from barn_owl.network import sigmoid
from barn_owl.runs import calibration, open_run, train, train_classifiers
from helpers import able_plan, assert_close, small_plan

needs_library = pytest.mark.skipif(find_spec("sklearn") is None, reason="the yardstick extra is not installed")


def task(rng, n=200, features=6, labels=3, several=False, watched=100) -> RowTask:
    """Overlapping clouds of rows with curved borders, with a label each or several."""
    rows = rng.standard_normal((n + watched, features)).astype(np.float32)
    numbers = ((rows[:, 0] ** 2 + rows[:, 1] > 0.8).astype(int) + (rows[:, 2] > 0.3)) % labels
    targets = np.eye(labels, dtype=np.float32)[numbers]
    if several:
        targets = np.stack([rows[:, label] > 0.2 for label in range(labels)], axis=1).astype(np.float32)
    task = RowTask(
        rows=rows[:n], targets=targets[:n], weights=np.ones(n, np.float32), watched=rows[n:], rng=rng
    )  # fmt: skip
    return task, targets[n:]


def right(logits: np.ndarray, targets: np.ndarray) -> float:
    return float((logits.argmax(axis=1) == targets.argmax(axis=1)).mean())


def test_logistic_reaches_the_optimum(rng):
    x, targets = rng.standard_normal((60, 4)), np.eye(3)[rng.integers(0, 3, 60)]
    weights = rng.uniform(0.5, 2, 60)
    found, loss = fit_logistic(x, targets, weights, 0.05)

    def objective(flat: np.ndarray) -> float:
        """The definition, by a loop over rows."""
        w = flat.reshape(5, 3)
        total = 0.05 / 2 * (w[:-1] ** 2).sum()
        for row, target, weight in zip(x, targets, weights, strict=True):
            z = row @ w[:-1] + w[-1]
            total += np.mean(np.logaddexp(0, z) - z * target) * weight / weights.sum()
        return float(total)

    best = scipy.optimize.minimize(objective, np.zeros(15), method="BFGS", options={"gtol": 1e-9})
    assert objective(found.ravel()) == pytest.approx(best.fun, abs=1e-6)
    assert loss == pytest.approx(best.fun - 0.05 / 2 * (found[:-1] ** 2).sum(), abs=1e-5)


def test_nearest_neighbors_are_those_of_brute_force(rng):
    rows, requested = (rng.standard_normal((n, 5)).astype(np.float32) for n in (300, 40))
    near, distances = Nearest(rows, np.eye(300, dtype=np.float32), 7).nearest(requested, 7)
    every = np.linalg.norm(requested[:, None].astype(np.float64) - rows[None], axis=2)
    assert (near == np.argsort(every, axis=1)[:, :7]).all()
    assert_close(distances, np.sort(every, axis=1)[:, :7].astype(np.float32), rtol=1e-3)  # a difference of squares
    votes = np.eye(3, dtype=np.float32)[rng.integers(0, 3, 300)]
    scores = Nearest(rows, votes, 1).logits(requested)
    assert (scores.argmax(axis=1) == votes[near[:, 0]].argmax(axis=1)).all()


@pytest.mark.parametrize("several", [False, True])
@pytest.mark.parametrize(
    ("candidates", "settings", "least"),
    [
        (penalties, LogisticSettings(), 0.5),
        (neighbors, NearestSettings(), 0.55),
        (kernels, KernelSettings(), 0.8),
        (kernels, KernelSettings(landmarks=60), 0.75),
        (trees, TreesSettings(), 0.8),
    ],
    ids=["logistic", "nearest", "kernel", "kernel with landmarks", "trees"],
)
def test_rows_are_learnt_and_saved_classifiers_say_the_same(rng, candidates, settings, least, several):
    made, truth = task(rng, n=800, several=several)
    best, kept = 0.0, None
    for candidate in candidates(made, settings):
        said = candidate.watched
        share = ((said > 0) == (truth > 0.5)).mean() if several else right(said, truth)
        if share > best:
            best, kept = share, candidate
    assert best >= least
    classifier = kept.make()
    # The order of summation differed during fitting.
    assert_close(classifier.logits(made.watched), kept.watched, rtol=1e-3, atol=1e-3)
    again = type(classifier)(**_arguments(classifier))
    assert_close(again.logits(made.watched), classifier.logits(made.watched), rtol=1e-5, atol=1e-5)


def _arguments(classifier):
    names = type(classifier).__init__.__code__.co_varnames[1 : type(classifier).__init__.__code__.co_argcount]
    return {name: getattr(classifier, name) for name in names}


def test_majority_says_the_shares_of_training(rng):
    made, _ = task(rng)
    (only,) = majority(made, None)
    assert_close(sigmoid(only.watched[0]), ((made.targets.sum(axis=0) + 1) / 202).astype(np.float32), rtol=1e-5)


@needs_library
def test_classifiers_are_as_good_as_a_general_library(rng):
    from sklearn.ensemble import HistGradientBoostingClassifier
    from sklearn.linear_model import LogisticRegression
    from sklearn.metrics import log_loss
    from sklearn.neighbors import KNeighborsClassifier
    from sklearn.svm import SVC

    made, truth = task(rng, n=600, watched=400)
    numbers = made.targets.argmax(axis=1)
    rows = made.rows.astype(np.float64)
    weights, loss = fit_logistic(rows, made.targets, made.weights, 0.01)
    # The loss of a row is the mean over labels: a single label weighs a third.
    plain = {"C": 1 / (3 * 0.01 * 600), "tol": 1e-8, "max_iter": 5000}
    theirs = [LogisticRegression(**plain).fit(rows, own) for own in made.targets.T]
    losses = [log_loss(own, one.predict_proba(rows)) for own, one in zip(made.targets.T, theirs, strict=True)]
    assert loss == pytest.approx(np.mean(losses), abs=1e-4)
    said = Linear.of(weights).logits(made.watched)
    for number, one in enumerate(theirs):
        assert_close(said[:, number], one.decision_function(made.watched).astype(np.float32), rtol=1e-2, atol=1e-2)
    for candidates, settings, estimator in (
        (trees, TreesSettings(feature_share=1.0), HistGradientBoostingClassifier(random_state=0)),
        (kernels, KernelSettings(), SVC(C=10)),
        (neighbors, NearestSettings(), KNeighborsClassifier(9, weights="distance")),
    ):
        ours = max(right(candidate.watched, truth) for candidate in candidates(made, settings))
        their = (estimator.fit(made.rows, numbers).predict(made.watched) == truth.argmax(axis=1)).mean()
        assert ours >= their - 0.04


def test_classifiers_are_ranked_and_each_leaves_a_run(ranking):
    folder, table = ranking
    assert set(table["classifier"]) == {"majority", "nearest", "logistic", "kernel", "trees", "mlp", "cnn"}
    assert table["validation_balanced_accuracy"].is_monotonic_decreasing
    assert table["classifier"].iloc[-1] == "majority"
    assert table.set_index("classifier").loc["majority", "test_balanced_accuracy"] == pytest.approx(0.25)
    for classifier in table["classifier"]:
        assert open_run(folder / classifier).evaluate().scores.balanced_accuracy == pytest.approx(
            table.set_index("classifier").loc[classifier, "test_balanced_accuracy"]
        )
    assert_close(pd.read_csv(folder / "classifiers.csv")["weights"], table["weights"])


class AlwaysHiss:
    """A third-party estimator, and a poor estimator."""

    def fit(self, rows, numbers):
        self.labels = len(np.unique(numbers))
        return self

    def predict_proba(self, rows):
        return np.tile(np.eye(self.labels)[0], (len(rows), 1))


def test_an_estimator_of_ones_own_is_judged_but_not_saved(clips, tmp_path):
    table = train_classifiers(
        clips, tmp_path / "runs", small_plan("cnn"), classifiers=["nearest"], estimators={"mine": AlwaysHiss()}
    )
    assert table["classifier"].tolist() == ["nearest", "mine"]
    assert table.set_index("classifier").loc["mine", "test_balanced_accuracy"] == pytest.approx(0.25)
    assert not (tmp_path / "runs" / "mine").exists()


def test_classifiers_share_what_they_learn_from_and_are_as_if_each_had_learnt_alone(few_clips, tmp_path, monkeypatch):
    plan = small_plan("nearest", rehearsal={"minutes": 0.2}).but(training={"refit": 1})
    windows = mock.Mock(side_effect=pooled.PooledWindows)
    rehearsal = mock.Mock(side_effect=calibration.make_rehearsal)
    monkeypatch.setattr(pooled, "PooledWindows", windows)
    monkeypatch.setattr(calibration, "make_rehearsal", rehearsal)
    classifiers = ["nearest", "logistic"]
    train_classifiers(few_clips, tmp_path / "all", plan, classifiers=classifiers)
    # To train on, to watch, and both together for the last fit.
    assert (windows.call_count, rehearsal.call_count) == (3, 1)
    for classifier in classifiers:
        alone = train(few_clips, tmp_path / classifier, plan.but(classifier=classifier))
        assert_frame_equal(open_run(tmp_path / "all" / classifier).predictions, alone.predictions)
        assert alone.model.decoding == open_run(tmp_path / "all" / classifier).model.decoding
    assert (windows.call_count, rehearsal.call_count) == (3 + 6, 1 + 2)


def test_further_columns_help_where_the_sound_cannot(clips, tmp_path, caplog):
    rng = np.random.default_rng(0)
    told = clips.assign(
        label=rng.choice(["left", "right"], len(clips)), depth_m=rng.uniform(0, 5, len(clips)), group=clips["take"]
    )
    told["hull_half"] = told["label"].map({"left": "port", "right": "starboard"})
    told["depth_m"] = told["depth_m"] + 10 * (told["label"] == "left")
    told.loc[3, "depth_m"] = np.nan
    plan = able_plan("logistic", background=[])
    blind = train(told, tmp_path / "blind", plan).evaluate().scores.balanced_accuracy
    run = train(told, tmp_path / "seeing", plan.but(columns=["hull_half", "depth_m"]))
    assert run.evaluate().scores.balanced_accuracy >= max(0.9, blind + 0.2)
    model = load_model(run.folder)
    assert [column.words for column in model.extra_columns.columns] == [["port", "starboard"], []]
    scores = model.score(np.zeros(16_000, np.float32) + 0.1, 16_000)  # extras of a single clip are unknown
    assert sum(scores.values()) == pytest.approx(1, abs=1e-5)
    with pytest.raises(TableError, match="has no column 'depth'"):
        learn_columns(told, ["depth"])
    with pytest.raises(TableError, match="48 different words"):
        learn_columns(told.assign(name=[f"n{n}" for n in range(48)]), ["name"])


@pytest.fixture(scope="module")
def mixtures(clips, tmp_path_factory) -> pd.DataFrame:
    """Clips with a label or two: sums of hums and hisses."""
    folder, rows = tmp_path_factory.mktemp("mixtures"), []
    by_label = {label: part["file"].tolist() for label, part in clips.groupby("label")}
    for number in range(24):
        hum, hiss, still = (soundfile.read(by_label[label][number % 12])[0] for label in ("hum", "hiss", "still"))
        for name, sound, labels in (
            ("hum", hum + still, ["hum"]), ("hiss", hiss + still, ["hiss"]), ("both", hum + hiss, ["hum", "hiss"])
        ):  # fmt: skip
            path = folder / f"{name}_{number:02d}.wav"
            soundfile.write(path, sound * (1 + number / 50), 16_000)
            rows += [(str(path), np.nan, np.nan, label, f"rec{number % 4}") for label in labels]
    return pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label", "group"])


@pytest.mark.parametrize("classifier", ["logistic", "cnn", "nearest"])
def test_clips_with_several_labels_are_learnt(mixtures, tmp_path, classifier):
    plan = able_plan(classifier, background=[], multilabel=True)
    run = train(mixtures, tmp_path / "run", plan)
    scores = run.evaluate().scores
    assert scores.accuracy > (0.5 if classifier == "nearest" else 0.7)
    assert scores.macro_f1 > 0.75
    assert "hiss|hum" in set(run.predictions["label"])
    model = load_model(run.folder)
    assert model.multilabel
    assert run.evaluate(mixtures).scores.clips == 72


def test_a_label_missing_from_validation_is_told(clips, tmp_path, caplog):
    splits = np.where(clips["group"] == "rec0", "test", np.where(clips["group"] == "rec1", "validation", "train"))
    given = clips.assign(split=splits)
    given.loc[(given["label"] == "hum") & (given["split"] == "validation"), "split"] = "test"
    with caplog.at_level(logging.WARNING):
        train(given.drop(columns="group"), tmp_path / "run", small_plan("logistic"))
    assert "no clip of 'hum' is on the validation split" in caplog.text


def test_a_constant_feature_does_no_harm(rng):
    made, truth = task(rng)
    flat = np.concatenate([made.rows, np.zeros((200, 1), np.float32)], axis=1)
    watched = np.concatenate([made.watched, np.zeros((100, 1), np.float32)], axis=1)
    flat_task = RowTask(rows=flat, targets=made.targets, weights=made.weights, watched=watched, rng=rng)
    for candidates, settings in (
        (penalties, LogisticSettings()),
        (kernels, KernelSettings()),
        (trees, TreesSettings()),
    ):
        assert max(right(c.watched, truth) for c in candidates(flat_task, settings)) > 0.5


def test_somebody_elses_estimator_cannot_be_written(ranking, tmp_path):
    import dataclasses

    from barn_owl.classifiers.pooled import EstimatorAdapter, Pooled

    model = open_run(ranking[0] / "logistic").model
    classifier = model.classifier
    unknown = Pooled(
        "Mine", classifier.window, classifier.step, classifier.statistics, classifier.level,
        EstimatorAdapter(AlwaysHiss(), 4), classifier.center, classifier.spread,
    )  # fmt: skip
    with pytest.raises(ModelError, match="a model of AlwaysHiss cannot be written"):
        dataclasses.replace(model, classifier=unknown).save(tmp_path / "m.safetensors")


def test_the_best_cut_is_that_of_brute_force(rng):
    """A node per label: every feature and every cut is tried in a loop."""
    rows, labels, penalty = 80, 2, 1.0
    codes = rng.integers(0, STEPS, (rows, 3)).astype(np.uint8)
    gradient, curvature = rng.standard_normal((rows, labels)), rng.uniform(0.1, 1, (rows, labels))
    place = np.zeros((rows, labels), dtype=np.intp)
    g, h = _histograms(codes, place, 1, gradient.T.copy(), curvature.T.copy())
    assert g.shape == (labels, 1, 3, STEPS)
    assert_close(g[1, 0, 2, 5], gradient[codes[:, 2] == 5, 1].sum(), rtol=1e-9)
    features, steps = _best_cuts(g, h, penalty)
    for label in range(labels):
        best, kept = -np.inf, None
        for feature in range(3):
            for step in range(STEPS - 1):
                left = codes[:, feature] <= step
                splits = [(gradient[split, label].sum(), curvature[split, label].sum()) for split in (left, ~left)]
                if min(curved for _, curved in splits) < MIN_WEIGHT:
                    continue
                gain = sum(total**2 / (curved + penalty) for total, curved in splits)
                if gain > best + 1e-9:
                    best, kept = gain, (feature, step)
        assert (features[label, 0], steps[label, 0]) == kept


def test_nodes_without_a_worthy_cut_send_everything_left(rng):
    codes = np.zeros((10, 2), dtype=np.uint8)  # constant rows
    g, h = _histograms(codes, np.zeros((10, 1), dtype=np.intp), 1, np.ones((1, 10)), np.ones((1, 10)))
    _, steps = _best_cuts(g, h, 1.0)
    assert steps[0, 0] == STEPS
    same = RowTask(
        rows=np.zeros((10, 2), np.float32), targets=np.eye(2, dtype=np.float32)[np.arange(10) % 2],
        weights=np.ones(10, np.float32), watched=np.zeros((3, 2), np.float32), rng=rng,
    )  # fmt: skip
    *_, last = trees(same, TreesSettings(rounds=5))
    assert np.abs(last.make().logits(same.watched) - last.watched).max() < 1e-5
    assert np.ptp(last.watched) < 0.5  # five of each: neither label is preferred by much


def test_kernel_with_all_landmarks_is_the_kernel_itself(rng):
    rows = rng.standard_normal((40, 5)).astype(np.float32)
    width, every = 1.2, np.empty((40, 40))
    for i, j in np.ndindex(40, 40):
        every[i, j] = np.exp(-((rows[i].astype(np.float64) - rows[j]) ** 2).sum() / (2 * width**2 * 5))
    assert_close(alike(rows, rows, width).astype(np.float64), every, rtol=1e-4, atol=1e-6)  # computed in float32
    values, vectors = np.linalg.eigh(every)
    kept = values > 1e-6 * values[-1]
    into = vectors[:, kept] / np.sqrt(values[kept])
    features = every @ into
    # Directions with hardly any variance are skipped.
    assert_close(features @ features.T, every, rtol=0, atol=1e-4)


@given(st.integers(1, 60), st.integers(1, 40), st.integers(0, 99))
@limits(max_examples=30, deadline=None)
def test_squared_distances_are_their_definition(rows, others, seed):
    rng = np.random.default_rng(seed)
    a, b = rng.standard_normal((rows, 4)), rng.standard_normal((others, 4))
    expected = ((a[:, None] - b[None]) ** 2).sum(axis=2)
    assert_close(squared_distances(a, b), expected, rtol=1e-9, atol=1e-9)
    assert (squared_distances(a, a) >= 0).all()


def test_made_up_problems_are_as_their_names_say(tmp_path, monkeypatch):
    """The generator behind the table of accuracy: labels, splits, recorders, rates; and again the same."""
    monkeypatch.syspath_prepend(str(Path(__file__).parents[1] / "benchmarks"))
    from problems import PROBLEMS, make_problem

    assert {"knocks", "calls", "machines", "words"} == set(PROBLEMS)
    table = make_problem("calls", tmp_path / "first", 6, noisy=True)
    assert set(table["label"]) == set(PROBLEMS["calls"])
    assert set(table["split"]) == {"train", "validation", "test"}
    splits = table.groupby("group")["split"].unique()
    assert splits.map(len).tolist() == [1] * len(splits)  # no recorder is on two splits
    infos = [soundfile.info(file) for file in table["file"].head(12)]
    assert len({info.samplerate for info in infos}) > 1
    assert all(0.3 < info.duration < 5 for info in infos)
    again = make_problem("calls", tmp_path / "again", 6, noisy=True)
    for one, other in zip(table["file"].head(3), again["file"].head(3), strict=True):
        assert np.array_equal(soundfile.read(one)[0], soundfile.read(other)[0])
