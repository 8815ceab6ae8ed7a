"""Scores against a general library and brute force, intervals by simulation, thresholds and caveats worked by
hand."""

import itertools
import json
from dataclasses import replace

import numpy as np
import pandas as pd
import pytest
import scipy
from hypothesis import given, settings, strategies as st
from safetensors import safe_open
from safetensors.numpy import load_file, save_file

from barn_owl.clips import correct_labels, read_corrections, write_clip_table
from barn_owl.errors import ModelError, PlanError, TableError
from barn_owl.evaluate import (
    Evaluation,
    PredictionArrays,
    calibration_error,
    calibration_table,
    compare,
    fit_temperature,
    fit_thresholds,
    label_curve,
    predict,
    read_prediction_arrays,
    rejected,
)
from barn_owl.evaluate.breakdown import confusable_order, score_by
from barn_owl.evaluate.comparison import p_words
from barn_owl.evaluate.curves import areas, ranked
from barn_owl.evaluate.intervals import draw
from barn_owl.evaluate.mistakes import nearest_clips
from barn_owl.evaluate.scores import Scores, scores_of
from barn_owl.learn.plan import ThresholdSettings
from barn_owl.model import load_model
from barn_owl.runs import compare_runs, open_run, set_thresholds, train, train_several
from barn_owl.show import confusion_difference_figure, confusion_figure, write_report
from helpers import assert_close, small_plan

LABELS = ["a", "b", "c", "d"]


def table(rng, clips=60, labels=LABELS, *, skill=1.5, groups=6, digits=None) -> pd.DataFrame:
    """Predictions of a model that is right more often than not."""
    true = rng.integers(0, len(labels), clips)
    logits = rng.standard_normal((clips, len(labels)))
    logits[np.arange(clips), true] += skill
    scores = np.exp(max(skill, 1) * logits)  # expected value for Gaussian evidence of that strength
    scores /= scores.sum(axis=1, keepdims=True)
    scores = scores if digits is None else np.round(scores, digits)
    made = pd.DataFrame(scores, columns=[f"score:{label}" for label in labels])
    made.insert(0, "file", [f"{number}.wav" for number in range(clips)])
    names = np.array(labels)
    group = [f"g{number % groups}" for number in range(clips)]
    best = scores.argmax(axis=1)
    return made.assign(
        start_s=np.nan, end_s=np.nan, label=names[true], group=group, predicted=names[best], score=scores.max(axis=1)
    )


def evaluation(predictions, labels=LABELS, **more) -> Evaluation:
    return Evaluation(split="test", predictions=predictions, labels=labels, majority=labels[0], rounds=200, **more)


@pytest.mark.parametrize("digits", [None, 1], ids=["no ties", "many ties"])
def test_scores_are_those_of_a_general_library(rng, digits):
    from sklearn import metrics

    made = table(rng, 300, digits=digits)
    answers = read_prediction_arrays(made, LABELS)
    found, by_label = Scores(arrays=answers, rounds=0).overall["value"], Scores(arrays=answers, rounds=0).by_label
    true, said = made["label"], made["predicted"]
    expected = {
        "accuracy": metrics.accuracy_score(true, said),
        "balanced_accuracy": metrics.balanced_accuracy_score(true, said),
        "kappa": metrics.cohen_kappa_score(true, said),
        "matthews": metrics.matthews_corrcoef(true, said),
        "macro_precision": metrics.precision_score(true, said, average="macro"),
        "weighted_recall": metrics.recall_score(true, said, average="weighted"),
        "weighted_f1": metrics.f1_score(true, said, average="weighted"),
        "micro_f1": metrics.f1_score(true, said, average="micro"),
    }
    if digits is None:
        expected["log_loss"] = metrics.log_loss(true, answers.scores, labels=LABELS)
        expected["among_best_3"] = metrics.top_k_accuracy_score(true, answers.scores, k=3, labels=LABELS)
    for name, value in expected.items():
        assert found[name] == pytest.approx(value, abs=1e-12), name
    assert found["brier"] == pytest.approx(((answers.scores - answers.truth) ** 2).sum(axis=1).mean(), abs=1e-12)
    for number, label in enumerate(LABELS):
        has, score = answers.truth[:, number], answers.scores[:, number]
        assert by_label.loc[label, "roc_area"] == pytest.approx(metrics.roc_auc_score(has, score), abs=1e-12)
        average = metrics.average_precision_score(has, score)
        assert by_label.loc[label, "average_precision"] == pytest.approx(average, abs=1e-12)


