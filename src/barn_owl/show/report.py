"""The report of a run: performance, mistakes, and reasons for caution."""

import os
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from matplotlib.figure import Figure

from barn_owl.clips.any_table import COLUMNS
from barn_owl.errors import BarnOwlError, ModelError, TableError
from barn_owl.evaluate import Evaluation
from barn_owl.evaluate.prediction_arrays import SCORE
from barn_owl.files import real_path
from barn_owl.runs import Run
from barn_owl.show.evaluation import calibration_figure, labels_figure, thresholds_figure
from barn_owl.show.page import Shelf, drawing, rows, write_page
from barn_owl.show.style import fix_layout
from barn_owl.show.training import curves_figure

BUDGET = 9_000_000
"""Bytes of sounds and pictures on a page: with all else it stays under 15 MB."""
MISTAKES, DOUBTED, WITH_LIKES, BEST, CONFUSIONS, BREAKDOWNS = 60, 30, 20, 3, 3, 8
NUMBERS = {
    "balanced_accuracy": "balanced accuracy", "accuracy": "accuracy", "exact": "all labels right",
    "macro_f1": "macro F1", "roc_area": "ROC area", "log_loss": "log loss",
}  # fmt: skip
SOUND_COLUMNS = {
    "duration_s": "length, s",
    "loud_frames_db": "mean band level of the loudest frames, dB",
    "above_noise_db": "level above the noise, dB",
}
LABEL_COLUMNS = [
    ("label", "label"), ("count", "clips"), ("recall", "recall"), ("recall_low", "from"), ("recall_high", "to"),
    ("precision", "precision"), ("f1", "F1"), ("roc_area", "ROC area"), ("average_precision", "average precision"),
    ("equal_error_rate", "equal error rate"), ("predicted", "predicted"),
]  # fmt: skip
OVERALL_COLUMNS = [
    ("score", "score"), ("value", "value"), ("low", "from"), ("high", "to"), ("majority", "majority"),
    ("chance", "guessing"),
]  # fmt: skip


def write_report(
    run: Run,
    evaluation: Evaluation,
    path: str | Path,
    *,
    budget: int = BUDGET,
    figures: Mapping[str, Figure] | None = None,
    force: bool = False,
) -> None:
    """Write the report of an evaluation, a self-contained HTML file with sounds.

    Parameters
    ----------
    run : Run
        Run.
    evaluation : Evaluation
        Evaluation of a run.
    path : str | Path
        File: HTML.
    budget : int
        Bytes of sounds and pictures on it; mistakes come first. Clips whose file is gone are without sound.
    figures : Mapping[str, Figure] | None
        Figures of `report_figures`, if they were drawn already.
    force : bool
        Whether an existing file is overwritten.

    Raises
    ------
    OutputError
        If the output cannot be written.

    Examples
    --------
    >>> run = barn_owl.open_run("first")
    >>> barn_owl.show.write_report(run, run.evaluate(), "report.html")
    """
    shelf = Shelf(run.model.front_end, budget)
    clips = _Clips(run, evaluation, shelf)
    mistakes = [clips.mistake(int(str(row))) for row in evaluation.mistakes.index[:MISTAKES]]
    doubted = _doubted(run, clips)
    for number in range(len(evaluation.predictions)):
        clips.listed[number]["sound"] = shelf.sound(evaluation.predictions.iloc[number])
    measured = evaluation.scores
    write_page(
        path,
        "report.html",
        force=force,
        title=f"{real_path(run.folder).name}: {evaluation.split} split"
        if evaluation.rows is not None
        else f"{real_path(run.folder).name} on {evaluation.split}",
        summary=evaluation.summary,
        caveats=evaluation.caveats + run.caveats,
        numbers=_numbers(evaluation),
        groups=measured.groups,
        by_label=rows(measured.by_label),
        label_columns=LABEL_COLUMNS,
        overall=rows(evaluation.baselines),
        overall_columns=OVERALL_COLUMNS,
        confusion=_confusion(evaluation),
        confused=_confused(evaluation),
        mistakes=mistakes,
        wrong=len(evaluation.mistakes),
        judged=len(evaluation.predictions),
        doubted=doubted,
        splits=rows(run.splits) if evaluation.rows is not None else [],
        learning=_learning(run),
        calibration_words=calibration_words(evaluation, run),
        breakdowns=_breakdowns(evaluation),
        figures={name: drawing(one) for name, one in (figures or report_figures(run, evaluation)).items()},
        provenance=[(name, value) for name, value in run.provenance.items() if not isinstance(value, dict)],
        plan=(run.folder / "plan.toml").read_text(encoding="utf-8"),
        data={
            "sounds": shelf.sounds,
            "labels": evaluation.labels,
            "clips": list(clips.listed.values()),
            "use": "Use them: barn-owl gather CLIPS --corrections corrections.csv -o corrected.csv",
        },
    )  # fmt: skip


