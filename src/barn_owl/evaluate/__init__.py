"""Judging: predictions against labels, events against a truth table."""

from barn_owl.evaluate.events import EventScores, score_events
from barn_owl.evaluate.predictions import predict
from barn_owl.evaluate.scores import OverlapScores, Scores, confusion_table, score_labels, score_overlapping

__all__ = [
    "EventScores",
    "OverlapScores",
    "Scores",
    "confusion_table",
    "predict",
    "score_events",
    "score_labels",
    "score_overlapping",
]
