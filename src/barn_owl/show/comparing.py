"""The comparison page."""

from collections.abc import Mapping
from pathlib import Path

import numpy as np
import pandas as pd

from barn_owl.evaluate import Evaluation
from barn_owl.evaluate.comparison import p_words
from barn_owl.runs.compare import RunComparison
from barn_owl.show.confusion import confusion_difference_figure
from barn_owl.show.evaluation import comparison_figure
from barn_owl.show.page import drawing, rows, write_page

LARGEST = 40
SCORE_NAMES = {"balanced_accuracy": "balanced accuracy", "macro_f1": "macro F1", "roc_area": "ROC area"}


def write_comparison_page(compared: RunComparison, path: str | Path, *, force: bool = False) -> None:
    """Write the comparison page: scores, paired tests, labels, plans, cost.

    Parameters
    ----------
    compared : RunComparison
        Result of `barn_owl.compare_runs`.
    path : str | Path
        The page.
    force : bool
        Whether an existing file is overwritten.

    Raises
    ------
    OutputError
        If the output cannot be written.

    Examples
    --------
    >>> barn_owl.show.write_comparison_page(barn_owl.compare_runs(["first", "second"]), "compared.html")
    """
    comparison = compared.comparison
    names = [str(name) for name in comparison.scores.index]
    measured = [str(name) for name in comparison.scores if not str(name).endswith(("_low", "_high"))]
    columns = [("run", "run"), *((name, SCORE_NAMES.get(name, name.replace("_", " "))) for name in measured)]
    scores = pd.DataFrame({name: _with_intervals(comparison.scores, name) for name in measured})
    write_page(
        path,
        "compare.html",
        force=force,
        title=f"{len(names)} runs on {comparison.clips} common clips",
        words=comparison.words,
        caveats=[
            f"{count} clips that {name} judged are not judged by all, and excluded"
            for name, count in comparison.skipped.items()
        ],
        figure=drawing(comparison_figure(comparison)),
        scores=rows(scores),
        score_columns=columns,
        first=names[0],
        pairs=rows(comparison.pairs.assign(p=comparison.pairs["p"].map(p_words))),
        by_label=rows(comparison.by_label),
        changes=rows(comparison.changes),
        label_columns=[("label", "label"), *((name, name) for name in names)],
        differences=_differences(compared.evaluations, names),
        plans=rows(compared.plans),
        plan_columns=[("key", "key"), *((name, name) for name in names)],
        costs=rows(compared.costs),
        data={"sounds": {}, "labels": [], "clips": [], "use": ""},
    )


def _with_intervals(scores: pd.DataFrame, name: str) -> pd.Series:
    """Return a score with its interval as text: three columns each would be wider than a screen."""
    ends = zip(scores[name], scores[f"{name}_low"], scores[f"{name}_high"], strict=True)
    texts = [f"{value:.2f}" + ("" if np.isnan(low) else f" ({low:.2f} to {high:.2f})") for value, low, high in ends]
    return pd.Series(texts, index=scores.index)


def _differences(evaluations: Mapping[str, Evaluation], names: list[str]) -> list[dict[str, str]]:
    """How each confusion differs from the first one's, where both have the same labels and not too many."""
    shown = []
    first = evaluations[names[0]]
    for name in names[1:]:
        own = evaluations[name]
        if first.multilabel or own.multilabel or len(first.labels) > LARGEST:
            continue
        if sorted(first.labels) == sorted(own.labels):
            figure = confusion_difference_figure(first, own, names=(names[0], name))
            shown.append(
                {"figure": drawing(figure), "words": f"Confusion of {name} less that of {names[0]}, in points"}
            )
    return shown