class _Clips:
    """Clips of the page; clips that were not evaluated are numbered after the rest."""

    def __init__(self, run: Run, evaluation: Evaluation, shelf: Shelf) -> None:
        self.run, self.evaluation, self.shelf = run, evaluation, shelf
        self.listed = {number: self.line(number, row) for number, row in evaluation.predictions.iterrows()}
        self.doubted = set(evaluation.likely_wrong_labels.index)
        self.with_likes = set(evaluation.mistakes.index[:WITH_LIKES])

    def line(self, number: Any, row: pd.Series) -> dict[str, Any]:
        """Return the facts about a clip for the script."""
        return clip_line(number, row, self.run.folder) | {"label": str(row["label"])}

    def mistake(self, number: int) -> dict[str, Any]:
        """Return the facts about a mistake for the page."""
        row, run = self.evaluation.predictions.iloc[number], self.run
        shown = self.listed[number] | {
            "best": best_scores(row, self.evaluation.labels),
            "picture": self.shelf.picture(row),
            "doubted": number in self.doubted,
            "like": [],
        }
        shown["sound"] = self.shelf.sound(row)
        if self.evaluation.rows is not None and number in self.with_likes:
            for label in dict.fromkeys([row["label"], row["predicted"]]):
                shown["like"] += self._most_similar(int(self.evaluation.rows[number]), str(label), run)
        return shown

    def _most_similar(self, number: int, label: str, run: Run) -> list[dict[str, Any]]:
        try:
            nearest = run.nearest_training_clips(number, label, 1)
        except ModelError:  # a run of an older version, or an ensemble of folds: documented, and left out
            return []
        return [
            {"label": label, "name": clip_name(row), "sound": self.shelf.sound(row)} for _, row in nearest.iterrows()
        ]


def clip_name(row: pd.Series) -> str:
    """Name a clip for people: its file, and where in it."""
    name = "/".join(Path(str(row["file"])).parts[-2:])
    return name if pd.isna(row["start_s"]) else f"{name} from {row['start_s']:g} s"


def clip_line(number: Any, row: pd.Series, folder: Path) -> dict[str, Any]:
    """Facts about a clip for the script of a page; its file is relative to `folder`."""
    return {
        "id": int(number),
        "name": clip_name(row),
        "file": Path(os.path.relpath(row["file"], folder)).as_posix(),
        **{name: "" if pd.isna(row[name]) else float(row[name]) for name in ("start_s", "end_s")},
        "label": "",
        "predicted": "" if pd.isna(row["predicted"]) else str(row["predicted"]),
        "score": float(row["score"]),
        "group": "" if pd.isna(row.get("group")) else str(row.get("group")),
        "sound": "",
    }


def best_scores(row: pd.Series, labels: list[str]) -> list[tuple[str, float]]:
    """The labels with the highest scores of a clip."""
    scores = sorted(((label, float(row[f"{SCORE}{label}"])) for label in labels), key=lambda pair: -pair[1])
    return scores[:BEST]


