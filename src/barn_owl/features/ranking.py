"""Ranking of features: which separate the labels, which are redundant, which depend on the recorder.

Inputs are `x`, ``(clips, features)``, and a label or group for each row.
"""

import warnings
from collections.abc import Sequence

import numpy as np
import pandas as pd
import scipy

from barn_owl.arguments import as_array
from barn_owl.errors import TableError

BINS = 8
SAME = 0.95
"""Absolute correlation beyond which features are redundant."""


def f_statistic(x: np.ndarray, classes: Sequence[str]) -> np.ndarray:
    """One-way F statistic of each feature; infinite for perfect separation, 0 for a constant feature."""
    numbers, k = _numbered(classes)
    x = x.astype(np.float64)
    constant = np.ptp(x, axis=0) <= 1e-12 * np.abs(x).max(axis=0, initial=0)  # apart from rounding
    if len(x) <= k:
        return np.where(constant, 0.0, np.inf)
    with warnings.catch_warnings(action="ignore"):
        found = scipy.stats.f_oneway(*(x[numbers == number] for number in range(k)), axis=0).statistic
    return np.where(constant, 0.0, found)


def mutual_information(x: np.ndarray, classes: Sequence[str]) -> np.ndarray:
    """Mutual information in bits of each feature, cut into eight bins of equal count, with the class.

    The bias of counting, about ``(bins - 1)(k - 1) / (2 n ln 2)`` bits, is taken off (Miller, 1955); never
    below 0.
    """
    numbers, k = _numbered(classes)
    ranks = pd.DataFrame(x).rank().to_numpy() - 0.5
    bins = np.minimum((ranks * BINS / len(x)).astype(int), BINS - 1)
    bits = np.empty(x.shape[1])
    for column in range(x.shape[1]):
        joint = np.bincount(numbers * BINS + bins[:, column], minlength=k * BINS).reshape(k, BINS) / len(x)
        expected = joint.sum(axis=1, keepdims=True) * joint.sum(axis=0, keepdims=True)
        there = joint > 0
        used = int((joint.sum(axis=0) > 0).sum())
        bias = (used - 1) * (k - 1) / (2 * len(x) * np.log(2))
        bits[column] = (joint[there] * np.log2(joint[there] / expected[there])).sum() - bias
    return np.maximum(bits, 0)


def class_areas(x: np.ndarray, classes: Sequence[str]) -> tuple[np.ndarray, list[str]]:
    """Return the area under the ROC curve of each feature for each class against the rest, ``(features, classes)``.

    0.5 is chance; 1: always higher for the class, 0: always lower. By the Mann-Whitney statistic, ties counting half.
    Also returns the classes in the order of the columns.
    """
    names = sorted(set(classes))
    own = [np.asarray(classes) == name for name in names]
    found = [scipy.stats.mannwhitneyu(x[one], x[~one], axis=0, method="asymptotic").statistic for one in own]
    return np.stack([u / (one.sum() * (~one).sum()) for u, one in zip(found, own, strict=True)], axis=1), names


def rank_features(
    x: np.ndarray, columns: Sequence[str], labels: Sequence[str], groups: Sequence[str] | None = None
) -> pd.DataFrame:
    """Rank features by how well each separates the labels, best first.

    Parameters
    ----------
    x : np.ndarray
        Features, ``(clips, features)``.
    columns : Sequence[str]
        Names of the columns of `x`.
    labels : Sequence[str]
        Label of each clip.
    groups : Sequence[str] | None
        Group of each clip.

    Returns
    -------
    pd.DataFrame
        A table with ``feature``; ``f`` (one-way F statistic); ``bits`` (mutual information); ``label``,
        ``area`` and ``direction``: the label it sets apart best, how well (area under the ROC curve, 0.5 to
        1) and whether the label's values are higher or lower; ``same_as``: a better feature that says the
        same (correlation beyond 0.95), or blank. With `groups` also ``group_f`` and ``follows_group``:
        whether the feature follows the recorder, day or person better than the label.

    Raises
    ------
    TableError
        If there are fewer than two labels, or sizes do not match.

    Examples
    --------
    >>> x, labels = np.arange(8.0)[:, None], ["bell"] * 4 + ["gull"] * 4
    >>> list(barn_owl.features.rank_features(x, ["pitch"], labels))
    ['feature', 'f', 'bits', 'label', 'area', 'direction', 'same_as']
    """
    if len(set(labels)) < 2:
        raise TableError("features can be ranked only between two labels or more")
    x = as_array("x", x, None, None)
    if x.shape != (len(labels), len(columns)):
        raise TableError(
            f"{x.shape[0]} rows of {x.shape[1]} features do not match {len(labels)} labels, {len(columns)} names"
        )
    areas, names = class_areas(x, labels)
    best = np.abs(areas - 0.5).argmax(axis=1)
    area = areas[np.arange(len(best)), best]
    table = pd.DataFrame(
        {
            "feature": list(columns),
            "f": f_statistic(x, labels),
            "bits": mutual_information(x, labels),
            "label": [names[number] for number in best],
            "area": np.maximum(area, 1 - area),
            "direction": np.where(area >= 0.5, "higher", "lower"),
        }
    )
    if groups is not None and len(groups) != len(labels):
        raise TableError(f"{len(groups)} groups do not match {len(labels)} labels")
    if groups is not None and len(set(groups)) > 1:
        table["group_f"] = f_statistic(x, groups)
        table["follows_group"] = table["group_f"] > table["f"]
    order = table["f"].sort_values(ascending=False, kind="stable").index.to_numpy()
    table = table.loc[order].reset_index(drop=True)
    better = np.tril(pd.DataFrame(x[:, order]).corr().abs().to_numpy() > SAME, -1)
    table["same_as"] = np.where(better.any(axis=1), table["feature"].to_numpy()[better.argmax(axis=1)], "")
    return table


def principal_map(x: np.ndarray, dimensions: int = 2) -> tuple[np.ndarray, np.ndarray]:
    """Coordinates of all clips on the first two principal components of the standardized features.

    Parameters
    ----------
    x : np.ndarray
        Features, ``(clips, features)``.
    dimensions : int
        Number of components.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        ``(clips, dimensions)`` and the share of the variance along each. By singular value decomposition; the sign of
        each direction is chosen so that its largest weight is positive. Source: K. Pearson, Phil. Mag. 2, 1901.

    Examples
    --------
    >>> places, shares = barn_owl.features.principal_map(np.random.default_rng(0).random((20, 5)))
    >>> places.shape, shares.shape
    ((20, 2), (2,))
    """
    x = as_array("x", x, None, None)
    centered = x.astype(np.float64) - x.mean(axis=0, dtype=np.float64)
    centered /= np.maximum(centered.std(axis=0), 1e-12)
    left, values, directions = np.linalg.svd(centered, full_matrices=False)
    chosen = slice(0, dimensions)
    weights = directions[chosen]
    signs = np.sign(weights[np.arange(len(weights)), np.abs(weights).argmax(axis=1)])
    total = max(float((values**2).sum()), 1e-300)
    return left[:, chosen] * values[chosen] * signs, (values**2 / total)[chosen]


def _numbered(classes: Sequence[str]) -> tuple[np.ndarray, int]:
    names, numbers = np.unique(np.asarray(classes, dtype=str), return_inverse=True)
    return numbers, len(names)