def test_scores_of_overlapping_labels_are_those_of_a_general_library(rng):
    from sklearn import metrics

    truth, scores = rng.random((200, 3)) < 0.4, rng.random((200, 3))
    said = scores > 0.5
    answers = PredictionArrays(
        labels=["a", "b", "c"], truth=truth, scores=scores, predicted=said, groups=np.arange(200), multilabel=True
    )
    found = Scores(arrays=answers, rounds=0).overall["value"]
    for kind in ("macro", "micro", "weighted"):
        assert found[f"{kind}_f1"] == pytest.approx(metrics.f1_score(truth, said, average=kind), abs=1e-12)
    assert found["exact"] == pytest.approx(metrics.accuracy_score(truth, said), abs=1e-12)
    losses = [metrics.log_loss(truth[:, n], scores[:, n]) for n in range(3)]
    assert found["log_loss"] == pytest.approx(np.mean(losses), abs=1e-12)
    assert "kappa" not in found


@given(st.lists(st.tuples(st.integers(0, 4), st.booleans()), min_size=2, max_size=25))
@settings(max_examples=80, deadline=None)
def test_areas_and_equal_error_are_those_of_brute_force(pairs):
    score, has = np.array([at / 4 for at, _ in pairs]), np.array([is_so for _, is_so in pairs])
    roc, average, equal = (
        float(one[0])
        for one in areas(ranked(score, has, np.arange(len(score)), len(score)), np.ones((len(score), 1)))
    )
    if has.all() or not has.any():
        assert np.isnan([roc, equal]).all()
        return
    higher = [float(a > b) + 0.5 * float(a == b) for a in score[has] for b in score[~has]]
    assert roc == pytest.approx(np.mean(higher))
    steps = [(has[score >= t].mean(), (has & (score >= t)).sum() / has.sum()) for t in sorted(set(score))[::-1]]
    recalls = [0.0, *(recall for _, recall in steps)]
    by_step = sum(
        precision * (now - before)
        for (precision, now), before in zip(steps, recalls, strict=False)
    )  # fmt: skip
    assert average == pytest.approx(by_step)
    curve = label_curve(score, has)
    assert equal == pytest.approx(_meeting(curve["false_alarm_rate"].tolist(), curve["miss_rate"].tolist()))


def _meeting(alarms, misses):
    """Where the straight lines from point to point cross ``alarms = misses``."""
    gaps = np.subtract(alarms, misses)
    at = next(number for number in range(1, len(gaps)) if gaps[number] >= 0)
    return alarms[at] - gaps[at] * (alarms[at] - alarms[at - 1]) / (gaps[at] - gaps[at - 1])


def test_drawing_a_group_twice_is_having_its_clips_twice(rng):
    answers = read_prediction_arrays(table(rng, 40, groups=5, digits=1), LABELS)
    drawn = np.array([2, 0, 1, 3, 1.0])[:, None]
    repeated = answers.take(np.repeat(np.arange(40), drawn[answers.groups, 0].astype(int)))
    overall, by_label = scores_of(answers, drawn)
    again, by_label_again = scores_of(repeated, np.ones((repeated.group_count, 1)))
    for name in overall:
        np.testing.assert_allclose(overall[name], again[name], err_msg=name)
    for name in by_label:
        np.testing.assert_allclose(by_label[name], by_label_again[name], err_msg=name)


def test_without_those_of_curves_all_other_scores_are_the_same(rng):
    answers = read_prediction_arrays(table(rng, 40, groups=5, digits=1), LABELS)
    whole, part = Scores(arrays=answers, rounds=50), Scores(arrays=answers, rounds=50, curves=False)
    of_curves = {"roc_area", "average_precision", "equal_error_rate"}
    pd.testing.assert_frame_equal(part.overall, whole.overall.drop(index=list(of_curves)))
    pd.testing.assert_frame_equal(part.by_label, whole.by_label[list(part.by_label)])
    assert {name.removesuffix("_low").removesuffix("_high") for name in set(whole.by_label) - set(part.by_label)} == (
        of_curves
    )


def test_the_order_of_clips_and_labels_does_not_matter(rng):
    made = table(rng, 50)
    first = Scores(arrays=read_prediction_arrays(made, LABELS), rounds=0)
    turned = Scores(arrays=read_prediction_arrays(made.sample(frac=1, random_state=1), LABELS[::-1]), rounds=0)
    np.testing.assert_allclose(first.overall["value"], turned.overall["value"])
    np.testing.assert_allclose(first.by_label, turned.by_label.loc[LABELS])


