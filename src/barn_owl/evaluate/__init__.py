"""Judging: predictions against labels, events against a truth table."""

from barn_owl.evaluate.answers import Answers, read_answers
from barn_owl.evaluate.calibration import calibration_error, calibration_table, fit_temperature, fit_thresholds
from barn_owl.evaluate.compare import Comparison, compare
from barn_owl.evaluate.curves import label_curve
from barn_owl.evaluate.evaluation import Evaluation
from barn_owl.evaluate.events import EventScores, score_events, score_segments
from barn_owl.evaluate.measures import Measured, measure
from barn_owl.evaluate.predictions import UNDECIDED, predict, undecided
from barn_owl.evaluate.scores import OverlapScores, Scores, confusion_table, score_labels, score_overlapping

__all__ = [
    "UNDECIDED",
    "Answers",
    "Comparison",
    "Evaluation",
    "EventScores",
    "Measured",
    "OverlapScores",
    "Scores",
    "calibration_error",
    "calibration_table",
    "compare",
    "confusion_table",
    "fit_temperature",
    "fit_thresholds",
    "label_curve",
    "measure",
    "predict",
    "read_answers",
    "score_events",
    "score_labels",
    "score_overlapping",
    "score_segments",
    "undecided",
]
