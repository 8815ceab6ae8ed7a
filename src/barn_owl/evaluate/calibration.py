"""Calibration of scores, coverage of thresholds, and thresholds for a target."""

import math
from collections.abc import Sequence
from typing import Literal

import numpy as np
import pandas as pd
import scipy

from barn_owl.arguments import as_array
from barn_owl.evaluate.prediction_arrays import PredictionArrays
from barn_owl.network import binary_cross_entropy, cross_entropy, sigmoid, softmax

BINS = 10
"""Bins of a calibration table."""
MIN_TEMPERATURE, MAX_TEMPERATURE = 0.1, 10.0
"""Range of temperatures that is searched."""
MIN_CLIPS = 20
"""Fewest clips to fit a temperature to."""

Target = Literal["none", "precision", "recall", "f1", "cost"]


def calibration_table(confidence: np.ndarray, right: np.ndarray, *, bins: int = BINS) -> pd.DataFrame:
    """Compare scores with observed accuracy in `bins` bins of equal size.

    Parameters
    ----------
    confidence : np.ndarray
        Scores from 0 to 1, ``(answers,)``.
    right : np.ndarray
        Whether each prediction is correct, boolean, ``(answers,)``.
    bins : int
        Number of bins.

    Returns
    -------
    pd.DataFrame
        ``score`` (mean in the bin), ``right`` (share), ``answers`` (count), and the ends ``low`` and ``high`` of the
        bin.

    Examples
    --------
    >>> table = barn_owl.evaluate.calibration_table(np.array([0.95, 0.85]), np.array([True, False]))
    >>> list(table)
    ['score', 'right', 'answers', 'low', 'high']
    """
    confidence = as_array("confidence", confidence, None)
    right = as_array("right", right, len(confidence), kind="boolean", of="confidence")
    order = np.argsort(confidence, kind="stable")
    parts = [part for part in np.array_split(order, bins) if len(part)]
    return pd.DataFrame(
        {
            "score": [float(confidence[part].mean()) for part in parts],
            "right": [float(right[part].mean()) for part in parts],
            "answers": [len(part) for part in parts],
            "low": [float(confidence[part[0]]) for part in parts],
            "high": [float(confidence[part[-1]]) for part in parts],
        }
    )


def calibration_error(table: pd.DataFrame) -> float:
    """Expected calibration error: mean difference between score and accuracy over the bins of `calibration_table`.

    The expected calibration error of Naeini et al., AAAI 2015, with bins of as many answers each.

    Parameters
    ----------
    table : pd.DataFrame
        Result of `calibration_table`.
    """
    return float(((table["score"] - table["right"]).abs() * table["answers"]).sum() / table["answers"].sum())


def fit_temperature(scores: np.ndarray, truth: np.ndarray, *, multilabel: bool = False) -> float:
    """Find the temperature that minimizes the log loss of logits: Guo et al., ICML 2017.

    Parameters
    ----------
    scores, truth : np.ndarray
        ``(clips, labels)`` of clips that were not trained on. 1 with fewer than 20 clips.
    multilabel : bool
        Whether a clip may have several labels.
    """
    if len(scores) < MIN_CLIPS:
        return 1.0
    logits, targets = _logits(scores, multilabel=multilabel), truth.astype(np.float64)
    if not multilabel:
        targets = np.concatenate([targets, np.zeros((len(targets), 1))], axis=1)
    loss = binary_cross_entropy if multilabel else cross_entropy
    found = scipy.optimize.minimize_scalar(
        lambda log: loss(logits / np.exp(log), targets)[0],
        bounds=(math.log(MIN_TEMPERATURE), math.log(MAX_TEMPERATURE)),
        method="bounded",
    )
    return float(np.exp(found.x))


def at_temperature(scores: np.ndarray, temperature: float, *, multilabel: bool = False) -> np.ndarray:
    """Return the scores of the logits divided by `temperature`, float64."""
    logits = _logits(scores, multilabel=multilabel) / temperature
    return sigmoid(logits) if multilabel else softmax(logits)[:, :-1]