@pytest.mark.parametrize("count", [1, 3, 9, 40])
def test_rounds_draw_as_many_groups_as_there_are(rng, count):
    groups = np.sort(np.concatenate([np.arange(count), rng.integers(0, count, 30)]))
    sizes = np.bincount(groups)
    units, drawn = draw(groups, 50, np.random.default_rng(7))
    assert drawn.shape == (units.max() + 1, 50)
    again = np.random.default_rng(7)
    expected = np.array([np.bincount(again.integers(0, count, count), minlength=count) for _ in range(50)])
    clips = np.array([drawn[np.unique(units[groups == group])].sum(axis=0) for group in range(count)])
    # With few groups, clips within groups are drawn as well, as many as the drawn groups have.
    assert_close(clips.T, (expected * (sizes if len(drawn) > count else 1)).astype(float))


def test_labels_are_ranked_side_by_side_as_one_after_the_other(rng, monkeypatch):
    answers = read_prediction_arrays(table(rng), LABELS)
    alone = Scores(arrays=answers, rounds=20)
    monkeypatch.setattr("barn_owl.evaluate.scores.MIN_THREADED_WORK", 0)
    together = Scores(arrays=answers, rounds=20)
    pd.testing.assert_frame_equal(alone.overall, together.overall)
    pd.testing.assert_frame_equal(alone.by_label, together.by_label)


@pytest.mark.parametrize(("groups", "size"), [(4, 25), (25, 5)])
def test_intervals_hold_the_truth_about_as_often_as_they_say(groups, size):
    rng, held = np.random.default_rng(groups), 0
    for trial in range(80):
        share = np.clip(0.75 + 0.1 * rng.standard_normal(groups), 0, 1)
        true = rng.integers(0, 3, groups * size)
        group = np.repeat(np.arange(groups), size)
        said = np.where(rng.random(len(true)) < share[group], true, (true + 1) % 3)
        one = np.eye(3, dtype=bool)
        answers = PredictionArrays(
            labels=list("abc"), truth=one[true], scores=one[said] * 1.0, predicted=one[said], groups=group
        )
        row = Scores(arrays=answers, rounds=200, seed=trial).overall.loc["accuracy"]
        held += row["low"] <= 0.75 <= row["high"]
    assert held >= 0.88 * 80


def test_one_group_has_no_interval(rng):
    found = evaluation(table(rng, groups=1))
    assert np.isnan(found.scores.overall["low"]).all()
    assert any("All test clips are from one group" in caveat for caveat in found.caveats)
    json.dumps(found.as_dict(), allow_nan=False)


def test_baselines_are_what_the_majority_and_guessing_get(rng):
    made = table(rng, 100)
    lines = evaluation(made).baselines
    assert lines.loc["accuracy", "majority"] == pytest.approx((made["label"] == "a").mean())
    assert lines.loc["balanced_accuracy", ["majority", "chance"]].tolist() == [0.25, 0.25]
    assert lines.loc["log_loss", "chance"] == pytest.approx(np.log(4))
    assert lines.loc["roc_area", "chance"] == pytest.approx(0.5)


def test_a_temperature_is_found_again(rng):
    logits = 3 * rng.standard_normal((4000, 4))
    p = np.exp(logits) / np.exp(logits).sum(axis=1, keepdims=True)
    true = np.array([rng.choice(4, p=row) for row in p])
    sharp = np.exp(2.5 * logits)
    sharp /= sharp.sum(axis=1, keepdims=True)
    assert fit_temperature(sharp, np.eye(4)[true]) == pytest.approx(2.5, rel=0.1)
    assert fit_temperature(sharp[:10], np.eye(4)[true[:10]]) == 1
    each = 1 / (1 + np.exp(-3 * logits[:, :2]))
    truth = rng.random((4000, 2)) < 1 / (1 + np.exp(-logits[:, :2]))
    assert fit_temperature(each, truth, multilabel=True) == pytest.approx(3, rel=0.1)


