"""All that a run shows for itself: tables, figures and the page, written beside its model."""

import functools
from collections.abc import Callable
from pathlib import Path
from typing import ParamSpec

from barn_owl import runs
from barn_owl.clips import read_corrections, write_clip_table
from barn_owl.evaluate import Evaluation, Scores
from barn_owl.files import is_file, write_json
from barn_owl.runs import Run
from barn_owl.runs.training import write_table
from barn_owl.show.confusion import confusion_figure
from barn_owl.show.judging import calibration_figure, labels_figure, thresholds_figure
from barn_owl.show.learning import curves_figure
from barn_owl.show.report import write_report
from barn_owl.show.style import save_figure
from barn_owl.show.tagging import rehearsal_figure

P = ParamSpec("P")


def write_results(run: Run) -> None:
    """Write what a run shows of its training, its rehearsal and its test, where it has them, to its folder.

    >>> barn_owl.write_results(barn_owl.open_run("first"))
    """
    figures = run.folder / "figures"
    if is_file(run.folder / "curves.csv"):
        save_figure(curves_figure(run), figures / "curves.png")
    if run.expectation is not None:
        save_figure(rehearsal_figure(run), figures / "rehearsal.png")
    if run.tested is not None:
        write_evaluation(run, run.tested, run.folder)


def write_evaluation(run: Run, evaluation: Evaluation, folder: Path) -> None:
    """Write tables, figures and the page of an evaluation to `folder`.

    Scores and predictions of the run itself are there already. Corrections that somebody filled in stay; where no
    label is doubted there is no table of them.

    >>> from pathlib import Path
    >>> run = barn_owl.open_run("first")
    >>> barn_owl.write_evaluation(run, run.evaluate(side="validation"), Path("judged"))
    """
    figures = folder / "figures"
    if isinstance(evaluation.scores, Scores):  # where labels overlap, none is taken for another
        write_table(evaluation.scores.confusion, folder / "confusion.csv", index=True)
        save_figure(confusion_figure(evaluation.scores), figures / "confusion.png")
    if not (folder / "model.safetensors").exists():
        write_json(folder / "scores.json", evaluation.as_dict())
        write_clip_table(evaluation.predictions, folder / "predictions.csv", force=True)
    write_table(evaluation.measured.by_label, folder / "labels.csv", index=True)
    write_clip_table(evaluation.mistakes, folder / "mistakes.csv", force=True)
    _write_corrections(evaluation if evaluation.rows is None else None, run, folder / "corrections.csv")
    save_figure(labels_figure(evaluation), figures / "labels.png")
    save_figure(thresholds_figure(evaluation), figures / "thresholds.png")
    save_figure(calibration_figure(evaluation), figures / "calibration.png")
    write_report(run, evaluation, folder / "report.html")


def _write_corrections(evaluation: Evaluation | None, run: Run, path: Path) -> None:
    if is_file(path) and len(read_corrections(path)):
        return
    doubted = run.likely_wrong_labels if evaluation is None else evaluation.likely_wrong_labels
    path.unlink(missing_ok=True)
    if len(doubted):
        write_clip_table(doubted, path)


def _with_results(training: Callable[P, Run]) -> Callable[P, Run]:
    @functools.wraps(training)
    def train(*arguments: P.args, **options: P.kwargs) -> Run:
        run = training(*arguments, **options)
        write_results(run)
        return run

    return train


train = _with_results(runs.train)
