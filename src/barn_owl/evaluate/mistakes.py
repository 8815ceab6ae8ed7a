"""Misclassified clips, highest score first; doubtful labels; and the most similar clips."""

import numpy as np
import pandas as pd

from barn_owl.classifiers.row_classifiers import squared_distances
from barn_owl.evaluate.prediction_arrays import PredictionArrays

NEAREST = 3
"""Number of clips to compare a mistake with."""
PLACE = ["file", "start_s", "end_s"]
MIN_RECALL = 0.6
"""Minimum recall of a label for a model to question that label in the table."""


def mistakes(predictions: pd.DataFrame, answers: PredictionArrays) -> pd.DataFrame:
    """Return rows with a wrong prediction, highest score first, with ``own_score``, the score of the true label."""
    wrong = np.flatnonzero(~answers.right)
    table = predictions.iloc[wrong]
    own = np.where(answers.truth, answers.scores, np.nan)[wrong]
    lowest = np.nanmin(np.where(np.isnan(own).all(axis=1, keepdims=True), 1.0, own), axis=1)
    columns = [name for name in (*PLACE, "label", "predicted", "score", "group", "split") if name in table]
    table = table[columns].assign(own_score=lowest)
    return table.sort_values("score", ascending=False, kind="stable")


def likely_wrong_labels(predictions: pd.DataFrame, answers: PredictionArrays) -> pd.DataFrame:
    """Clips whose label the scores speak against, the likeliest first, as a table to correct.

    A label is doubtful when a different label is predicted with a score above its mean over its true clips, while the
    clip's label scores below its mean (the rule of Northcutt et al., JAIR 2021, for confident joints). Both labels
    must have a recall of at least `MIN_RECALL`. Columns: the clip's place, ``label``, ``suggested``, ``score``,
    ``own_score``, and a blank ``correct_label`` to fill in. Empty where labels overlap.
    """
    columns = [*PLACE, "label", "suggested", "score", "own_score", "correct_label"]
    if answers.multilabel or not len(answers):
        return pd.DataFrame(columns=columns)
    true, predicted = answers.true_numbers, answers.predicted_numbers
    clips = np.arange(len(answers))
    own, best = answers.scores[clips, true], answers.scores[clips, predicted]
    counts = answers.truth.sum(axis=0)
    usual = np.where(answers.truth, answers.scores, 0).sum(axis=0) / np.maximum(counts, 1)
    right = np.bincount(true[true == predicted], minlength=len(counts)) / np.maximum(counts, 1)
    known = right >= MIN_RECALL
    doubted = np.flatnonzero(
        (true != predicted) & (best >= usual[predicted]) & (own < usual[true]) & known[predicted] & known[true]
    )
    table = predictions.iloc[doubted][[*PLACE, "label"]].assign(
        suggested=[answers.labels[number] for number in predicted[doubted]],
        score=best[doubted],
        own_score=own[doubted],
        correct_label="",
    )
    return table.iloc[np.argsort(own[doubted] - best[doubted], kind="stable")]


def nearest_clips(
    inside: np.ndarray, known: np.ndarray, known_labels: np.ndarray, wanted: str, *, count: int = NEAREST
) -> np.ndarray:
    """Return the numbers of the known clips of a label that are most similar to a clip, most similar first.

    inside : what the classifier makes of the clip before it decides, ``(features,)``; known : the same of others,
    ``(clips, features)``, with their labels.
    """
    own = np.flatnonzero(known_labels == wanted)
    if not len(own):
        return own
    distance = squared_distances(inside[None], known[own])[0]
    return np.asarray(own[np.argsort(distance, kind="stable")[:count]])