def test_calibration_worked_by_hand(rng):
    score = np.array([0.1, 0.2, 0.3, 0.4, 0.8, 0.9])
    right = np.array([False, False, True, False, True, True])
    parts = calibration_table(score, right, bins=3)
    np.testing.assert_allclose(parts[["score", "right"]], [[0.15, 0], [0.35, 0.5], [0.85, 1]])
    assert calibration_error(parts) == pytest.approx(0.15)
    found = evaluation(table(rng, 80))
    confidence, is_right = found.confidence
    half = found.coverage.iloc[(found.coverage["answered"] - 0.5).abs().argmin()]
    sure = confidence >= half["threshold"]
    assert half["answered"] == sure.mean()
    assert half["right"] == pytest.approx(is_right[sure].mean())
    assert found.coverage_at(0.0) == 1
    assert found.coverage_at(1.01) == 0


@pytest.mark.parametrize(
    ("target", "value", "threshold"),
    [("precision", 1.0, 0.75), ("precision", 0.75, 0.45), ("recall", 0.5, 0.75), ("f1", 1, 0.0), ("cost", 5, 0.75)],
)
def test_thresholds_worked_by_hand(target, value, threshold):
    score = np.array([0.9, 0.8, 0.7, 0.5, 0.4, 0.2])
    truth = np.array([1, 1, 0, 1, 0, 1], dtype=bool)[:, None]
    answers = PredictionArrays(
        labels=["x"],
        truth=truth,
        scores=score[:, None],
        predicted=np.ones((6, 1), bool),
        groups=np.arange(6),
        multilabel=True,
    )
    assert fit_thresholds(answers, target, value)["x"] == pytest.approx(threshold)


def test_thresholds_only_take_answers_back_where_one_label_is_said(rng):
    made = table(rng, 4000, skill=1.0)  # this many that each label can reach 0.8
    answers = read_prediction_arrays(made, LABELS)
    thresholds = fit_thresholds(answers, "precision", 0.8)
    found = evaluation(made, thresholds=thresholds)
    before, after = found.arrays.right.mean(), found.arrays.right[found.decided].mean()
    assert before < 0.7 < 0.8 <= after
    assert fit_thresholds(answers, "none", 1) == dict.fromkeys(LABELS, 0.0)


def test_caveats_say_what_is_wrong(rng):
    def caveats(made, **more):
        return " ".join(evaluation(made, **more).caveats)

    guess = table(rng, 200, skill=0)
    assert "No better than chance" in caveats(guess)
    same = table(rng, 100).assign(predicted="a")
    assert "close to a majority" in caveats(same)
    assert "Never predicted: 'b', 'c', 'd'" in caveats(same)
    even = table(rng, 60)
    even[[f"score:{label}" for label in LABELS]] = 0.25 + 0.01 * rng.random((60, 4))
    assert "hardly above chance" in caveats(even)
    boast = table(rng, 200, skill=0.3)
    boast[[f"score:{label}" for label in LABELS]] = np.eye(4)[[LABELS.index(x) for x in boast["predicted"]]]
    assert "Scores are not calibrated" in caveats(boast)
    assert "Fewer than 10 test clips of" in caveats(table(rng, 20))
    many = [f"l{number:02d}" for number in range(20)]
    one = table(rng, 400, many).assign(predicted="l00")
    assert "Never predicted: 'l01', 'l02', 'l03', 'l04', 'l05', 'l06', 'l07', 'l08' and 11 more." in caveats(
        one, labels=many
    )
    assert "no column group" in caveats(table(rng).drop(columns="group"))
    swallowed = table(rng, 100, skill=5)
    of_b = np.flatnonzero(swallowed["label"] == "b")
    swallowed.loc[of_b, "predicted"] = "a"
    others = (swallowed["label"] != "a").sum()
    warning = caveats(swallowed, background=("a",))
    assert f"of {others} clips of other labels" in warning
    assert "classified as 'a'" in warning
    assert "classified as 'a'" not in caveats(table(rng, 100, skill=5), background=("a",))
    assert "logistic regression on clip statistics is as good" in caveats(table(rng, 100), clip_statistics=0.99)
    unlike = table(rng, 200, groups=2, skill=6)
    spoiled = unlike["group"] == "g1"
    unlike.loc[spoiled, "predicted"] = "a"
    assert "Groups differ" in caveats(unlike)
    assert caveats(table(rng, 900, groups=30, skill=3)) == ""


