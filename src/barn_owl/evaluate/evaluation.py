"""Evaluation of predictions: scores, intervals, mistakes and reasons for caution, computed on demand."""

import html
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from barn_owl.clips import find_leaks
from barn_owl.evaluate.breakdown import confusable_order, score_by
from barn_owl.evaluate.calibration import calibration_error, calibration_table, coverage_table, decided
from barn_owl.evaluate.curves import label_curve
from barn_owl.evaluate.mistakes import likely_wrong_labels, mistakes
from barn_owl.evaluate.prediction_arrays import LIKELY, PredictionArrays, read_prediction_arrays
from barn_owl.evaluate.scores import ROUNDS, Scores, observed, plain, plain_number

FEW_CLIPS, FEW_GROUPS, WIDE = 10, 5, 0.2
"""Below 10 clips, a single clip changes recall by more than a tenth; below 5 groups, a bootstrap has little to draw
from; an interval wider than 0.2 does not separate good from poor."""
MAJORITY_SCORES = ("accuracy", "balanced_accuracy", "macro_f1", "weighted_f1", "micro_f1", "kappa", "matthews")
CHANCE_SCORES = ("roc_area", "average_precision", "equal_error_rate", "log_loss", "brier")
"""Scores of a constant prediction, and of equal scores for all labels."""
MAX_NAMED = 8
"""Labels in a sentence."""
MAX_SHARE_TAKEN, MIN_CLIPS_TAKEN = 0.1, 3
"""Share and number of clips with further labels that background or an ignored label may take."""
MAX_MAJORITY_SHARE, NEARLY_UNIFORM, MAX_CALIBRATION_ERROR, MAX_GROUP_DIFFERENCE = 0.9, 1.5, 0.15, 0.3
"""Limits of caveats: share of the most frequent prediction; median score relative to chance; calibration error;
difference in accuracy between groups."""