def _doubted(run: Run, clips: _Clips) -> list[dict[str, Any]]:
    own, shown = clips.evaluation.rows is None, []
    table = clips.evaluation.likely_wrong_labels if own else run.likely_wrong_labels
    predictions = clips.evaluation.predictions if own else run.predictions
    judged = {(line["file"], line["start_s"], line["end_s"]): line for line in clips.listed.values()}
    for number, row in table.head(DOUBTED).iterrows():
        whole = predictions.loc[number]
        line = clips.line(len(clips.listed), whole)
        place = line["file"], line["start_s"], line["end_s"]
        if place in judged:
            line = judged[place]
        else:
            clips.listed[line["id"]] = line
        line["sound"] = clips.shelf.sound(whole)
        shown.append(line | {"suggested": row["suggested"], "score": row["score"], "own_score": row["own_score"]})
    return shown


def _confusion(evaluation: Evaluation) -> dict[str, Any] | None:
    if evaluation.multilabel:
        return None
    table = evaluation.scores.confusion
    place = {label: number for number, label in enumerate(evaluation.labels)}
    order = [label for label in evaluation.order if table.loc[label].any() or table[label].any()]
    shown = []
    for label in order:
        total = max(int(table.loc[label].sum()), 1)
        cells = [
            {"label": other, "number": place[other], "count": int(count), "share": count / total}
            for other, count in table.loc[label, order].items()
        ]  # fmt: skip
        shown.append({"label": label, "number": place[label], "cells": cells})
    return {"labels": order, "rows": shown}


def _confused(evaluation: Evaluation) -> list[str]:
    if evaluation.multilabel:
        return []
    return [
        f"{row.count} of {round(row.count / row.share)} {row.label} clips classified as {row.confused_with}."
        for row in evaluation.scores.confusions.head(CONFUSIONS).itertuples()
    ]


def calibration_words(evaluation: Evaluation, run: Run) -> str:
    """Describe the calibration of scores, and the share of clips that can be automated."""
    words = (
        f"Scores are {evaluation.calibration_error:.2f} off on average (the model divides its logits by "
        f"{run.model.temperature:.2f}, fitted on the validation split). To have 95 % of the answers right, "
        f"{evaluation.coverage_at(0.95):.0%} of the clips can be answered, the others left undecided."
    )
    if evaluation.thresholds and not evaluation.multilabel:
        sure = evaluation.decided
        right = evaluation.arrays.right[sure].mean() if sure.any() else 0.0
        words += f" With the thresholds of the model {sure.mean():.0%} are answered, {right:.0%} of those rightly."
    return words


def _breakdowns(evaluation: Evaluation) -> list[dict[str, Any]]:
    """Scores by group, by level, and by further columns of the table that can be cut into parts."""
    table = evaluation.predictions
    scores = (name for name in table if name.startswith(SCORE))
    own = {*COLUMNS, "predicted", "split", "score", "copy_of", *SOUND_COLUMNS, *scores}
    shown = []
    for name in ["group", *SOUND_COLUMNS, *(name for name in table if name not in own)][:BREAKDOWNS]:
        if name not in table:
            continue
        try:
            part = evaluation.by(name)
        except TableError:  # blank, or too many different words to be cut by
            continue
        if len(part) > 1:
            shown.append({"name": name, "shown": SOUND_COLUMNS.get(name, name), "rows": rows(part)})
    return shown


def _learning(run: Run) -> list[str]:
    try:
        return run.learning.words
    except BarnOwlError:  # an ensemble has no curves
        return []


def report_figures(run: Run, evaluation: Evaluation) -> dict[str, Figure]:
    """Return the figures of an evaluation, by name; the training figure only for runs with curves."""
    figures = {
        "labels": labels_figure(evaluation),
        "thresholds": thresholds_figure(evaluation),
        "calibration": calibration_figure(evaluation),
    }
    with suppress(BarnOwlError):  # an ensemble has no curves
        figures["curves"] = curves_figure(run)
    return {name: fix_layout(figure) for name, figure in figures.items()}


def _numbers(evaluation: Evaluation) -> list[dict[str, Any]]:
    """The scores that everybody asks for first."""
    table = evaluation.baselines.astype(object).where(np.isfinite(evaluation.baselines), None)
    return [{"name": NUMBERS[row["score"]], **row} for row in rows(table) if row["score"] in NUMBERS]