def _logits(scores: np.ndarray, *, multilabel: bool) -> np.ndarray:
    """Return logits with these scores, float64; logits of a softmax have a column more, for none of the labels."""
    safe = np.asarray(scores, dtype=np.float64).clip(1e-12, 1 - 1e-12)
    if multilabel:
        return np.asarray(np.log(safe / (1 - safe)))
    none = (1 - safe.sum(axis=1, keepdims=True)).clip(1e-12, 1)
    # A difference below 1e-6 is a rounding error of float32.
    return np.asarray(np.log(np.concatenate([safe, np.where(none < 1e-6, 1e-12, none)], axis=1)))


def coverage_table(confidence: np.ndarray, right: np.ndarray) -> pd.DataFrame:
    """Return how many predictions remain above a score, and how many of them are correct.

    confidence, right : ``(answers,)``. One row for each distinct score: ``threshold``, ``answered``
    (share), ``right`` (share of the remaining).
    """
    order = np.argsort(-confidence, kind="stable")
    last = np.flatnonzero(np.append(np.diff(confidence[order]) != 0, True))
    answered = last + 1
    return pd.DataFrame(
        {
            "threshold": confidence[order][last],
            "answered": answered / len(order),
            "right": np.cumsum(right[order])[last] / answered,
        }
    )


def fit_thresholds(answers: PredictionArrays, target: Target, value: float) -> dict[str, float]:
    """Find a threshold per label for a target, on held-out clips.

    A prediction whose score is below the threshold of its label is withheld.

    Parameters
    ----------
    answers : PredictionArrays
        Truth, scores and predictions of held-out clips.
    target : Target
        "precision" or "recall" of at least `value`, the best "f1", or the least "cost", where a false alarm costs
        `value` times a miss. For precision, the lowest threshold that reaches the target, or else the nearest; for
        recall, the highest that reaches it. Labels without evidence get 0, or 0.5 where labels overlap.
    value : float
        Precision or recall to reach, or cost of a false alarm.

    Examples
    --------
    >>> answers = barn_owl.open_run("first").evaluate(split="validation").arrays
    >>> sorted(barn_owl.evaluate.fit_thresholds(answers, "precision", 0.9))
    ['hiss', 'hum', 'still', 'tick']
    """
    default = 0.5 if answers.multilabel else 0.0
    found = {}
    for number, label in enumerate(answers.labels):
        # In a single-label task a threshold can only reject predictions; in a multilabel task it decides them.
        requested = np.ones(len(answers), dtype=bool) if answers.multilabel else answers.predicted_numbers == number
        has = answers.truth[:, number]
        known = target != "none" and has.any() and requested.any()
        found[label] = (
            _threshold(answers.scores[requested, number], has[requested], target, value) if known else default
        )
    return found


def _threshold(score: np.ndarray, has: np.ndarray, target: Target, value: float) -> float:
    order = np.argsort(-score, kind="stable")
    last = np.flatnonzero(np.append(np.diff(score[order]) != 0, True))
    # Halfway between adjacent scores, so that no clip is on the edge.
    steps = score[order][last]
    cuts = np.append((steps[:-1] + steps[1:]) / 2, 0.0)
    hits, predicted = np.cumsum(has[order])[last], last + 1
    missed, alarms = has.sum() - hits, predicted - hits
    if target == "precision":
        precision = hits / predicted
        kept = np.flatnonzero(precision >= value)
        return float(cuts[kept[-1]] if len(kept) else cuts[precision.argmax()])
    if target == "recall":
        return float(cuts[np.argmax(hits >= value * has.sum())])
    if target == "f1":
        return float(cuts[np.argmax(2 * hits / (predicted + has.sum()))])
    # Without any prediction, all true labels are missed.
    costs = np.append(missed + value * alarms, has.sum())
    best = int(costs.argmin())
    return float(cuts[best]) if best < len(cuts) else 1.0


def decided(scores: np.ndarray, labels: Sequence[str], thresholds: dict[str, float]) -> np.ndarray:
    """Whether the best score of each row reaches the threshold of its label, ``(clips,)``."""
    best = scores.argmax(axis=1)
    least = np.array([thresholds.get(label, 0.0) for label in labels])
    return np.asarray(scores[np.arange(len(scores)), best] >= least[best])
