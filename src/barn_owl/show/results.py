"""Tables, figures and report of a run."""

from pathlib import Path

from matplotlib.figure import Figure

from barn_owl.clips import read_corrections, write_clip_table
from barn_owl.evaluate import Evaluation
from barn_owl.files import is_file, write_json
from barn_owl.runs import Run
from barn_owl.show.confusion import confusion_figure
from barn_owl.show.report import report_figures, write_report
from barn_owl.show.style import save_figure
from barn_owl.show.tagging import rehearsal_figure
from barn_owl.show.training import curves_figure
from barn_owl.tables import write_table


def write_results(run: Run) -> None:
    """Write figures and tables of training, rehearsal and test to the folder of a run.

    Parameters
    ----------
    run : Run
        Run.

    Examples
    --------
    >>> barn_owl.show.write_results(barn_owl.open_run("first"))
    """
    folder = run.folder / "figures"
    if run.expectation is not None:
        save_figure(rehearsal_figure(run), folder / "rehearsal.png", force=True)
    figures = write_evaluation(run, run.tested, run.folder) if run.tested is not None else {}
    if is_file(run.folder / "curves.csv"):
        save_figure(figures.get("curves") or curves_figure(run), folder / "curves.png", force=True)


def write_evaluation(run: Run, evaluation: Evaluation, folder: Path) -> dict[str, Figure]:
    """Write tables, figures and the page of an evaluation to `folder`; return the figures of the page by name.

    Scores and predictions of the run itself are there already. Corrections that someone filled in stay; where no
    label is doubted, the table is missing.

    Parameters
    ----------
    run : Run
        Run.
    evaluation : Evaluation
        Evaluation of a run.
    folder : Path
        Folder to write to.

    Raises
    ------
    OutputError
        If the output cannot be written.

    Examples
    --------
    >>> from pathlib import Path
    >>> run = barn_owl.open_run("first")
    >>> figures = barn_owl.show.write_evaluation(run, run.evaluate(split="validation"), Path("judged"))
    >>> sorted(figures)
    ['calibration', 'curves', 'labels', 'thresholds']
    """
    if not evaluation.multilabel:
        write_table(evaluation.scores.confusion, folder / "confusion.csv", force=True, index="label")
        save_figure(confusion_figure(evaluation), folder / "figures" / "confusion.png", force=True)
    if not (folder / "model.safetensors").exists():
        write_json(folder / "scores.json", evaluation.as_dict())
        write_clip_table(evaluation.predictions, folder / "predictions.csv", force=True)
    write_table(evaluation.scores.by_label, folder / "labels.csv", force=True, index="label")
    write_clip_table(evaluation.mistakes, folder / "mistakes.csv", force=True)
    _write_corrections(evaluation if evaluation.rows is None else None, run, folder / "corrections.csv")
    figures = report_figures(run, evaluation)
    for name in ("labels", "thresholds", "calibration"):
        save_figure(figures[name], folder / "figures" / f"{name}.png", force=True)
    write_report(run, evaluation, folder / "report.html", figures=figures, force=True)
    return figures


def _write_corrections(evaluation: Evaluation | None, run: Run, path: Path) -> None:
    if is_file(path) and len(read_corrections(path)):
        return
    doubted = run.likely_wrong_labels if evaluation is None else evaluation.likely_wrong_labels
    path.unlink(missing_ok=True)
    if len(doubted):
        write_clip_table(doubted, path, force=True)
