"""``barn-owl train``."""

from __future__ import annotations

import time
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

import barn_owl as owl
from barn_owl import runs
from barn_owl.classifiers.kind import names
from barn_owl.cli.common import (
    Voice,
    engine_option,
    force_option,
    json_option,
    plan_option,
    quiet_option,
    read_clips,
    recordings_option,
    seed_option,
    workers_option,
)
from barn_owl.cli.evaluate import show_scores
from barn_owl.cli.plan import show_reasons
from barn_owl.files import MISSING, claim_folder, is_file, not_a_file

if TYPE_CHECKING:
    import pandas as pd


@click.command("train", short_help="Train a classifier.")
@click.argument("clips")
@click.option("--run", "folder", type=click.Path(path_type=Path), required=True, help="Folder to write the run to.")
@click.option(
    "--family", type=click.Choice([*names(), "all"]), help="Kind of classifier; all trains every one and ranks them."
)
@click.option("--background", multiple=True, metavar="LABEL", help="Label that means nothing of interest.")
@click.option("--unreported", multiple=True, metavar="LABEL", help="Label of other sounds, which are no events.")
@recordings_option
@plan_option
@click.option("--start-from", metavar="MODEL", help="Train a model (or run) further; its front end is taken over.")
@click.option(
    "--frozen", type=click.IntRange(min=0), help="Layers of that model, from the first, to leave as they are."
)
@click.option("--forget", metavar="LABEL", multiple=True, help="Label of that model not to keep; repeatable.")
@click.option("--resume", is_flag=True, help="Go on with a training that was stopped.")
@click.option("--seeds", type=click.IntRange(2, 100), help="Train with so many seeds and say how far results spread.")
@click.option("--folds", type=click.IntRange(3, 100), help="Train once a fold; each is the test once.")
@click.option(
    "--subset", "subsets", type=float, multiple=True,
    help="Train on a part of the clips first, a share or a number, then on all; may be given several times.",
)  # fmt: skip
@click.option(
    "--front-end", "front_ends", multiple=True, metavar="FEATURES",
    help="Features, joined by +; given several times, they are ranked on the same split.",
)  # fmt: skip
@click.option("--ensemble", is_flag=True, help="With seeds or folds: keep them all as one model.")
@click.option("--cache", type=click.Path(path_type=Path), help="Folder to keep computed frames in for next time.")
@seed_option
@workers_option
@engine_option
@force_option
@json_option
@quiet_option
def command(
    clips: str,
    folder: Path,
    family: str | None,
    background: tuple[str, ...],
    unreported: tuple[str, ...],
    recordings: tuple[Path, ...],
    plan_path: Path | None,
    start_from: str | None,
    frozen: int | None,
    forget: tuple[str, ...],
    resume: bool,
    seeds: int | None,
    folds: int | None,
    subsets: tuple[float, ...],
    front_ends: tuple[str, ...],
    ensemble: bool,
    cache: Path | None,
    seed: int | None,
    workers: int,
    force: bool,
    as_json: bool,
    quiet: bool,
) -> None:
    """Train a compact classifier on the clip table CLIPS (- for standard input).

    Without a plan, one is fitted to the clips (see barn-owl plan). Clips of one group, such as one recorder, stay on
    one side of the split. Options win over the plan. Ctrl-C keeps the best so far; --resume goes on from there.

    \b
    barn-owl train clips.csv --run first
    barn-owl train clips.csv --run families --family all
    barn-owl train clips.csv --run spread --seeds 5 --ensemble
    """
    voice = Voice(quiet=quiet, as_json=as_json)
    ranks = family == "all" or bool(front_ends)
    ways = {"--seeds": seeds, "--folds": folds, "--subset": subsets, "--family all or --front-end": ranks}
    _refuse_together([name for name, given in ways.items() if given], resume, ensemble, start_from, frozen)
    if forget and not start_from:
        raise click.UsageError("--forget needs --start-from")
    runs.check_subsets(subsets)  # refused before minutes of listening, not after
    table, work = read_clips(clips), owl.Work(workers=workers, force=force, cache=cache)
    given = {
        "family": None if family == "all" else family,
        "seed": seed,
        "background": list(background) or None,
        "unreported": list(unreported) or None,
        "recordings": [str(path) for path in recordings] or None,
        "start": {name: value for name, value in (("frozen", frozen), ("forget", list(forget))) if value} or None,
    }
    if resume and not ranks:
        own = None if plan_path is None else owl.read_plan(plan_path).but(**given)
        run = train_aloud(voice, table, folder, own, work, resume=True)
        _say_what_is_there(voice, folder, run)
        return
    if not_a_file(folder) != MISSING:
        claim_folder(folder, force=force or resume)  # refused before minutes of reading, not after
    plan = _plan(voice, table, plan_path, start_from, recordings, workers).but(**given)
    if ranks:
        _rank(
            voice, table, folder, plan, work, families=names() if family == "all" else [plan.family],
            front_ends=[features.split("+") for features in front_ends], resume=resume,
        )  # fmt: skip
        return
    if subsets:
        _train_subsets(voice, table, folder, plan, work, subsets)
        return
    if seeds or folds:
        _train_several(voice, table, folder, plan, work, seeds=seeds, folds=folds, ensemble=ensemble)
        return
    run = train_aloud(voice, table, folder, plan, work)
    if plan.start.model:
        _say_what_was_kept(voice, plan, run)
    _say_what_is_there(voice, folder, run)


