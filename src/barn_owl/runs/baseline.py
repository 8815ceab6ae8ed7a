"""A baseline for every run: logistic regression on summary statistics of whole clips."""

import numpy as np

from barn_owl.classifiers.logistic import PENALTIES, Linear, fit_logistic
from barn_owl.features import pool
from barn_owl.learn.fitted import evaluate_logits
from barn_owl.runs.data import RunData

STATISTICS = ("mean", "deviation", "maximum", "change")


def clip_statistics_baseline(data: RunData, *, multilabel: bool) -> dict[str, float]:
    """Balanced accuracy of a logistic regression on the mean, deviation, maximum and change of each clip's frames.

    Fitted on the training split; the penalty with the lowest loss on the validation split is kept. Returns the
    balanced accuracy by split, for the splits that have clips. A classifier that does not beat it has learned
    nothing from the order of sounds in time.
    """
    splits = data.table["split"].to_numpy()
    rows = np.stack([pool(frames, STATISTICS) for frames in data.frames.parts]).astype(np.float64)
    rows = np.nan_to_num(rows)
    training = splits == "train"
    spread = rows[training].std(axis=0)
    rows = (rows - rows[training].mean(axis=0)) / np.where(spread > 1e-6, spread, 1)
    targets = data.targets(multilabel=multilabel)
    # Labels are weighted equally, as in balanced accuracy.
    counts = targets[training].sum(axis=0)
    weights = (targets[training] / np.maximum(counts, 1)).max(axis=1)
    chosen = splits == ("validation" if (splits == "validation").any() else "train")
    fitted, coefficients = [], None
    for penalty in PENALTIES:
        coefficients, _ = fit_logistic(rows[training], targets[training], weights, penalty, start=coefficients)
        fitted.append(Linear.of(coefficients))

    def loss(classifier: Linear) -> float:
        return evaluate_logits(classifier.logits(rows[chosen]), targets[chosen], multilabel=multilabel)[0]

    best = min(fitted, key=loss)
    return {
        str(split): round(evaluate_logits(best.logits(rows[own]), targets[own], multilabel=multilabel)[1], 4)
        for split in np.unique(splits.astype(str))
        if (own := splits == split).any()
    }
