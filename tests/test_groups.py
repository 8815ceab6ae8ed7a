"""The range that held-out groups promise for a new one."""

import numpy as np
import pandas as pd
import pytest

from barn_owl.runs.groups import USUAL_DEVIATION, USUAL_GROUPS, spread_of_groups


def predictions(training: float, held_out: list[float], clips: int = 20) -> pd.DataFrame:
    """Predictions of two labels: training groups with one accuracy, held-out groups with one each."""
    rows = []
    for number, share in enumerate([training, training, *held_out]):
        right = round(share * clips)
        split = "train" if number < 2 else ("validation", "test")[number % 2]
        for clip in range(clips):
            label = "ab"[clip % 2]
            predicted = label if clip < right else "ba"[clip % 2]
            rows.append((f"g{number}", split, label, predicted))
    return pd.DataFrame(rows, columns=["group", "split", "label", "predicted"])


def test_the_range_holds_four_of_five_new_groups(seed):
    rng = np.random.default_rng(seed)
    inside = []
    for _ in range(400):
        accuracy = np.clip(rng.normal(0.6, USUAL_DEVIATION, 5), 0, 1)
        spread = spread_of_groups(predictions(1.0, list(accuracy[:4])), ["a", "b"])
        inside.append(spread.low <= accuracy[4] <= spread.high)
    assert np.mean(inside) == pytest.approx(0.8, abs=0.07)


def test_few_groups_that_are_alike_promise_little():
    two, many = (spread_of_groups(predictions(1.0, [0.9] * count), ["a", "b"]) for count in (2, 30))
    assert 0.9 - two.low > 3 * (0.9 - many.low) > 0
    assert two.by_group["accuracy"].tolist() == [0.9, 0.9]
    low, high = two.range_of(0.85)
    assert low < 0.6 < 0.85 < high < 1
    assert two.range_of(0.85)[0] < many.range_of(0.85)[0]
    expected = (USUAL_GROUPS * USUAL_DEVIATION**2 / (USUAL_GROUPS + 1) * 1.5) ** 0.5 * 1.533  # t, 4 degrees, 90 %
    assert 0.9 - two.low == pytest.approx(expected, rel=1e-3)


def test_groups_that_are_learned_and_others_that_are_not_ask_for_more_groups():
    worst_first = spread_of_groups(predictions(1.0, [0.7, 0.5, 0.8]), ["a", "b"])
    assert worst_first.by_group["accuracy"].tolist() == [0.5, 0.7, 0.8]
    assert "The 2 training groups are learned" in worst_first.advice
    assert not spread_of_groups(predictions(1.0, [0.95, 1.0]), ["a", "b"]).advice
    assert not spread_of_groups(predictions(0.7, [0.5, 0.5]), ["a", "b"]).advice


def test_labels_that_are_not_reported_and_runs_without_groups_do_not_count():
    table = predictions(1.0, [0.5, 0.5])
    assert spread_of_groups(table, ["a"]).by_group["clips"].tolist() == [10, 10]
    none = spread_of_groups(table.drop(columns="group"), ["a", "b"])
    assert np.isnan(none.low)
    assert not len(none.by_group)
