"""``barn-owl evaluate``."""

from __future__ import annotations

from pathlib import Path

import click

import barn_owl as owl
from barn_owl import learn
from barn_owl.cli import common
from barn_owl.cli.compare import compare_aloud
from barn_owl.clips.split_names import SPLITS
from barn_owl.errors import PlanError
from barn_owl.files import is_folder

SHOWN_CONFUSIONS, SHOWN_GROUPS = 3, 10


@click.command("evaluate")
@click.argument("run", type=common.PATH)
@click.argument("others", metavar="[CLIPS | RUN...]", nargs=-1)
@click.option("--clips", "common_clips", metavar="TABLE", help="Clips to compare several runs on.")
@click.option("-o", "--out", type=common.PATH, help="Page (.html) or figure of a comparison to write.")
@click.option("--split", type=click.Choice(SPLITS), default="test", help="Split of the run to evaluate on.")
@click.option(
    "--by", "columns", multiple=True, metavar="COLUMN", help="Break scores down by a column, such as group."
)
@click.option("--target", metavar="WHAT=VALUE", help="Find thresholds for precision=P, recall=R, f1, cost=C or none.")
@common.workers_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    run: Path,
    others: tuple[str, ...],
    common_clips: str | None,
    out: Path | None,
    split: str,
    columns: tuple[str, ...],
    target: str | None,
    workers: int,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Evaluate a run, or compare runs.

    Evaluates RUN on one of its own splits, or on all labeled rows of CLIPS, and writes report.html with mistakes to
    listen to. --target precision=0.9, recall=0.9, f1, cost=3 (a false alarm costs 3 misses) or none finds a threshold
    for each label on the validation split and stores it in the model; clips below it are undecided.

    With several runs, tests each against RUN on the test clips that all have in common, or on --clips, by a paired
    bootstrap over groups.

    \b
    barn-owl evaluate first
    barn-owl evaluate first other-clips.csv --by group
    barn-owl evaluate first --target precision=0.95
    barn-owl evaluate first second -o comparison.html
    """
    if len(others) > 1 or common_clips is not None or (others and is_folder(others[0])):
        if columns or target is not None:
            raise click.UsageError("--by and --target go with a single run")
        runs = [run, *map(Path, others)]
        compare_aloud(voice, runs, common_clips, split=split, out=out, workers=workers, force=force)
        return
    if out is not None:
        raise click.UsageError("-o goes with several runs; of a single run, report.html is written")
    _evaluate(voice, run, others[0] if others else None, split=split, columns=columns, target=target, workers=workers)


def _evaluate(
    voice: common.Terminal,
    run: Path,
    clips: str | None,
    *,
    split: str,
    columns: tuple[str, ...],
    target: str | None,
    workers: int,
) -> None:
    """Evaluate a single run."""
    opened = owl.open_run(run, urls=common.table_urls())
    if target is not None:
        opened = owl.runs.set_thresholds(opened, read_target(target))
        words = ", ".join(f"{label} {least:.2f}" for label, least in opened.model.thresholds.items())
        voice.say(f"Thresholds stored in the model: {words or 'none'}")
    if clips is None:
        evaluation, name = opened.evaluate(split=split), split
    else:
        name = "stdin" if clips == "-" else Path(clips).stem
        with voice.progress("reading clips") as progress:
            evaluation = opened.evaluate(common.read_clips(clips), split=name, workers=workers, progress=progress)
    for column in columns:
        if column not in evaluation.predictions:
            raise click.UsageError(f"--by {column}: there are {', '.join(_columns(evaluation))}")
    voice.skipped(evaluation.skipped.values())
    folder = run / "evaluations" / name if clips or split != "test" else run
    show_scores(voice, evaluation)
    if clips is None and "group" not in columns:
        _show_groups(voice, opened.group_spread)
    by = {column: evaluation.by(column) for column in columns}
    for column, table in by.items():
        voice.table(table.reset_index(), title=f"by {column}")
    owl.show.write_evaluation(opened, evaluation, folder)
    if clips is None and opened.expectation is not None:
        expected = opened.expectation["at_density"]
        voice.say(
            f"Rehearsal at {expected['events_per_minute']:g} events per minute: event F1 {expected['event_f1']:.2f}, "
            f"{expected['false_alarms_per_hour']:.0f} false alarms per hour."
        )
        for caveat in opened.recording_caveats:
            voice.warn(caveat)
    voice.say(f"\nWrote report.html, tables and figures to {folder}.")
    voice.say(f"Next: open {folder / 'report.html'} in a browser")
    tables = {column: table.reset_index() for column, table in by.items()}
    voice.result(split=name, **evaluation.as_dict(), **({"by": tables} if tables else {}))


def _show_groups(voice: common.Terminal, spread: owl.runs.GroupSpread) -> None:
    if len(spread.by_group) > 1:
        voice.table(spread.by_group.reset_index().head(SHOWN_GROUPS), title="held-out groups, the worst first")
        if spread.advice:
            voice.warn(spread.advice)


def read_target(text: str) -> learn.ThresholdSettings:
    """Parse ``precision=0.9`` and the like. Raises PlanError for anything else."""
    what, _, value = text.partition("=")
    try:
        number = float(value) if value else learn.ThresholdSettings().value
    except ValueError as error:
        raise PlanError(f"--target {text}: {value!r} is not a number") from error
    return learn.ThresholdSettings(target=what, value=number)


def _columns(evaluation: owl.evaluate.Evaluation) -> list[str]:
    hidden = ("score", "file", "start_s", "end_s", "predicted")
    return [name for name in evaluation.predictions if not name.startswith(hidden)]


def show_scores(voice: common.Terminal, evaluation: owl.evaluate.Evaluation) -> None:
    """Show scores, baselines, scores by label, the most frequent confusions, and reasons for caution."""
    scores, overall = evaluation.scores, evaluation.scores.overall
    groups = f" in {evaluation.arrays.group_count} groups" if "group" in evaluation.predictions else ""
    voice.say(f"\n{evaluation.split}: {scores.clips} clips{groups}")
    balanced = overall.loc["balanced_accuracy"]
    span = f" (95 %: {balanced['low']:.2f} to {balanced['high']:.2f})" if balanced["low"] == balanced["low"] else ""
    if evaluation.multilabel:
        voice.say(
            f"macro F1 {scores.macro_f1:.2f}, balanced accuracy of the labels {scores.balanced_accuracy:.2f}{span}, "
            f"chance 0.50; all labels correct for {scores.accuracy:.0%} of the clips"
        )
    else:
        voice.say(
            f"balanced accuracy {scores.balanced_accuracy:.2f}{span}, accuracy {scores.accuracy:.2f}; "
            f"majority class ({scores.majority!r}): {scores.majority_balanced_accuracy:.2f}, "
            f"{scores.majority_accuracy:.2f}"
        )
    if evaluation.clip_statistics is not None:
        voice.say(f"logistic regression on clip statistics: balanced accuracy {evaluation.clip_statistics:.2f}")
    table = scores.by_label[["precision", "recall", "recall_low", "recall_high", "f1", "count"]]
    table = table.rename(columns={"recall_low": "from", "recall_high": "to"}).assign(f1=table["f1"])
    voice.table(table.rename_axis("label").reset_index())
    if not evaluation.multilabel:
        for row in scores.confusions.head(SHOWN_CONFUSIONS).itertuples():
            voice.say(
                f"{row.count} of {round(row.count / row.share)} {row.label} clips classified as {row.confused_with}"
            )
        if evaluation.thresholds:
            sure = evaluation.decided
            right = evaluation.arrays.right[sure].mean() if sure.any() else 0.0
            voice.say(
                f"With thresholds: {sure.mean():.0%} of the clips get a label, {right:.0%} of these are correct"
            )
    for caveat in evaluation.caveats:
        voice.warn(caveat)
