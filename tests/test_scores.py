import itertools
import json

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st

from barn_owl.errors import TableError
from barn_owl.evaluate import score_events
from helpers import evaluation_of


def test_six_clips_worked_by_hand():
    truth, said = list("aaabbc"), list("aabbbb")
    scores = evaluation_of(truth, said, list("abcd")).scores
    np.testing.assert_array_equal(scores.confusion, [[2, 1, 0, 0], [0, 2, 0, 0], [0, 1, 0, 0], [0, 0, 0, 0]])
    assert scores.accuracy == pytest.approx(4 / 6)
    assert scores.balanced_accuracy == pytest.approx((2 / 3 + 1 + 0) / 3)
    assert (scores.majority_accuracy, scores.majority_balanced_accuracy) == (0.5, pytest.approx(1 / 3))
    table = scores.by_label
    np.testing.assert_allclose(table["precision"], [1, 0.5, np.nan, np.nan])
    np.testing.assert_allclose(table["recall"], [2 / 3, 1, 0, np.nan])
    np.testing.assert_allclose(table["f1"], [0.8, 2 / 3, 0, np.nan])
    assert table["count"].tolist() == [3, 2, 1, 0]
    first = scores.confusions.iloc[0]
    assert (first["label"], first["confused_with"], first["count"]) == ("a", "b", 1)
    assert json.loads(json.dumps(scores.as_dict(), allow_nan=False))["labels"]["d"]["recall"] is None


@given(st.lists(st.tuples(st.sampled_from("abc"), st.sampled_from("abc")), min_size=1, max_size=40))
@settings(max_examples=50, deadline=None)
def test_confusion_sums_and_order_do_not_matter(pairs):
    truth, said = zip(*pairs, strict=True)
    table = evaluation_of(truth, said, list("abc")).scores.confusion
    assert table.to_numpy().sum() == len(pairs)
    assert table.sum(axis=1).tolist() == [truth.count(label) for label in "abc"]
    assert table.sum(axis=0).tolist() == [said.count(label) for label in "abc"]
    turned = evaluation_of(truth[::-1], said[::-1], list("cba")).scores.confusion
    pd.testing.assert_frame_equal(turned.loc[list("abc"), list("abc")], table)


def test_what_cannot_be_judged_is_refused():
    with pytest.raises(TableError, match="row 1, predicted: 'z' is not one of a"):
        _ = evaluation_of(["a"], ["z"], ["a"]).scores
    with pytest.raises(TableError, match="no labeled clips"):
        _ = evaluation_of([], [], ["a"]).scores
    with pytest.raises(TableError, match="no confusion matrix"):
        _ = evaluation_of(["a|b"], ["a"], ["a", "b"], multilabel=True).scores.confusion


def events(*rows, file="n.wav", **extra):
    table = pd.DataFrame(rows, columns=["start_s", "end_s", "label"]).assign(file=file)
    return table.assign(**extra)


def test_events_worked_by_hand():
    truth = events((1.0, 2.0, "a"), (1.3, 2.0, "a"), (5.0, 6.0, "b"), (8.0, 9.0, ""))
    truth["unknown"] = ["", "", "", "gull"]
    found = events((1.15, 2.0, "a"), (1.45, 1.9, "a"), (5.3, 6.0, "b"), (8.0, 9.0, "b"))
    scores = score_events(found, truth, collar_s=0.2)
    # Nearest first would pair 1.15 with 1.3 and leave 1.45 over; the best pairing has two hits.
    assert scores.by_label.loc["a"].tolist()[:6] == [2, 2, 2, 1, 1, 1]
    assert scores.by_label.loc["b"].tolist()[:6] == [1, 2, 0, 0, 0, 0]
    assert (scores.precision, scores.recall, scores.f1) == (0.5, pytest.approx(2 / 3), pytest.approx(4 / 7))
    np.testing.assert_allclose(sorted(scores.matches["onset_error_s"]), [0.15, 0.15])
    assert score_events(found, truth, collar_s=0.3).by_label.loc["b", "hits"] == 1


@given(st.lists(st.integers(0, 20), min_size=1, max_size=5), st.lists(st.integers(0, 20), min_size=1, max_size=5))
@settings(max_examples=60, deadline=None)
def test_matching_is_the_best_of_all_pairings(true, found):
    def table(onsets):
        return events(*[(at / 10, at / 10 + 0.5 + n, "a") for n, at in enumerate(onsets)])

    short, long = sorted([true, found], key=len)
    best = max(
        sum(abs(a - b) <= 2 for a, b in zip(short, chosen, strict=True))
        for chosen in itertools.permutations(long, len(short))
    )
    assert score_events(table(found), table(true), collar_s=0.2).by_label.loc["a", "hits"] == best


def test_no_events_and_events_of_another_recording():
    truth = events((1.0, 2.0, "a"))
    nothing = score_events(truth.iloc[:0], truth)
    assert (nothing.precision, nothing.recall, nothing.f1) == (0, 0, 0)
    with pytest.raises(TableError, match=r"says nothing about other\.wav; its files: n\.wav"):
        score_events(events((1.0, 2.0, "a"), file="other.wav"), truth)
    with pytest.raises(TableError, match="row 1: start_s and end_s must be given"):
        score_events(truth, truth.assign(start_s=np.nan))
