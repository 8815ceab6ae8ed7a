"""``barn-owl train``."""

from pathlib import Path

import click
import pandas as pd

from barn_owl.classify import Plan, Progress, read_plan
from barn_owl.cli.common import (
    Voice,
    force_option,
    json_option,
    plan_option,
    quiet_option,
    read_clips,
    seed_option,
    workers_option,
)
from barn_owl.cli.evaluate import show_scores, write_evaluation
from barn_owl.runs import Run, train


@click.command("train", short_help="Train a classifier.")
@click.argument("clips")
@click.option("--run", "folder", type=click.Path(path_type=Path), required=True, help="Folder to write the run to.")
@click.option("--family", type=click.Choice(["tcn", "logistic"]), help="Kind of classifier.  [default: tcn]")
@click.option("--background", multiple=True, metavar="LABEL", help="Label that means nothing of interest.")
@plan_option
@click.option("--cache", type=click.Path(path_type=Path), help="Folder to keep computed frames in for next time.")
@seed_option
@workers_option
@force_option
@json_option
@quiet_option
def command(
    clips: str,
    folder: Path,
    family: str | None,
    background: tuple[str, ...],
    plan_path: Path | None,
    cache: Path | None,
    seed: int | None,
    workers: int,
    force: bool,
    as_json: bool,
    quiet: bool,
) -> None:
    """Train a compact classifier on the clip table CLIPS (- for standard input).

    Clips of one group, such as one recorder, stay on one side of the split. Options win over the plan.

    \b
    barn-owl train clips.csv --run first
    barn-owl train clips.csv --run second --family logistic --seed 1
    """
    voice = Voice(quiet=quiet, as_json=as_json)
    plan = read_plan(plan_path) if plan_path else Plan()
    plan = plan.but(family=family, seed=seed, background=list(background) or None)
    run = train_aloud(voice, read_clips(clips), folder, plan, workers=workers, force=force, cache=cache)
    voice.say(f"\nWrote the run to {folder}.")
    voice.say(f"Next: barn-owl tag {folder} RECORDING -o events.csv")
    voice.result({"run": str(folder), **run.evaluate().scores.as_dict()} if _has_test(run) else {"run": str(folder)})


def train_aloud(
    voice: Voice,
    clips: pd.DataFrame,
    folder: Path,
    plan: Plan,
    *,
    workers: int,
    force: bool,
    cache: Path | None = None,
) -> Run:
    """Train with visible progress, write the test side's figure, and show its scores."""
    with voice.progress("reading clips") as reading:
        teller = _EpochTeller(voice)
        try:
            run = train(clips, folder, plan, workers=workers, force=force, cache=cache, reading=reading, watch=teller)
        except KeyboardInterrupt:
            if (folder / "predictions.csv").is_file():
                voice.warn(f"stopped; the best so far is kept in {folder}: barn-owl evaluate {folder}")
            raise
    skipped = folder / "skipped.csv"
    if skipped.is_file():
        voice.warn(f"{len(pd.read_csv(skipped))} clips could not be used; {skipped} says why")
    if _has_test(run):
        evaluation = run.evaluate()
        write_evaluation(evaluation, folder)
        show_scores(voice, evaluation)
    else:
        voice.warn("there is no test side in this split, so the run is not judged")
    return run


def _has_test(run: Run) -> bool:
    return bool((run.predictions["split"] == "test").any())


class _EpochTeller:
    """Says a line at every tenth of the way, and whenever it is the last."""

    def __init__(self, voice: Voice) -> None:
        self.voice, self.next = voice, 1

    def __call__(self, line: Progress) -> None:
        if line.epoch == 1:
            self.voice.say(
                f"{'epoch':>9} {'train loss':>11} {'validation loss':>16} {'validation recall':>18} {'waiting':>8} "
                f"{'left':>7}"
            )
        if line.epoch < self.next and line.epoch < line.epochs:
            return
        self.next = line.epoch + max(1, line.epochs // 10)
        left = line.seconds / line.epoch * (line.epochs - line.epoch)
        self.voice.say(
            f"{line.epoch:>4}/{line.epochs:<4} {line.train_loss:>11.3f} {line.validation_loss:>16.3f} "
            f"{line.validation_recall:>18.2f} {line.waiting:>8.0%} {left:>5.0f} s"
        )