def test_planted_wrong_labels_are_found(rng):
    made = table(rng, 200, skill=5)
    planted = rng.choice(200, 6, replace=False)
    made.loc[planted, "label"] = [LABELS[LABELS.index(label) - 1] for label in made.loc[planted, "label"]]
    found = evaluation(made).likely_wrong_labels
    assert set(planted) <= set(found.index)
    assert len(found) <= 12
    assert (found["correct_label"] == "").all()
    # Random guesses, however confident, mark no label as doubtful.
    guessing = table(rng, 200, skill=0)
    scores = [f"score:{label}" for label in LABELS]
    guessing[scores] = np.eye(4)[[LABELS.index(label) for label in guessing["predicted"]]] * 0.9 + 0.025
    assert len(evaluation(guessing).mistakes) > 100
    assert not len(evaluation(guessing).likely_wrong_labels)


def test_mistakes_come_with_the_surest_first(rng):
    made = table(rng, 100, skill=0.5)
    found = evaluation(made).mistakes
    assert len(found) == (made["label"] != made["predicted"]).sum()
    assert found["score"].is_monotonic_decreasing
    row = found.iloc[0]
    assert row["own_score"] == made.loc[found.index[0], f"score:{row['label']}"]


def test_nearest_clips_are_those_of_brute_force(rng):
    known, labels = rng.standard_normal((30, 4)), np.array(list("ab") * 15)
    inside = rng.standard_normal(4)
    distance = np.linalg.norm(known - inside, axis=1)
    expected = sorted(np.flatnonzero(labels == "a"), key=lambda row: distance[row])[:3]
    assert nearest_clips(inside, known, labels, "a").tolist() == expected
    assert len(nearest_clips(inside, known, labels, "z")) == 0


def test_confused_labels_stand_together():
    counts = np.diag([9, 9, 9, 9, 9, 9])
    for one, other in ((0, 4), (1, 3), (2, 5)):
        counts[one, other] = counts[other, one] = 5
    order = confusable_order(pd.DataFrame(counts, index=list("abcdef"), columns=list("abcdef")))
    assert {frozenset(order[at : at + 2]) for at in (0, 2, 4)} == {frozenset("ae"), frozenset("bd"), frozenset("cf")}


def test_scores_by_a_column(rng):
    made = table(rng, 80).assign(length=np.arange(80.0), place=["quay", "pier"] * 40)
    answers = read_prediction_arrays(made, LABELS)
    by_place = score_by(answers, made["place"])
    right = (made["label"] == made["predicted"]).groupby(made["place"]).mean()
    assert by_place["accuracy"].to_dict() == pytest.approx(right.to_dict())
    assert score_by(answers, made["length"])["clips"].tolist() == [20, 20, 20, 20]
    with pytest.raises(TableError, match="80 different words"):
        score_by(answers, made["file"])
    with pytest.raises(TableError, match="blank for all"):
        score_by(answers, pd.Series([np.nan] * 80, name="note"))


def test_a_comparison_is_paired(rng):
    first = table(rng, 120, skill=1.5)
    second = first.copy()
    wrong = np.flatnonzero(first["label"] != first["predicted"])[:9]
    second.loc[wrong, "predicted"] = second.loc[wrong, "label"]
    right = np.flatnonzero(first["label"] == first["predicted"])[:1]
    second.loc[right, "predicted"] = [LABELS[LABELS.index(label) - 1] for label in second.loc[right, "label"]]
    found = compare({"first": evaluation(first), "second": evaluation(second)})
    row = found.pairs.loc["second"]
    assert (row["only_it"], row["only_first"]) == (9, 1)
    assert row["p"] == pytest.approx(scipy.stats.binomtest(9, 10).pvalue)
    assert row["low"] > 0
    assert "better" in found.words[0]
    changes = found.changes.set_index("label")
    expected = found.by_label["second"] - found.by_label["first"]
    np.testing.assert_allclose(changes["change"], expected.reindex(changes.index))
    assert ((changes["low"] <= changes["change"]) & (changes["change"] <= changes["high"])).all()
    same = compare({"first": evaluation(first), "again": evaluation(first.sample(frac=1, random_state=2))})
    assert same.pairs.loc["again", ["difference", "p"]].tolist() == [0, 1]
    assert "within noise" in same.words[0]
    part = compare({"first": evaluation(first), "part": evaluation(second.head(50))})
    assert (part.clips, part.skipped) == (50, {"first": 70})


