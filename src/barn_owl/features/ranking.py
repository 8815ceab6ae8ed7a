"""Ranking of features: which separate the labels, which are redundant, which depend on the recorder.

All take one row a clip: `x`, shape ``(clips, features)``, and a label or group for each.
"""

from collections.abc import Sequence

import numpy as np
import pandas as pd

from barn_owl.errors import TableError

BINS = 8
SAME = 0.95
"""Features whose correlation is beyond this, either way, say the same."""


def f_statistic(x: np.ndarray, classes: Sequence[str]) -> np.ndarray:
    """One-way F statistic of each feature; infinite for perfect separation, 0 for a constant feature.

    ``F = (between / (k - 1)) / (within / (n - k))``, sums of squares over n clips in k classes.
    Source: R. A. Fisher, Statistical Methods for Research Workers, 1925.
    """
    numbers, k = _numbered(classes)
    counts = np.bincount(numbers, minlength=k)[:, None]
    x = x.astype(np.float64)
    means = np.zeros((k, x.shape[1]))
    np.add.at(means, numbers, x)
    means /= counts
    between = (counts * (means - x.mean(axis=0)) ** 2).sum(axis=0) / max(k - 1, 1)
    within = ((x - means[numbers]) ** 2).sum(axis=0) / max(len(x) - k, 1)
    # What differs by rounding alone is constant.
    constant = np.ptp(x, axis=0) <= 1e-12 * np.abs(x).max(axis=0, initial=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(constant, 0.0, between / within)


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
    """Area under the ROC curve of each feature for each class against all others, ``(features, classes)``.

    0.5 says nothing; 1 is always higher for the class, 0 always lower. By the Mann-Whitney statistic, ties
    counted half. Also returns the classes in the order of the columns.
    """
    numbers, k = _numbered(classes)
    names = sorted(set(classes))
    ranks = pd.DataFrame(x).rank().to_numpy()
    areas = np.empty((x.shape[1], k))
    for number in range(k):
        own = numbers == number
        count = int(own.sum())
        others = len(x) - count
        areas[:, number] = (ranks[own].sum(axis=0) - count * (count + 1) / 2) / max(count * others, 1)
    return areas, names


def rank_features(
    x: np.ndarray, columns: Sequence[str], labels: Sequence[str], groups: Sequence[str] | None = None
) -> pd.DataFrame:
    """Rank features by how well each separates the labels, best first.

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
    if groups is not None and len(set(groups)) > 1:
        table["group_f"] = f_statistic(x, groups)
        table["follows_group"] = table["group_f"] > table["f"]
    order = table["f"].sort_values(ascending=False, kind="stable").index.to_numpy()
    table["same_as"] = pd.Series(_same_as(x[:, order], [str(columns[n]) for n in order]), index=order)
    return table.loc[order].reset_index(drop=True)


def _same_as(x: np.ndarray, columns: list[str]) -> list[str]:
    """For each feature, the first one before it that it goes along with; blank for none."""
    centered = x.astype(np.float64) - x.mean(axis=0, dtype=np.float64)
    lengths = np.sqrt((centered**2).sum(axis=0))
    correlation = np.abs((centered / np.maximum(lengths, 1e-300)).T @ (centered / np.maximum(lengths, 1e-300)))
    earlier = np.tril(correlation, -1) > SAME
    return [columns[int(row.argmax())] if row.any() else "" for row in earlier]


def principal_map(x: np.ndarray, dimensions: int = 2) -> tuple[np.ndarray, np.ndarray]:
    """Coordinates of all clips on the first two principal components of the standardized features.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        ``(clips, dimensions)`` and the share of the variance along each. By singular value decomposition;
        each direction's sign is such that its largest weight is positive. Source: K. Pearson, Phil. Mag. 2,
        1901.

    Examples
    --------
    >>> places, shares = barn_owl.features.principal_map(np.random.default_rng(0).random((20, 5)))
    >>> places.shape, shares.shape
    ((20, 2), (2,))
    """
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
