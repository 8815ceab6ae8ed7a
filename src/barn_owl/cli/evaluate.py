"""``barn-owl evaluate``."""

from pathlib import Path

import click

from barn_owl.cli.common import Voice, json_option, quiet_option, read_clips, workers_option
from barn_owl.clips.table import SIDES, write_clip_table
from barn_owl.evaluate import OverlapScores, Scores
from barn_owl.files import whole_file, write_json
from barn_owl.runs import Evaluation, open_run
from barn_owl.show import confusion_figure, save_figure

SHOWN_CONFUSIONS = 3


@click.command("evaluate", short_help="Say how well a run does.")
@click.argument("run", type=click.Path(path_type=Path))
@click.argument("clips", required=False)
@click.option(
    "--split",
    "side",
    type=click.Choice(SIDES),
    default="test",
    show_default=True,
    help="Side of the run's own split.",
)
@workers_option
@json_option
@quiet_option
def command(run: Path, clips: str | None, side: str, workers: int, as_json: bool, quiet: bool) -> None:
    """Say how well the model of RUN does on one side of its own split, or on all labelled rows of CLIPS.

    \b
    barn-owl evaluate first
    barn-owl evaluate first other-clips.csv
    """
    voice, opened = Voice(quiet=quiet, as_json=as_json), open_run(run)
    if clips is None:
        evaluation, name = opened.evaluate(side=side), side
    else:
        name = "stdin" if clips == "-" else Path(clips).stem
        with voice.progress("reading clips") as progress:
            evaluation = opened.evaluate(read_clips(clips), side=name, workers=workers, progress=progress)
    for reason in evaluation.skipped.values():
        voice.warn(f"left out: {reason}")
    folder = run / "evaluations" / name if clips or side != "test" else run
    write_evaluation(evaluation, folder)
    show_scores(voice, evaluation)
    if isinstance(evaluation.scores, Scores):
        voice.say(f"\nWrote confusion.csv and figures/confusion.png to {folder}.")
    voice.result({"side": name, **evaluation.scores.as_dict()})


def write_evaluation(evaluation: Evaluation, folder: Path) -> None:
    """Write the confusion table and figure to `folder`, and, unless it is the run itself, scores and predictions."""
    if isinstance(evaluation.scores, Scores):  # where labels overlap, none is taken for another
        with whole_file(folder / "confusion.csv") as beside:
            evaluation.scores.confusion.to_csv(beside, index_label="label", lineterminator="\r\n")
        save_figure(confusion_figure(evaluation.scores), folder / "figures" / "confusion.png")
    if not (folder / "model.safetensors").exists():
        write_json(folder / "scores.json", evaluation.scores.as_dict())
        write_clip_table(evaluation.predictions, folder / "predictions.csv")


def show_scores(voice: Voice, evaluation: Evaluation) -> None:
    """Show the scores next to the baseline, label by label, with the commonest confusions in words."""
    scores = evaluation.scores
    voice.say(f"\n{evaluation.side}: {scores.clips} clips")
    if isinstance(scores, OverlapScores):
        voice.say(
            f"macro F1 {scores.macro_f1:.2f}, balanced accuracy of the labels {scores.balanced_accuracy:.2f} "
            f"(0.50 by guessing); {scores.exact:.0%} of the clips have all labels right"
        )
        voice.table(scores.by_label.rename_axis("label").reset_index())
        return
    voice.say(
        f"balanced accuracy {scores.balanced_accuracy:.2f}, accuracy {scores.accuracy:.2f}; "
        f"always saying {scores.majority!r} would give {scores.majority_balanced_accuracy:.2f} "
        f"and {scores.majority_accuracy:.2f}"
    )
    voice.table(scores.by_label.rename_axis("label").reset_index())
    for row in scores.confusions.head(SHOWN_CONFUSIONS).itertuples():
        voice.say(f"{row.count} of {row.label} taken for {row.taken_for} ({row.share:.0%})")