def test_a_difference_that_not_all_groups_share_is_told_from_one_that_is_no_chance(rng):
    first = table(rng, 400, skill=1.5)
    second = first.copy()
    wrong = np.flatnonzero(first["label"] != first["predicted"])
    own = wrong[(first["group"].to_numpy()[wrong] == first["group"][wrong[0]])][:12]
    second.loc[own, "predicted"] = second.loc[own, "label"]
    found = compare({"first": evaluation(first), "second": evaluation(second)})
    assert found.pairs.loc["second", "p"] < 0.05
    assert p_words(found.pairs.loc["second", "p"]) in found.words[0]
    assert ("but not in all groups" in " ".join(found.words)) == ("within noise" in found.words[0])
    assert p_words(1e-9) == "p < 0.001"


def test_clips_in_which_no_label_is_heard_are_refused_as_tagging_would(run):
    decoding = run.model.decoding.but(threshold=0.6, labels={"hiss": {"threshold": 0.9}})
    said = pd.DataFrame({"predicted": ["hum", "hum", "hiss", "still"], "peak_score": [0.7, 0.5, 0.7, 0.0]})
    assert rejected(replace(run.model, decoding=decoding), said).tolist() == [
        "",
        "no label is active in it: 0.50 at most, an event needs 0.60",
        "no label is active in it: 0.70 at most, an event needs 0.90",
        "",
    ]


def test_what_an_earlier_model_heard_does_not_stand_for_what_this_one_hears(run, clips):
    again, _ = predict(run.model, clips.head(3).assign(heard=0.0, **{"score:hum": 0.5}))
    plain, _ = predict(run.model, clips.head(3))
    assert again["peak_score"].tolist() == plain["peak_score"].tolist()
    assert plain["peak_score"].max() > 0


def test_what_cannot_be_compared_is_refused(rng):
    made = table(rng)
    with pytest.raises(TableError, match="two runs or more"):
        compare({"one": evaluation(made)})
    with pytest.raises(TableError, match="no clip in common"):
        compare({"one": evaluation(made), "other": evaluation(made.assign(file="x" + made["file"]))})
    other = made.copy()
    other.loc[7, "label"] = "a" if made["label"][7] != "a" else "b"
    with pytest.raises(TableError, match=r"7\.wav is labeled"):
        compare({"one": evaluation(made), "other": evaluation(other)})


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (lambda made: made.drop(columns="predicted"), "no column 'predicted'"),
        (lambda made: made.assign(label="z"), "row 1, label: 'z' is not one of a, b, c, d"),
        (lambda made: made.assign(label=""), "row 1 has no label"),
        (lambda made: made.assign(**{"score:a": [0.5] * 59 + [7]}), "row 60: scores must be numbers from 0 to 1"),
        (lambda made: made.iloc[:0], "no labeled clips"),
    ],
)
def test_spoilt_predictions_are_refused(rng, change, message):
    with pytest.raises(TableError, match=message):
        read_prediction_arrays(change(table(rng)), LABELS)


def test_corrections_go_back_into_the_clips(tmp_path):
    clips = pd.DataFrame({"file": ["x/a.wav", "y/a.wav", "x/b.wav"], "label": ["one", "one", "two"]})
    lines = pd.DataFrame(
        {"file": ["../x/a.wav", "../x/b.wav"], "label": ["one", "two"], "correct_label": ["two", ""]}
    )
    write_clip_table(lines, tmp_path / "deep" / "corrections.csv")
    corrected, changed = correct_labels(clips, read_corrections(tmp_path / "deep" / "corrections.csv"))
    assert corrected["label"].tolist() == ["two", "one", "two"]
    assert changed == 1
    with pytest.raises(TableError, match=r"no clip of the table is ../z\.wav"):
        correct_labels(clips, lines.assign(file="../z.wav", start_s=np.nan, end_s=np.nan))
    with pytest.raises(TableError, match="could be several files"):
        correct_labels(clips, lines.iloc[:1].assign(file="a.wav", start_s=np.nan, end_s=np.nan))
    write_clip_table(clips, tmp_path / "plain.csv")
    with pytest.raises(TableError, match="no column 'correct_label'"):
        read_corrections(tmp_path / "plain.csv")


def test_an_evaluation_shows_itself_in_a_notebook_without_running_what_labels_say(rng):
    bad = "<script>alert(1)</script>"
    made = table(rng).rename(columns={"score:a": f"score:{bad}"}).replace({"a": bad})
    shown = evaluation(made, [bad, *LABELS[1:]])._repr_html_()
    assert "<script>" not in shown
    assert "balanced_accuracy" in shown