@dataclass(frozen=True, kw_only=True, eq=False, repr=False)
class Evaluation:
    """Predictions of a split, or of a separate table, and the scores computed from them.

    Attributes
    ----------
    split : str
        Split, or name of the table.
    predictions : pd.DataFrame
        A clip table with ``label``, ``predicted``, ``score`` and ``score:LABEL`` for each of `labels`.
    labels : list[str]
        Labels in the order of the scores.
    majority : str
        The label that is most frequent in training.
    multilabel : bool
        Whether a clip may have several labels.
    thresholds : dict[str, float]
        Score that each label must reach to be predicted; below it, a clip is undecided.
    skipped : dict[int, str]
        The reason for each clip that could not be used, by row number.
    rows : np.ndarray | None
        Of a split of a run, the row numbers in the predictions of the run.
    clip_statistics : float | None
        Balanced accuracy of a logistic regression on statistics of the same clips, if known.
    background : tuple[str, ...]
        Labels that are never reported.
    rounds : int
        Bootstrap rounds of the intervals.

    Examples
    --------
    >>> evaluation = barn_owl.open_run("first").evaluate()
    >>> evaluation.scores.confusion.shape
    (4, 4)
    """

    split: str
    predictions: pd.DataFrame
    labels: list[str]
    majority: str
    multilabel: bool = False
    thresholds: dict[str, float] = field(default_factory=dict)
    skipped: dict[int, str] = field(default_factory=dict)
    rows: np.ndarray | None = None
    clip_statistics: float | None = None
    background: tuple[str, ...] = ()
    rounds: int = ROUNDS

    def __repr__(self) -> str:
        """Show the split and the main result."""
        return f"Evaluation({self.split}: {self.summary})"

    @cached_property
    def arrays(self) -> PredictionArrays:
        """Truth, scores and predictions, as arrays."""
        return read_prediction_arrays(self.predictions, self.labels, multilabel=self.multilabel)

    @cached_property
    def scores(self) -> Scores:
        """Confusion, and all scores with 95 % intervals from a bootstrap over groups."""
        return Scores(arrays=self.arrays, majority=self.majority, rounds=self.rounds)

    @cached_property
    def baselines(self) -> pd.DataFrame:
        """Scores of the majority-class and chance baselines next to the scores of the model.

        Chance scores all labels equally. Columns ``value``, ``low``, ``high``, ``majority``, ``chance``, and
        ``clip_statistics`` where known; chance has no scores of counts, and where labels overlap only areas and
        losses have baselines.
        """
        labels, clips = len(self.labels), len(self.arrays)
        even = self._scores_of(np.full((clips, labels), 0.5 if self.multilabel else 1 / labels), curves=True)
        chance = {name: even[name][0] for name in CHANCE_SCORES}
        majority: dict[str, float] = {}
        if not self.multilabel:
            always = np.zeros((clips, labels))
            always[:, self.labels.index(self.majority)] = 1
            given = self._scores_of(always, curves=False)
            majority = {name: given[name][0] for name in MAJORITY_SCORES}
            chance |= {"accuracy": 1 / labels, "balanced_accuracy": 1 / labels, "kappa": 0.0, "matthews": 0.0}
        table = self.scores.overall
        columns = {"majority": majority, "chance": chance}
        if self.clip_statistics is not None:
            columns["clip_statistics"] = {"balanced_accuracy": self.clip_statistics}
        return table.assign(
            **{name: [known.get(score, np.nan) for score in table.index] for name, known in columns.items()}
        )

    def _scores_of(self, scores: np.ndarray, *, curves: bool) -> dict[str, np.ndarray]:
        """Return the evaluation scores of different label scores for the same clips."""
        given = scores > LIKELY if self.multilabel else np.eye(len(self.labels), dtype=bool)[scores.argmax(axis=1)]
        return observed(replace(self.arrays, scores=scores, predicted=given), curves=curves)[0]

    @cached_property
    def order(self) -> list[str]:
        """Labels in an order with frequently confused labels adjacent."""
        if not self.multilabel:
            return confusable_order(self.scores.confusion)
        return list(self.labels)

    def curve(self, label: str) -> pd.DataFrame:
        """Hits and false alarms of a label as its threshold moves; see `label_curve`.

        Parameters
        ----------
        label : str
            Label.
        """
        number = self.labels.index(label)
        return label_curve(self.arrays.scores[:, number], self.arrays.truth[:, number])

    @cached_property
    def confidence(self) -> tuple[np.ndarray, np.ndarray]:
        """Score of each answer and whether it is right: of the best label, or where labels overlap of every label."""
        answers = self.arrays
        if self.multilabel:
            given = answers.scores > LIKELY
            sure = np.where(given, answers.scores, 1 - answers.scores)
            return sure.ravel(), (given == answers.truth).ravel()
        return answers.scores.max(axis=1), answers.right

    @cached_property
    def calibration(self) -> pd.DataFrame:
        """Predicted against observed accuracy by score; see `calibration_table`."""
        return calibration_table(*self.confidence)

    @property
    def calibration_error(self) -> float:
        """Mean difference between scores and observed accuracy."""
        return calibration_error(self.calibration)

    @cached_property
    def coverage(self) -> pd.DataFrame:
        """Number and accuracy of the predictions above each score."""
        return coverage_table(*self.confidence)

    def coverage_at(self, precision: float) -> float:
        """Return the largest share of predictions, by score, with this precision; 0 if there is none.

        Parameters
        ----------
        precision : float
            Share of the answers that must be correct.
        """
        good = self.coverage[self.coverage["right"] >= precision]
        return float(good["answered"].max()) if len(good) else 0.0

    @cached_property
    def decided(self) -> np.ndarray:
        """Whether the best score of each clip reaches the threshold of its label."""
        return decided(self.arrays.scores, self.labels, self.thresholds)

    def by(self, column: str) -> pd.DataFrame:
        """Scores by the values of a column of the predictions; see `score_by`.

        Parameters
        ----------
        column : str
            Column of the predictions.

        Raises
        ------
        KeyError
            For an unknown column.
        """
        return score_by(self.arrays, self.predictions[column])

    @cached_property
    def mistakes(self) -> pd.DataFrame:
        """Misclassified clips, highest score first."""
        return mistakes(self.predictions, self.arrays)

    @cached_property
    def likely_wrong_labels(self) -> pd.DataFrame:
        """Clips that may be mislabeled, as a table to correct."""
        return likely_wrong_labels(self.predictions, self.arrays)

    @cached_property
    def caveats(self) -> list[str]:
        """Caveats about the scores, as sentences."""
        return [*self._caveats_of_the_test(), *self._caveats_of_the_model()]

    def _caveats_of_the_test(self) -> list[str]:
        found, answers = [], self.arrays
        counts = answers.truth.sum(axis=0)
        few = [label for label, count in zip(self.labels, counts, strict=True) if 0 < count < FEW_CLIPS]
        if few:
            found.append(f"Fewer than {FEW_CLIPS} test clips of {_listed(few)}: each of them counts for a lot.")
        none = [label for label, count in zip(self.labels, counts, strict=True) if not count]
        if none:
            found.append(f"No test clip of {_listed(none)}: its performance is unknown.")
        if answers.group_count == 1:
            found.append("All test clips are from one group: performance on other groups is unknown.")
        elif answers.group_count < FEW_GROUPS:
            found.append(
                f"The test clips are from only {answers.group_count} groups (recorders, sessions): scores on other "
                "groups may differ a lot."
            )
        if "group" not in self.predictions:
            found.append(
                "The table has no column group, so clips of one recorder or session may be in several splits: "
                "the scores may be too high."
            )
        balanced = self.scores.overall.loc["balanced_accuracy"]
        if balanced["high"] - balanced["low"] > WIDE:
            found.append(
                f"The test is small: balanced accuracy between {balanced['low']:.2f} and "
                f"{balanced['high']:.2f} (95 % confidence)."
            )
        return found

    def _caveats_of_the_model(self) -> list[str]:
        found, answers = [], self.arrays
        reached = float(self.scores.overall.loc["balanced_accuracy", "value"])
        chance = 0.5 if self.multilabel else 1 / max(int(answers.truth.any(axis=0).sum()), 1)
        low = float(self.scores.overall.loc["balanced_accuracy", "low"])
        has_one_label = not self.multilabel and chance == 1
        if has_one_label:
            found.append("Only one label has clips here: scores do not show confusions with other labels.")
        elif reached <= chance:
            found.append(f"No better than chance: balanced accuracy {reached:.2f}, chance {chance:.2f}.")
        elif low <= chance:
            found.append(
                f"Possibly no better than chance ({chance:.2f}): the confidence interval begins at {low:.2f}."
            )
        if not has_one_label and self.clip_statistics is not None and reached <= self.clip_statistics:
            found.append(
                f"A logistic regression on clip statistics is as good: balanced accuracy {self.clip_statistics:.2f}, "
                f"this classifier {reached:.2f}."
            )
        found += self._swallowing()
        given = answers.predicted.mean(axis=0)
        most = int(given.argmax())
        if not self.multilabel and given[most] > MAX_MAJORITY_SHARE and len(self.labels) > 1:
            found.append(
                f"{given[most]:.0%} of the clips are classified as {self.labels[most]!r}: close to a majority-class "
                "classifier."
            )
        never = [
            label for number, label in enumerate(self.labels) if answers.truth[:, number].any() and not given[number]
        ]
        if never:
            found.append(f"Never predicted: {_listed(never)}.")
        even = NEARLY_UNIFORM / len(self.labels)
        if not self.multilabel and len(self.labels) > 2 and float(np.median(answers.scores.max(axis=1))) < even:
            found.append("Half of the highest scores are hardly above chance: the model is uncertain.")
        if len(answers) >= 5 * FEW_CLIPS and self.calibration_error > MAX_CALIBRATION_ERROR:
            found.append(
                f"Scores are not calibrated: mean difference to the observed accuracy {self.calibration_error:.2f}."
            )
        if "group" in self.predictions and answers.group_count > 1:
            found += self._unequal_groups()
        return found

    def _swallowing(self) -> list[str]:
        """Warn about background and ignored labels that attract clips of the remaining labels."""
        answers, found = self.arrays, []
        others = ~answers.truth[:, [self.labels.index(label) for label in self.background]].any(axis=1)
        for label in self.background:
            number = self.labels.index(label)
            taken = int(answers.predicted[others, number].sum())
            if taken >= MIN_CLIPS_TAKEN and taken > MAX_SHARE_TAKEN * others.sum():
                found.append(
                    f"{taken} of {others.sum()} clips of other labels ({taken / others.sum():.0%}) are classified as "
                    f"{label!r}, which is never reported: they would be missed in recordings."
                )
        return found

    def _unequal_groups(self) -> list[str]:
        sizes = np.bincount(self.arrays.groups)
        share = np.bincount(self.arrays.groups, self.arrays.right) / np.maximum(sizes, 1)
        large = np.flatnonzero(sizes >= FEW_CLIPS)
        if len(large) < 2 or np.ptp(share[large]) <= MAX_GROUP_DIFFERENCE:
            return []
        worst, best = large[share[large].argmin()], large[share[large].argmax()]
        first = {number: row for row, number in reversed(list(enumerate(self.arrays.groups)))}
        names = self.predictions["group"].astype(str)
        return [
            f"Groups differ: accuracy {share[worst]:.0%} in {names.iloc[first[worst]]!r}, "
            f"{share[best]:.0%} in {names.iloc[first[best]]!r}."
        ]

    @property
    def summary(self) -> str:
        """The main result in a sentence or two."""
        balanced = self.scores.overall.loc["balanced_accuracy"]
        what = "Balanced accuracy of the labels" if self.multilabel else "Balanced accuracy"
        span = "" if np.isnan(balanced["low"]) else f" (95 %: {balanced['low']:.2f} to {balanced['high']:.2f})"
        words = [f"{what} {balanced['value']:.2f}{span} on {len(self.arrays)} clips"]
        words.append(f"of {self.arrays.group_count} groups" if "group" in self.predictions else "")
        text = " ".join(word for word in words if word) + "."
        if not self.multilabel:
            table = self.scores.by_label["recall"].dropna().sort_values()
            text += f" Lowest recall: {table.iloc[0]:.2f} ({table.index[0]})."
            if len(self.scores.confusions):
                row = self.scores.confusions.iloc[0]
                total = int(self.arrays.truth[:, self.labels.index(row["label"])].sum())
                text += (
                    f" Most frequent confusion: {row['count']} of {total} {row['label']} clips classified as "
                    f"{row['confused_with']}."
                )
        return text

    def as_dict(self) -> dict[str, Any]:
        """Scores as plain numbers for JSON; None where undefined."""
        content = self.scores.as_dict() | {
            "scores": plain(self.baselines),
            "groups": self.arrays.group_count,
            "clip_statistics": self.clip_statistics,
            "caveats": self.caveats,
        }
        return content | {
            "labels": plain(self.scores.by_label),
            "calibration_error": plain_number(self.calibration_error),
        }

    def _repr_html_(self) -> str:
        words = "".join(f"<li>{html.escape(caveat)}</li>" for caveat in self.caveats)
        table = self.scores.by_label[["recall", "precision", "f1", "roc_area", "count"]].round(3).to_html()
        return f"<p>{html.escape(self.summary)}</p><ul>{words}</ul>{self.baselines.round(3).to_html()}{table}"


def leaks(predictions: pd.DataFrame) -> list[str]:
    """Return groups and files that are in more than one split, in words."""
    found = find_leaks(predictions)
    if not len(found):
        return []
    first = found.iloc[0]
    return [
        f"{len(found)} groups or files are in more than one split (such as {first['what']} "
        f"{first['name']!r}: {first['splits']}): the scores may be too good."
    ]


def _listed(labels: list[str]) -> str:
    named = ", ".join(map(repr, labels[:MAX_NAMED]))
    return named if len(labels) <= MAX_NAMED else f"{named} and {len(labels) - MAX_NAMED} more"
