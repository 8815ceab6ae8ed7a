"""Hits and false alarms of a label as its threshold moves: curves, their areas, the equal error rate."""

from typing import NamedTuple, TypeAlias

import numpy as np
import pandas as pd
import scipy

from barn_owl.arguments import as_array

DENSE = 2**10
"""Number of counts up to which a matrix is dense: it is then built and multiplied faster than a sparse matrix."""

Counts: TypeAlias = "np.ndarray | scipy.sparse.csr_array"


class Ranked(NamedTuple):
    """Clips in order of the score of a label, highest first, compressed without loss.

    A step for each distinct score of a clip with the label, since between steps only false alarms rise. Matrices
    ``(steps, groups)`` of counts, sparse if large: hits at the score, false alarms between the previous score and
    this score, and false alarms at this score, or None.
    """

    scores: np.ndarray
    hits: Counts
    above: Counts
    tied: "Counts | None"
    without_label: Counts
    """Number of clips without the label, ``(1, groups)``."""


def ranked(score: np.ndarray, has: np.ndarray, groups: np.ndarray, group_count: int) -> Ranked:
    """Put the clips of a label in order; score, has (whether the label is true), groups : ``(clips,)``."""
    steps = np.unique(score[has])[::-1]
    lacks = ~has
    falling = -steps
    # The step at which a clip without the label first counts: the first whose score is not above the clip's.
    place = np.searchsorted(falling, -score[lacks], side="left")
    within = place < len(steps)
    is_tied = np.zeros(len(place), dtype=bool)
    is_tied[within] = steps[place[within]] == score[lacks][within]
    shape = len(steps), group_count
    step_of_hit = np.searchsorted(falling, -score[has], side="left")
    return Ranked(
        steps,
        counts_of(step_of_hit, groups[has], shape),
        counts_of(place[within & ~is_tied], groups[lacks][within & ~is_tied], shape),
        counts_of(place[is_tied], groups[lacks][is_tied], shape) if is_tied.any() else None,
        counts_of(np.zeros(lacks.sum(), dtype=int), groups[lacks], (1, group_count)),
    )


def counts_of(rows: np.ndarray, columns: np.ndarray, shape: tuple[int, int]) -> Counts:
    """Count pairs of a row and a column, ``(rows, columns)``."""
    if shape[1] == 1 or shape[0] * shape[1] <= DENSE:
        counts = np.bincount(rows * shape[1] + columns, minlength=shape[0] * shape[1])
        return counts.reshape(shape).astype(np.float64)
    return scipy.sparse.csr_array((np.ones(len(rows)), (rows, columns)), shape=shape)


def areas(order: Ranked, drawn: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return area under the ROC curve, average precision and equal error rate for each round of `drawn`.

    drawn : how often each group counts in each round, ``(groups, rounds)``.

    The area is the probability that a clip with the label scores higher than a clip without it, with ties counting
    half. Average precision is the sum of ``(recall[i] - recall[i - 1]) * precision[i]`` over thresholds. The equal
    error rate is the point with equal miss rate and false alarm rate, by linear interpolation. NaN in rounds with
    clips of one kind only.
    """
    if not len(order.scores):
        unknown = np.full(drawn.shape[1], np.nan)
        return unknown, unknown, unknown
    hits = order.hits @ drawn
    before = np.cumsum(order.above @ drawn, axis=0)
    after = before
    if order.tied is not None:
        tied = order.tied @ drawn
        after = before + np.cumsum(tied, axis=0)
        before = after - tied
    found = np.cumsum(hits, axis=0)
    positives, negatives = hits.sum(axis=0), (order.without_label @ drawn)[0]
    with np.errstate(invalid="ignore", divide="ignore"):
        passed = np.einsum("sr,sr->r", hits, before) + np.einsum("sr,sr->r", hits, after)
        roc = 1 - passed / (2 * positives * negatives)
        precision = found / np.maximum(found + after, 1)
        average = np.einsum("sr,sr->r", hits, precision) / positives
        equal = _equal_error(found, before, after, positives, negatives)
    known = (positives > 0) & (negatives > 0)
    return np.where(known, roc, np.nan), np.where(positives > 0, average, np.nan), np.where(known, equal, np.nan)


def _equal_error(
    found: np.ndarray, before: np.ndarray, after: np.ndarray, positives: np.ndarray, negatives: np.ndarray
) -> np.ndarray:
    """Return the rate at which misses and false alarms are equal, for each round."""
    steps, rounds = found.shape
    round_ = np.arange(rounds)
    # Along the curve misses fall and false alarms rise, so the two meet once: at the first step that has passed that.
    meets = after * positives >= (positives - found) * negatives
    at = np.where(meets.any(axis=0), meets.argmax(axis=0), steps)
    inside = np.minimum(at, steps - 1)
    earlier = np.where(at > 0, found[at - 1, round_], 0)
    alarms = (
        np.stack(
            [
                np.where(at > 0, after[at - 1, round_], 0),
                np.where(at < steps, before[inside, round_], negatives),
                np.where(at < steps, after[inside, round_], negatives),
            ]
        )
        / negatives
    )
    misses = 1 - np.stack([earlier, earlier, np.where(at < steps, found[inside, round_], positives)]) / positives
    gap = alarms - misses
    end = np.where(gap[1] >= 0, 1, 2)  # false alarms alone, or the step itself
    low, high = gap[end - 1, round_], gap[end, round_]
    share = np.where(high > low, -low / np.where(high > low, high - low, 1), 0.0).clip(0, 1)
    return np.asarray(alarms[end - 1, round_] + share * (alarms[end, round_] - alarms[end - 1, round_]))


def label_curve(score: np.ndarray, has: np.ndarray) -> pd.DataFrame:
    """Return hits and false alarms of a label at every threshold.

    Parameters
    ----------
    score : np.ndarray
        Score of the label for each clip, ``(clips,)``.
    has : np.ndarray
        Whether each clip has the label, boolean, ``(clips,)``.

    Returns
    -------
    pd.DataFrame
        ``threshold`` (falling; the first is above all scores), ``recall``, ``precision`` (NaN without
        predictions), ``false_alarm_rate`` (share of the clips without the label), ``miss_rate``. ROC curves show
        recall against false alarms, detection-error curves misses against false alarms.

    Examples
    --------
    >>> curve = barn_owl.evaluate.label_curve(np.array([0.9, 0.6, 0.2]), np.array([True, True, False]))
    >>> list(curve)
    ['threshold', 'recall', 'precision', 'false_alarm_rate', 'miss_rate']
    """
    score = as_array("score", score, None)
    has = as_array("has", has, len(score), kind="boolean", of="score")
    order = np.argsort(-score, kind="stable")
    last = np.flatnonzero(np.append(np.diff(score[order]) != 0, True))
    found, predicted = np.cumsum(has[order])[last], last + 1
    with np.errstate(invalid="ignore", divide="ignore"):
        recall = np.append(0.0, found / has.sum())
        return pd.DataFrame(
            {
                "threshold": np.append(np.inf, score[order][last]),
                "recall": recall,
                "precision": np.append(np.nan, found / predicted),
                "false_alarm_rate": np.append(0.0, (predicted - found) / (~has).sum()),
                "miss_rate": 1 - recall,
            }
        )
