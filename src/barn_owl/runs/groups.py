"""What held-out groups say about new ones: the range of accuracy and of event F1 to expect, and what would help."""

from dataclasses import dataclass

import numpy as np
import pandas as pd
import scipy

MIN_CLIPS = 5
"""Clips of a held-out group from which its accuracy counts."""
COVERAGE = 0.8
"""Share of new groups that the range is for."""
USUAL_DEVIATION, USUAL_GROUPS = 0.17, 3
"""Deviation of the accuracy between the test groups of real problems (drums 0.18, letters 0.17, instruments 0.07,
commands 0.21), and how many groups that knowledge is worth: two or three groups may be alike by chance."""
EDGE = 0.05
"""Distance of a score from 0 and 1 that is kept in ratios of right to wrong: few groups cannot prove more."""
LEARNED, GAP = 0.95, 0.1
"""Accuracy of the training groups, and its distance to that of held-out groups, from which other groups would help
more than more clips of the same."""


@dataclass(frozen=True, kw_only=True)
class GroupSpread:
    """Accuracy by group, and the range for a new group.

    Attributes
    ----------
    by_group : pd.DataFrame
        Groups of the validation and test splits, with ``split``, ``clips`` and ``accuracy``, the worst first.
    training_groups : int
        Number of groups of the training split.
    training_accuracy : float
        Accuracy on the clips of the training split.
    low, high : float
        Range of the accuracy of a new group: an 80 % prediction interval from the held-out groups; NaN with fewer
        than two. The deviation between groups is pooled with the usual deviation of real problems (A. Gelman and
        others, Bayesian Data Analysis, section 3.3).

    Examples
    --------
    >>> spread = barn_owl.open_run("first").group_spread
    >>> round(spread.low, 2), spread.accuracy, spread.high
    (0.72, 1.0, 1.0)
    """

    by_group: pd.DataFrame
    training_groups: int
    training_accuracy: float
    low: float
    high: float

    @property
    def accuracy(self) -> float:
        """Mean accuracy of the held-out groups; NaN without any."""
        return float(self.by_group["accuracy"].mean()) if len(self.by_group) else float("nan")

    def range_of(self, score: float) -> tuple[float, float]:
        """Return the range of a score of the held-out groups for a new group: its ratio of right to wrong changes as
        that of the accuracy does.

        Parameters
        ----------
        score : float
            Score, 0 to 1, such as the event F1 of the rehearsal.
        """
        shifts = (_logit(end) - _logit(self.accuracy) for end in (self.low, self.high))
        low, high = (float(1 / (1 + np.exp(-_logit(score) - shift))) for shift in shifts)
        return low, high

    @property
    def advice(self) -> str:
        """What would help most, where the held-out groups show it; blank otherwise."""
        if self.training_accuracy < LEARNED or not self.training_accuracy - self.accuracy > GAP:
            return ""
        return (
            f"The {self.training_groups} training groups are learned (accuracy {self.training_accuracy:.2f}), "
            f"held-out groups less so ({self.accuracy:.2f}). Other groups (makers, speakers, rooms, recorders) would "
            f"help most, {max(self.training_groups, 4)} more for a start; more clips of the same groups help little."
        )


def spread_of_groups(predictions: pd.DataFrame, labels: list[str]) -> GroupSpread:
    """Return the spread of accuracy over the groups of a run's predictions; without ``group`` it is empty.

    labels : those that are reported as events; clips of others do not count.
    """
    table = predictions[predictions["label"].isin(labels)]
    table = table.assign(right=table["predicted"] == table["label"])
    training = table[table["split"] == "train"]
    named = table[table["group"] != ""] if "group" in table else table.iloc[:0].assign(group="")
    held_out = named[named["split"] != "train"]
    by_group = held_out.groupby("group").agg(
        split=("split", "first"), clips=("right", "size"), accuracy=("right", "mean")
    )
    by_group = by_group[by_group["clips"] >= MIN_CLIPS].sort_values("accuracy", kind="stable")
    low = high = float("nan")
    count = len(by_group)
    if count > 1:
        mean, known = by_group["accuracy"].mean(), USUAL_GROUPS + count - 1
        square = (USUAL_GROUPS * USUAL_DEVIATION**2 + (count - 1) * by_group["accuracy"].var()) / known
        reach = scipy.stats.t.ppf(0.5 + COVERAGE / 2, known) * np.sqrt(square * (1 + 1 / count))
        low, high = max(0.0, float(mean - reach)), min(1.0, float(mean + reach))
    return GroupSpread(
        by_group=by_group,
        training_groups=int(named.loc[named["split"] == "train", "group"].nunique()),
        training_accuracy=float(training["right"].mean()) if len(training) else float("nan"),
        low=low,
        high=high,
    )


def _logit(score: float) -> float:
    inside = min(max(score, EDGE), 1 - EDGE)
    return float(np.log(inside / (1 - inside)))
