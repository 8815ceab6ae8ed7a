"""Scores by group, by column, and by duration, level and clarity of clips; order of labels for confusion matrices."""

import itertools

import numpy as np
import pandas as pd
import scipy

from barn_owl.errors import TableError
from barn_owl.evaluate.prediction_arrays import PredictionArrays
from barn_owl.evaluate.scores import Scores

PARTS = 4
"""Parts that a column of numbers is divided into, with a quarter of the clips each."""
MAX_CATEGORIES = 30
"""Largest number of different texts in a column; with more, they are names or remarks rather than categories."""
ROUNDS = 200
"""Bootstrap rounds of each part: fewer than for all clips, as there are many parts."""


def score_by(answers: PredictionArrays, column: pd.Series) -> pd.DataFrame:
    """Scores of the clips of each value of a column; numbers are cut into four parts with as many clips each.

    Returns, by value: ``clips``, ``accuracy`` with the ends of its 95 % interval, ``balanced_accuracy``. Raises
    TableError when nothing is in the column, or too many different words.
    """
    if column.dropna().empty:
        raise TableError(f"the column {column.name!r} is blank for all clips")
    categories = _categories(column)
    rows = []
    for category in dict.fromkeys(categories.cat.categories):
        part = np.flatnonzero((categories == category).to_numpy())
        if len(part):
            overall = Scores(arrays=answers.take(part), rounds=ROUNDS, curves=False).overall
            accuracy = overall.iloc[0]
            rows.append((category, len(part), *accuracy, overall.loc["balanced_accuracy", "value"]))
    names = [column.name, "clips", "accuracy", "low", "high", "balanced_accuracy"]
    return pd.DataFrame(rows, columns=names).set_index(str(column.name))


def _categories(column: pd.Series) -> "pd.Series":
    """Return the column as categories: words as they are, numbers in parts named by their ends."""
    if pd.api.types.is_numeric_dtype(column) and column.nunique() > PARTS:
        ends = np.unique(np.nanquantile(column, np.linspace(0, 1, PARTS + 1)))
        names = [f"{low:.4g} to {high:.4g}" for low, high in itertools.pairwise(ends)]
        return pd.cut(column, ends, labels=names, include_lowest=True, ordered=False)
    texts = column.astype(object).where(column.notna(), "").astype(str)
    if texts.nunique() > MAX_CATEGORIES:
        raise TableError(
            f"the column {column.name!r} holds {texts.nunique()} different words; at most {MAX_CATEGORIES}"
        )
    return texts.astype("category")


def confusable_order(confusion: pd.DataFrame) -> list[str]:
    """Order labels so that frequently confused labels are adjacent.

    Average linkage on the share confused, leaves ordered as Bar-Joseph et al., Bioinformatics 2001.
    """
    counts = confusion.to_numpy(dtype=np.float64)
    labels = [str(label) for label in confusion.index]
    if len(labels) < 3:
        return labels
    share = counts / np.maximum(counts.sum(axis=1, keepdims=True), 1)
    alike = (share + share.T) / 2
    distance = 1 - alike
    np.fill_diagonal(distance, 0)
    condensed = scipy.spatial.distance.squareform(distance, checks=False)
    tree = scipy.cluster.hierarchy.optimal_leaf_ordering(
        scipy.cluster.hierarchy.linkage(condensed, "average"), condensed
    )
    return [labels[number] for number in scipy.cluster.hierarchy.leaves_list(tree)]