def test_every_pair_of_tables_with_ten_clips_sums_up(rng):
    for true, said in itertools.product("ab", repeat=2):
        made = table(rng, 10, ["a", "b"]).assign(label=true, predicted=said)
        found = Scores(arrays=read_prediction_arrays(made, ["a", "b"]), rounds=0)
        assert found.overall.loc["accuracy", "value"] == float(true == said)
        assert found.by_label["count"].sum() == found.by_label["predicted"].sum() == 10


def test_two_hundred_labels_are_drawn_and_two_confusions_compared(rng, tmp_path):
    many = [f"kind {number:03d}" for number in range(200)]
    made = table(rng, 2000, many, skill=4)
    figure = confusion_figure(evaluation(made, many))
    assert figure._repr_png_()[:4] == b"\x89PNG"
    assert len(figure.axes[0].get_yticklabels()) <= 60
    first, second = table(rng, 100), table(rng, 100, skill=3)
    figure = confusion_difference_figure(evaluation(first), evaluation(second), names=("first", "second"))
    assert "second against first: balanced accuracy +" in figure.axes[0].get_title(loc="left")
    with pytest.raises(TableError, match="of different labels"):
        confusion_difference_figure(evaluation(first), evaluation(made, many), names=("a", "b"))


def test_a_report_of_an_ensemble_and_of_another_table(few_clips, runs, tmp_path):
    train_several(few_clips, tmp_path / "folds", small_plan("logistic"), folds=3, ensemble=True)
    ensemble = open_run(tmp_path / "folds")
    write_report(ensemble, ensemble.evaluate(), tmp_path / "folds.html")  # without curves and similarity
    assert (tmp_path / "folds.html").stat().st_size > 50_000
    run = runs["logistic"]
    other = few_clips.sample(20, random_state=0).assign(label=lambda t: t["label"].where(t.index % 5 > 0, "hum"))
    judged = run.evaluate(other, split="other")
    write_report(run, judged, tmp_path / "other.html")
    page = (tmp_path / "other.html").read_text()
    assert "logistic on other" in page
    assert "In all clips of the run" not in page
    with pytest.raises(ModelError, match="which clips are alike"):
        assert ensemble.embeddings


def test_thresholds_set_later_are_those_of_the_plan(few_clips, tmp_path):
    wish = ThresholdSettings(target="precision", value=0.95)
    first = train(few_clips, tmp_path / "first", small_plan("logistic", thresholds=wish.model_dump()))
    later = set_thresholds(train(few_clips, tmp_path / "later", small_plan("logistic")), wish)
    assert later.plan.thresholds == wish
    for label, least in first.model.thresholds.items():
        assert later.model.thresholds[label] == pytest.approx(least, abs=1e-5)
    assert set_thresholds(later, ThresholdSettings()).model.thresholds == {}
    with pytest.raises(PlanError, match="at most 1 for recall"):
        ThresholdSettings(target="recall", value=1.5)


def test_a_model_with_a_header_that_cannot_be_is_refused(runs, tmp_path):
    path = tmp_path / "odd.safetensors"
    arrays = load_file(runs["cnn"].folder / "model.safetensors")
    with safe_open(runs["cnn"].folder / "model.safetensors", framework="numpy") as file:
        header = json.loads(file.metadata()["barn_owl"])
    save_file(arrays, path, metadata={"barn_owl": json.dumps({**header, "temperature": 0})})
    with pytest.raises(ModelError, match="temperature: should be greater than"):
        load_model(path)
    del header["thresholds"]
    save_file(arrays, path, metadata={"barn_owl": json.dumps(header)})
    with pytest.raises(ModelError, match="is damaged"):
        load_model(path)


def test_runs_are_named_by_what_tells_them_apart(few_clips, tmp_path):
    for place in ("a", "b"):
        train(few_clips, tmp_path / place / "run", small_plan("nearest" if place == "a" else "logistic"))
    found = compare_runs([tmp_path / "a" / "run", tmp_path / "b" / "run"])
    assert found.comparison.scores.index.tolist() == ["a/run", "b/run"]
    assert found.plans.loc["classifier"].tolist() == ["nearest", "logistic"]
    assert found._repr_html_().count("<table") == 4
    on_table = compare_runs([tmp_path / "a" / "run", tmp_path / "b" / "run"], few_clips.head(30))
    assert on_table.comparison.clips == 30
