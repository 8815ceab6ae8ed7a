"""Comparison of models on the same clips, with significance."""

import os
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace

import numpy as np
import pandas as pd
import scipy

from barn_owl.errors import TableError
from barn_owl.evaluate.evaluation import Evaluation
from barn_owl.evaluate.intervals import draw, draws_inside, interval
from barn_owl.evaluate.mistakes import PLACE
from barn_owl.evaluate.prediction_arrays import PredictionArrays
from barn_owl.evaluate.scores import ROUNDS, observed, scores_of

SHOWN = ("accuracy", "exact", "balanced_accuracy", "macro_f1", "roc_area", "log_loss", "brier")
LEVEL = 0.05
"""Chance of calling equal runs different, as is usual."""


_Scores = dict[str, tuple[dict[str, np.ndarray], dict[str, np.ndarray]]]
"""Of each model, scores of all labels and by label; see `scores_of`."""


@dataclass(frozen=True, kw_only=True)
class Comparison:
    """Comparison of models on the same clips, against the first of them.

    Attributes
    ----------
    scores : pd.DataFrame
        Value and interval of each score, by model.
    pairs : pd.DataFrame
        For each further model: difference in balanced accuracy to the first with its 95 % interval, clips that only
        the first or only the second classifies correctly, and the p-value of McNemar's exact test.
    by_label : pd.DataFrame
        Recall of each label, a column a model.
    changes : pd.DataFrame
        For each label of each further model: difference of its recall to the first with the 95 % interval.
    clips : int
        Common to all.
    skipped : dict[str, int]
        Clips of each model that not all of them judged.

    Examples
    --------
    >>> runs = {name: barn_owl.open_run(name).evaluate() for name in ("first", "second")}
    >>> barn_owl.evaluate.compare(runs).clips
    12
    """

    scores: pd.DataFrame
    pairs: pd.DataFrame
    by_label: pd.DataFrame
    changes: pd.DataFrame
    clips: int
    skipped: dict[str, int]

    @property
    def words(self) -> list[str]:
        """Differences in words, a sentence per pair."""
        sentences = []
        first = str(self.scores.index[0])
        for name, row in self.pairs.iterrows():
            # With a single group there is no interval; the paired test remains.
            alone = np.isnan(row["low"])
            within = row["p"] > LEVEL if alone else row["low"] <= 0 <= row["high"]
            span = "" if alone else f" ({row['low']:+.3f} to {row['high']:+.3f})"
            verdict = "within noise" if within else "better" if row["difference"] > 0 else "worse"
            only = f"only {name} has right: {row['only_it']:.0f}, only {first}: {row['only_first']:.0f}"
            sentences.append(
                f"{name} against {first}: balanced accuracy {row['difference']:+.3f}{span}, {verdict}. "
                f"Clips that {only} ({p_words(row['p'])})."
            )
            if within and not alone and row["p"] <= LEVEL:
                sentences.append(
                    "Clip by clip that is more than chance, but not in all groups: the interval is over groups, and "
                    "other groups may turn it round."
                )
        return sentences

    def _repr_html_(self) -> str:
        return str(self.scores.round(3).to_html()) + str(self.pairs.round(3).to_html())


def compare(evaluations: Mapping[str, Evaluation], *, rounds: int = ROUNDS, seed: int = 0) -> Comparison:
    """Compare models by name on the clips that all of them have.

    Each bootstrap round draws the same groups for both models of a pair, so that the difficulty of clips cancels.
    McNemar's exact test (Psychometrika 12, 1947) tests whether the clips that only one model classifies correctly are
    equally likely to favor either.

    Parameters
    ----------
    evaluations : Mapping[str, Evaluation]
        Evaluations by the name of their run; the first is the reference.
    rounds : int
        Bootstrap rounds.
    seed : int
        Seed of all random choices.

    Raises
    ------
    TableError
        With fewer than two models, without common clips, or when a clip has different labels (the clip is named).

    Examples
    --------
    >>> runs = {name: barn_owl.open_run(name).evaluate() for name in ("first", "second")}
    >>> comparison = barn_owl.evaluate.compare(runs)
    >>> comparison.clips, comparison.skipped
    (12, {})
    """
    if len(evaluations) < 2:
        raise TableError("two runs or more are needed for a comparison")
    kept, skipped = _common(evaluations)
    names = list(kept)
    units, drawn = draw(kept[names[0]].groups, rounds, np.random.default_rng(seed))
    samples = {name: scores_of(replace(answers, groups=units), drawn) for name, answers in kept.items()}
    once = {name: observed(answers) for name, answers in kept.items()}
    rows = []
    for name in names:
        row: dict[str, float] = {}
        for score in (score for score in SHOWN if score in once[name][0]):
            low, high = _ends(samples[name][0][score], kept[name])
            row |= {score: once[name][0][score][0], f"{score}_low": low, f"{score}_high": high}
        rows.append(row)
    pairs = [_pair(kept, samples, once, names[0], name) for name in names[1:]]
    labels = sorted({label for answers in kept.values() for label in answers.labels})
    recall = {
        name: pd.Series(once[name][1]["recall"][:, 0], index=kept[name].labels).reindex(labels) for name in names
    }
    return Comparison(
        scores=pd.DataFrame(rows, index=pd.Index(names, name="run")),
        pairs=pd.DataFrame(pairs, index=pd.Index(names[1:], name="run")),
        by_label=pd.DataFrame(recall).rename_axis("label"),
        changes=pd.DataFrame(
            [row for name in names[1:] for row in _changes(kept, samples, once, names[0], name)],
            columns=["run", "label", "change", "low", "high"],
        ),
        clips=len(kept[names[0]]),
        skipped=skipped,
    )