def _say_what_was_kept(voice: Voice, plan: owl.Plan, run: owl.Run) -> None:
    before = owl.load_model(plan.start.model)
    if before.kept:
        voice.table(owl.kept_table(before, run.model, run.predictions), title="what is learnt, and what is kept")
        voice.say("before, now: share of the kept examples that is named right.")
    gone = sorted(set(before.labels) - set(run.model.labels))
    if gone:
        voice.warn(
            f"{plan.start.model} keeps no examples of {', '.join(gone)}, and there are no clips of them: forgotten"
        )


def _say_what_is_there(voice: Voice, folder: Path, run: owl.Run) -> None:
    voice.say(f"\nWrote the run to {folder}.")
    voice.say(f"Next: barn-owl tag {folder} RECORDING -o events.csv")
    voice.result({"run": str(folder), **({} if run.tested is None else run.tested.scores.as_dict())})


def _refuse_together(
    several: list[str], resume: bool, ensemble: bool, start_from: str | None, frozen: int | None
) -> None:
    """Options that contradict each other end here; `several` are those that ask for more than one training."""
    if len(several) > 1:
        raise click.UsageError(f"{' and '.join(several)} cannot be had at once")
    others = [*(name for name in several if "family" not in name), *(["--start-from"] if start_from else [])]
    if resume and others:
        raise click.UsageError(f"--resume goes on with one training, or a ranking; leave {others[0]} out")
    if ensemble and not {"--seeds", "--folds"} & set(several):
        raise click.UsageError("--ensemble needs --seeds or --folds: one model is no ensemble")
    if frozen and not start_from:
        raise click.UsageError("--frozen needs --start-from")


def _plan(
    voice: Voice,
    table: pd.DataFrame,
    path: Path | None,
    start_from: str | None,
    recordings: tuple[Path, ...],
    workers: int,
) -> owl.Plan:
    if path is not None:
        plan = owl.read_plan(path)
    elif start_from:
        plan = owl.Plan()
    else:
        with voice.progress("listening to clips") as progress:
            suggestion = owl.suggest_plan(table, recordings=recordings, workers=workers, progress=progress)
        voice.say("No plan is given, so one was fitted to the clips:")
        show_reasons(voice, suggestion)
        plan = suggestion.plan
    return owl.adopt(plan, owl.load_model(start_from), start_from) if start_from else plan


def train_aloud(
    voice: Voice,
    clips: pd.DataFrame,
    folder: Path,
    plan: owl.Plan | None,
    work: owl.Work,
    *,
    resume: bool = False,
) -> owl.Run:
    """Train with visible progress, and show what to expect and the scores of the test side."""

    import pandas as pd

    with voice.progress("reading clips") as reading:
        teller = EpochTeller(voice)
        try:
            run = owl.train(clips, folder, plan, resume=resume, work=replace(work, reading=reading, watch=teller))
            owl.write_results(run)
        except KeyboardInterrupt:
            if is_file(folder / "predictions.csv"):
                voice.warn(f"stopped; the best so far is kept in {folder}. To go on: the same command with --resume")
            raise
    skipped = folder / "skipped.csv"
    if is_file(skipped):
        voice.warn(f"{len(pd.read_csv(skipped))} clips could not be used; {skipped} says why")
    for sentence in run.learning.words:
        voice.say(sentence)
    show_expectation(voice, run)
    if run.tested is not None:
        show_scores(voice, run.tested)
    else:
        voice.warn("there is no test side in this split, so the run is not judged")
    return run


def show_expectation(voice: Voice, run: owl.Run) -> None:
    """Say what to expect in a recording, and doubt it where that is due."""

    import pandas as pd

    expected = run.expectation
    if expected is None:
        voice.warn("no rehearsal: there are no two validation clips of any label, so what to expect is not known")
        return
    rows = [
        {"label": label, "true": int(row["true"]), "f1": row["f1"], "precision": row["precision"],
         "recall": row["recall"], "false alarms/h": round(row["false_alarms_per_hour"])}
        for label, row in expected["labels"].items()
    ]  # fmt: skip
    voice.table(pd.DataFrame(rows), title="what to expect in a recording: a rehearsal of validation clips")
    off = expected["onset_error_s"]
    voice.say(
        f"On the whole: event F1 {expected['event_f1']:.2f}, {expected['false_alarms_per_hour']:.0f} false alarms an "
        f"hour{'' if off is None else f', onsets {1000 * off:.0f} ms off'}. "
        f"To listen to: {run.folder / 'rehearsal.flac'}"
    )
    for doubt in run.recording_doubts:
        voice.warn(doubt)