def p_words(p: float) -> str:
    """Return a p-value as text, with tiny values as an upper bound."""
    return "p < 0.001" if p < 0.001 else f"p = {p:.2g}"


def _ends(values: np.ndarray, answers: PredictionArrays) -> tuple[float, float]:
    groups = answers.group_count
    if groups < 2:
        return float("nan"), float("nan")
    low, high = interval(values, groups, inside=draws_inside(groups, len(answers)))
    return float(low), float(high)


def _pair(
    kept: dict[str, PredictionArrays], samples: _Scores, once: _Scores, first: str, name: str
) -> dict[str, float]:
    differences = samples[name][0]["balanced_accuracy"] - samples[first][0]["balanced_accuracy"]
    low, high = _ends(differences, kept[first])
    right, other = kept[first].right, kept[name].right
    only_first, only_it = int((right & ~other).sum()), int((other & ~right).sum())
    p = float(scipy.stats.binomtest(only_it, only_first + only_it).pvalue) if only_first + only_it else 1.0
    difference = once[name][0]["balanced_accuracy"][0] - once[first][0]["balanced_accuracy"][0]
    return {
        "difference": float(difference), "low": low, "high": high,
        "only_first": only_first, "only_it": only_it, "p": p,
    }  # fmt: skip


def _changes(
    kept: dict[str, PredictionArrays], samples: _Scores, once: _Scores, first: str, name: str
) -> Iterator[tuple[str, str, float, float, float]]:
    """How far the recall of each label that both know is from the first one's, with its interval."""
    for own, label in enumerate(kept[name].labels):
        if label in kept[first].labels:
            other = kept[first].labels.index(label)
            drawn = samples[name][1]["recall"][own] - samples[first][1]["recall"][other]
            known = drawn[np.isfinite(drawn)]  # in some rounds no clip of the label is drawn
            low, high = _ends(known, kept[first]) if len(known) else (np.nan, np.nan)
            change = once[name][1]["recall"][own, 0] - once[first][1]["recall"][other, 0]
            yield name, label, float(change), low, high


def _common(evaluations: Mapping[str, Evaluation]) -> tuple[dict[str, PredictionArrays], dict[str, int]]:
    """Predictions of the clips that all runs have, in the same order."""
    places = {}
    for name, evaluation in evaluations.items():
        table = evaluation.predictions
        # Runs in different folders may name the same file by different ways to it.
        located = table[PLACE].assign(file=[os.path.abspath(file) for file in table["file"]])  # noqa: PTH100 - Path keeps ".."
        keys = [
            tuple("" if pd.isna(value) else str(value) for value in row)
            for row in located.itertuples(index=False, name=None)
        ]
        places[name] = dict(zip(keys, range(len(keys)), strict=True))
    first = next(iter(places))
    shared = [key for key in places[first] if all(key in other for other in places.values())]
    if not shared:
        raise TableError("the runs have no clip in common; judge the runs on one table")
    kept: dict[str, PredictionArrays] = {}
    for name, evaluation in evaluations.items():
        rows = np.array([places[name][key] for key in shared])
        own_answers = evaluation.arrays.take(rows)
        # Numbered alike, so that bootstrap rounds draw the same groups for each.
        kept[name] = own_answers if name == first else replace(own_answers, groups=kept[first].groups)
        own, others = evaluation.predictions["label"].iloc[rows], evaluations[first].predictions["label"]
        others = others.iloc[[places[first][key] for key in shared]]
        differ = np.flatnonzero(own.to_numpy() != others.to_numpy())
        if len(differ):
            raise TableError(
                f"{shared[differ[0]][0]} is labeled {own.iloc[differ[0]]!r} in {name} and "
                f"{others.iloc[differ[0]]!r} in {first}; judge the runs on one table"
            )
    return kept, {name: len(found) - len(shared) for name, found in places.items() if len(found) > len(shared)}