def _rank(
    voice: Voice,
    clips: pd.DataFrame,
    folder: Path,
    plan: owl.Plan,
    work: owl.Work,
    *,
    families: list[str],
    front_ends: list[list[str]],
    resume: bool,
) -> None:
    begin, teller = time.perf_counter(), EpochTeller(voice)

    def told(name: str, number: int, total: int) -> None:
        seconds = time.perf_counter() - begin
        longest = "; the networks, last, take longest" if number == 1 and len(families) > 1 else ""
        voice.say(f"{number} of {total}: {name}, {seconds:.0f} s so far{longest}")
        teller.next, teller.again = 0, False

    with voice.progress("reading clips") as reading:
        try:
            ranking = owl.train_families(
                clips, folder, plan, families=families, front_ends=front_ends, resume=resume,
                work=replace(work, reading=reading, watch=teller, told=told),
            )  # fmt: skip
        except KeyboardInterrupt:
            voice.say(f"What is done is ranked in {folder / 'families.csv'}; --resume goes on with the others.")
            raise
    owl.save_figure(owl.families_figure(ranking), folder / "families.png")
    shown = ranking.drop(columns=["family", "features"]).rename(columns=_heading)
    voice.table(shown, title="ranked on the validation clips")
    best = ranking["run"].iloc[0]
    voice.say(f"\nWrote a run each to {folder}, families.csv and families.png.")
    voice.say("The ranking is by validation, so the test of the best is still an honest figure.")
    voice.say(f"Next: barn-owl evaluate {folder / best}")
    voice.result(
        {"run": str(folder), "families": ranking.astype(object).where(ranking.notna(), None).to_dict("records")}
    )


def _train_several(
    voice: Voice,
    clips: pd.DataFrame,
    folder: Path,
    plan: owl.Plan,
    work: owl.Work,
    *,
    seeds: int | None,
    folds: int | None,
    ensemble: bool,
) -> None:
    from barn_owl.runs.several import spread

    with voice.progress("reading clips") as reading:
        table = owl.train_several(
            clips, folder, plan, seeds=seeds, folds=folds, ensemble=ensemble,
            work=replace(work, reading=reading, told=voice.begins),
        )  # fmt: skip
    voice.table(table.rename(columns=_heading))
    found = spread(table)
    for name, values in found.items():
        voice.say(f"{name.replace('_', ' ')}: {values['mean']:.3f} on average, {values['deviation']:.3f} deviation")
    voice.say(f"\nWrote a run each to {folder}, and spread.csv.")
    if ensemble:
        show_scores(voice, owl.open_run(folder).evaluate())
        voice.say(f"\nThe ensemble is in {folder}. Next: barn-owl tag {folder} RECORDING -o events.csv")
    voice.result({"run": str(folder), "spread": found})


def _train_subsets(
    voice: Voice,
    clips: pd.DataFrame,
    folder: Path,
    plan: owl.Plan,
    work: owl.Work,
    subsets: tuple[float, ...],
) -> None:
    with voice.progress("reading clips") as reading:
        table = owl.train_subsets(
            clips, folder, plan, subsets=subsets, work=replace(work, reading=reading, told=voice.begins)
        )
    owl.save_figure(owl.subsets_figure(table), folder / "subsets.png")
    shown = table.drop(columns=["weights", "multiply_adds", "validation_f1", "test_f1"])
    voice.table(shown.rename(columns=_heading), title="by the number of training clips")
    last = table["run"].iloc[-1]
    voice.say(f"\nWrote a run each to {folder}, subsets.csv and subsets.png.")
    voice.say(f"Next: barn-owl evaluate {folder / last}")
    voice.result({"run": str(folder), "subsets": table.astype(object).where(table.notna(), None).to_dict("records")})


def _heading(name: str) -> str:
    return name.replace("_", " ").replace("balanced accuracy", "bal. acc.")


class EpochTeller:
    """Says a line at every tenth of the way, and whenever it is the last."""

    def __init__(self, voice: Voice) -> None:
        self.voice, self.next, self.again = voice, 0, False

    def __call__(self, line: owl.Progress) -> None:
        """Take a line of the curves."""
        if line.again and not self.again:
            self.again, self.next = True, 1
            self.voice.say("Once more, on the training and validation clips together:")
        if not self.next:
            self.voice.say(
                f"{'epoch':>9} {'train loss':>11} {'validation loss':>16} {'recall':>7} {'F1':>5} "
                f"{'waiting':>8} {'left':>7}"
            )
        if line.epoch < self.next and line.epoch < line.epochs:
            return
        self.next = line.epoch + max(1, line.epochs // 10)
        left = line.seconds / line.epoch * (line.epochs - line.epoch)
        judged = f"{line.validation_loss:>16.3f} {line.validation_recall:>7.2f} {line.validation_f1:>5.2f}"
        if line.again:
            judged = " " * len(judged)
        self.voice.say(
            f"{line.epoch:>4}/{line.epochs:<4} {line.train_loss:>11.3f} {judged} {line.waiting:>8.0%} {left:>5.0f} s"
        )
