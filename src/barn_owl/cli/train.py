"""``barn-owl train``."""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

import barn_owl as owl
from barn_owl import runs
from barn_owl.classifiers.built_in import trained_names
from barn_owl.cli import common
from barn_owl.cli.evaluate import show_scores
from barn_owl.cli.measure import measure_training
from barn_owl.cli.plan import show_reasons
from barn_owl.cli.training import EpochReporter, train_aloud
from barn_owl.files import MISSING, claim_folder, is_file, not_a_file

if TYPE_CHECKING:
    import pandas as pd


WORTH = 0.02
"""Lead in balanced accuracy from which a logistic regression is kept instead of a network."""
EFFORTS = {"quick": 20, "normal": 40, "thorough": 80}
"""Epochs; see docs/how-to/train.md for event F1 and time."""
FORGOTTEN = 0.05
"""Fall of the share of held-out exemplars classified correctly that is worth a warning."""


@click.command("train")
@click.argument("clips")
@click.option("--run", "folder", type=common.PATH, help="Folder to write the run to; needed but for --measure.")
@click.option(
    "--classifier",
    type=click.Choice([*trained_names(), "auto", "all"]),
    help="Classifier to train; auto takes logistic where it beats cnn on held-out groups, all ranks every one.",
)
@click.option(
    "--background", multiple=True, metavar="LABEL", help="Label of background sound; never reported. Repeatable."
)
@click.option(
    "--ignored", multiple=True, metavar="LABEL", help="Label that is recognized but never reported. Repeatable."
)
@common.recordings_option
@common.plan_option
@common.set_option
@click.option("--effort", type=click.Choice(list(EFFORTS)), help="Number of epochs: 20, 40 or 80.")
@click.option("--start-from", metavar="MODEL", help="Fine-tune a model or run; keeps its front end.")
@click.option("--frozen", type=click.IntRange(min=0), help="Number of first layers of that model to freeze.")
@click.option("--forget", metavar="LABEL", multiple=True, help="Label of that model to drop. Repeatable.")
@click.option(
    "--split-from",
    "like",
    type=common.PATH,
    metavar="RUN",
    help="Reuse the split of RUN; train on clips that it lacks.",
)
@click.option("--resume", is_flag=True, help="Resume an interrupted training.")
@click.option("--seeds", type=click.IntRange(2, 100), help="Train with this many seeds and report the spread.")
@click.option("--folds", type=click.IntRange(3, 100), help="Cross-validate: train one model per fold.")
@click.option(
    "--subset", "subsets", type=float, multiple=True,
    help="Also train on this share or number of the clips; repeatable.",
)  # fmt: skip
@click.option(
    "--front-end", "front_ends", multiple=True, metavar="FEATURES",
    help="Features joined by +; repeat to rank several.",
)  # fmt: skip
@click.option("--ensemble", is_flag=True, help="With --seeds or --folds: average the models.")
@click.option("--cache", type=common.PATH, help="Folder to cache computed frames in.")
@common.measure_option
@common.seed_option
@common.workers_option
@common.engine_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    clips: str,
    folder: Path | None,
    classifier: str | None,
    background: tuple[str, ...],
    ignored: tuple[str, ...],
    recordings: tuple[Path, ...],
    plan_path: Path | None,
    settings: tuple[str, ...],
    effort: str | None,
    start_from: str | None,
    frozen: int | None,
    forget: tuple[str, ...],
    like: Path | None,
    resume: bool,
    seeds: int | None,
    folds: int | None,
    subsets: tuple[float, ...],
    front_ends: tuple[str, ...],
    ensemble: bool,
    cache: Path | None,
    measure: bool,
    seed: int | None,
    workers: int,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Train a classifier on clips.

    CLIPS is a clip table (- for standard input). Fits a plan to the clips if none is given (see barn-owl plan). Never
    divides a group, such as one recorder, between training, validation and test. Options override the plan. Ctrl-C
    stops and keeps the best model; --resume continues.

    \b
    barn-owl train clips.csv --run first
    barn-owl train clips.csv --run classifiers --classifier all
    barn-owl train clips.csv --run spread --seeds 5 --ensemble
    barn-owl train clips.csv --run quick --effort quick --set cnn.size=tiny
    """
    options: dict[str, Any] = {
        "classifier": None if classifier in ("all", "auto") else classifier,
        "seed": seed,
        "background": list(background),
        "ignored": list(ignored),
        "recordings": [str(path) for path in recordings],
        "start": {name: value for name, value in (("frozen", frozen), ("forget", list(forget))) if value},
    }
    changes = common.settings_of([*([f"training.epochs={EFFORTS[effort]}"] if effort else []), *settings])
    changes |= {name: value for name, value in options.items() if value not in (None, [], {})}
    if measure:
        plan = owl.Plan() if plan_path is None else owl.read_plan(plan_path, urls=common.table_urls())
        measure_training(voice, common.read_clips(clips), plan.but(**changes), workers)
        return
    if folder is None:
        raise click.UsageError("Missing option '--run'.")
    request = TrainRequest(
        voice=voice, folder=folder, plan_path=plan_path, recordings=recordings,
        start_from=start_from, resume=resume, seeds=seeds, folds=folds, subsets=subsets, ensemble=ensemble,
        classifiers=trained_names() if classifier == "all" else [], chooses=classifier == "auto",
        front_ends=[stack.split("+") for stack in front_ends],
        work=owl.Work(workers=workers, force=force, cache=cache),
        changes=changes,
    )  # fmt: skip
    mode = _mode(request)
    for option, given in (("--frozen", frozen), ("--forget", forget)):
        if given and not start_from:
            raise click.UsageError(f"{option} needs --start-from")
    runs.check_subsets(subsets)  # before minutes of work, not after
    common.say_complete_recordings(voice, recordings)
    table = common.read_clips(clips) if like is None else runs.split_like(common.read_clips(clips), like)
    if resume and not mode.resumes_itself:
        own = None if plan_path is None else owl.read_plan(plan_path, urls=common.table_urls()).but(**request.changes)
        if own is None and common.table_urls() and is_file(request.folder / "plan.toml"):
            own = owl.read_plan(request.folder / "plan.toml", urls=True)
        _train_one(request, table, own)
        return
    if not_a_file(request.folder) != MISSING:
        claim_folder(request.folder, force=force or resume)  # refused before minutes of reading, not after
    mode.train(request, table, _plan(request, table).but(**request.changes))


@dataclass(frozen=True, kw_only=True)
class TrainRequest:
    """The options of the command. changes : settings of the plan that options override."""

    voice: common.Terminal
    folder: Path
    plan_path: Path | None
    recordings: tuple[Path, ...]
    start_from: str | None
    resume: bool
    seeds: int | None
    folds: int | None
    subsets: tuple[float, ...]
    ensemble: bool
    classifiers: list[str]
    chooses: bool
    front_ends: list[list[str]]
    work: owl.Work
    changes: dict[str, Any]


@dataclass(frozen=True, kw_only=True)
class Mode:
    """A mode of training: its options, and its function."""

    options: str
    applies: Callable[[TrainRequest], bool]
    train: Callable[[TrainRequest, pd.DataFrame, owl.Plan], None]
    makes_ensembles: bool = False
    resumes_itself: bool = False


def _mode(request: TrainRequest) -> Mode:
    """Return the selected mode. Raises UsageError for options that exclude each other."""
    chosen = [mode for mode in MODES if mode.applies(request)]
    if len(chosen) > 1:
        raise click.UsageError(f"{' and '.join(mode.options for mode in chosen)} exclude each other")
    mode = chosen[0] if chosen else SINGLE
    others = [] if mode is SINGLE or mode.resumes_itself else [mode.options]
    others += ["--start-from"] if request.start_from else []
    if request.resume and others:
        raise click.UsageError(f"--resume continues one training or a ranking; drop {others[0]}")
    if request.ensemble and not mode.makes_ensembles:
        raise click.UsageError("--ensemble needs --seeds or --folds")
    return mode


def _train_one(request: TrainRequest, table: pd.DataFrame, plan: owl.Plan | None) -> None:
    run = train_aloud(request.voice, table, request.folder, plan, request.work, resume=request.resume)
    if plan is not None and plan.start.model:
        _show_exemplars(request.voice, plan, run)
    request.voice.say(f"\nWrote the run to {request.folder}.")
    request.voice.say(f"Next: barn-owl tag {request.folder} RECORDING -o events.csv")
    request.voice.result(run=request.folder, **({} if run.tested is None else run.tested.scores.as_dict()))


def _train_best(request: TrainRequest, table: pd.DataFrame, plan: owl.Plan) -> None:
    """Train a cnn, and keep a logistic regression instead where it is better on the validation groups."""
    from barn_owl.files import temporary_folder

    voice, plan, plain = request.voice, plan.but(classifier="cnn"), plan.but(classifier="logistic")
    run = train_aloud(voice, table, request.folder, plan, request.work)
    voice.say("Training a logistic regression to compare ...")
    with temporary_folder() as temporary:
        other = owl.train(table, Path(temporary) / "logistic", plain, work=request.work)
        network, regression = (
            float(one.splits.loc["validation", "balanced_accuracy"]) if "validation" in one.splits.index else math.nan
            for one in (run, other)
        )
    better = regression > network + WORTH
    voice.say(
        f"Balanced accuracy on the validation groups: cnn {network:.2f}, logistic {regression:.2f}. "
        f"Keeping {'logistic' if better else 'cnn'}."
    )
    if better:
        run = train_aloud(voice, table, request.folder, plain, replace(request.work, force=True))
    voice.say(f"\nWrote the run to {request.folder}.")
    voice.result(run=request.folder, **({} if run.tested is None else run.tested.scores.as_dict()))


def _show_exemplars(voice: common.Terminal, plan: owl.Plan, run: owl.Run) -> None:
    before = owl.load_model(plan.start.model)
    if before.exemplars:
        table = owl.runs.exemplar_table(before, run.model, run.predictions)
        voice.table(table, title="new clips and exemplars")
        voice.say("before, now: share of the held-out exemplars classified correctly; no training used them.")
        both = table[["before", "now"]].dropna().mean()
        if both["before"] - both["now"] > FORGOTTEN:
            voice.warn(
                f"Earlier labels are recognized worse: {both['now']:.2f} instead of {both['before']:.2f} of their "
                "held-out exemplars. Training on the earlier clips and the new ones together keeps them."
            )
    gone = sorted(set(before.labels) - set(run.model.labels))
    if gone:
        voice.warn(f"dropping {', '.join(gone)}: {plan.start.model} has no exemplars of it, and there are no clips")


def _plan(request: TrainRequest, table: pd.DataFrame) -> owl.Plan:
    voice, start_from = request.voice, request.start_from
    if request.plan_path is not None:
        plan = owl.read_plan(request.plan_path, urls=common.table_urls())
    elif start_from:
        plan = owl.Plan()
    else:
        with voice.progress("analyzing clips") as progress:
            suggestion = owl.suggest_plan(
                table,
                recordings=request.recordings,
                background=request.changes.get("background", []),
                workers=request.work.workers,
                seed=request.changes.get("seed", 0),
                progress=progress,
            )
        voice.say("Plan fitted to the clips:")
        show_reasons(voice, suggestion)
        plan = suggestion.plan
    return owl.runs.plan_from_model(plan, owl.load_model(start_from), start_from) if start_from else plan


def _rank(request: TrainRequest, clips: pd.DataFrame, plan: owl.Plan) -> None:
    voice, folder, classifiers = request.voice, request.folder, request.classifiers or [plan.classifier]
    begin, teller = time.perf_counter(), EpochReporter(voice)

    def on_start(name: str, number: int, total: int) -> None:
        seconds = time.perf_counter() - begin
        longest = "; the networks, at the end, take longest" if number == 1 and len(classifiers) > 1 else ""
        voice.say(f"{number} of {total}: {name}, {seconds:.0f} s{longest}")
        teller.next, teller.refit = 0, False

    with voice.progress("reading clips") as reading:
        try:
            ranking = owl.train_classifiers(
                clips, folder, plan, classifiers=classifiers, front_ends=request.front_ends, resume=request.resume,
                work=replace(request.work, reading=reading, watch=teller, on_start=on_start),
            )  # fmt: skip
        except KeyboardInterrupt:
            voice.say(f"{folder / 'classifiers.csv'} ranks the finished ones; --resume trains the others.")
            raise
    owl.save_figure(owl.show.classifiers_figure(ranking), folder / "classifiers.png", force=True)
    shown = ranking.drop(columns=["classifier", "features"]).rename(columns=_heading)
    voice.table(shown, title="ranked on the validation clips")
    best = ranking["run"].iloc[0]
    voice.say(f"\nWrote one run per classifier to {folder}, classifiers.csv and classifiers.png.")
    voice.say("Ranked by validation: the test score of the best one is unbiased.")
    voice.say(f"Next: barn-owl evaluate {folder / best}")
    voice.result(run=folder, classifiers=ranking)


def _train_several(request: TrainRequest, clips: pd.DataFrame, plan: owl.Plan) -> None:
    from barn_owl.runs.several import spread

    voice, folder = request.voice, request.folder
    with voice.progress("reading clips") as reading:
        table = owl.train_several(
            clips, folder, plan, seeds=request.seeds, folds=request.folds, ensemble=request.ensemble,
            work=replace(request.work, reading=reading, on_start=voice.begins),
        )  # fmt: skip
    voice.table(table.rename(columns=_heading))
    found = spread(table)
    for name, values in found.items():
        voice.say(f"{name.replace('_', ' ')}: {values['mean']:.3f}, standard deviation {values['deviation']:.3f}")
    voice.say(f"\nWrote one run each to {folder}, and spread.csv.")
    if request.ensemble:
        show_scores(voice, owl.open_run(folder, urls=common.table_urls()).evaluate())
        voice.say(f"\nThe ensemble is in {folder}. Next: barn-owl tag {folder} RECORDING -o events.csv")
    voice.result(run=folder, spread=found)


def _train_subsets(request: TrainRequest, clips: pd.DataFrame, plan: owl.Plan) -> None:
    voice, folder = request.voice, request.folder
    with voice.progress("reading clips") as reading:
        table = owl.runs.train_subsets(
            clips,
            folder,
            plan,
            subsets=request.subsets,
            work=replace(request.work, reading=reading, on_start=voice.begins),
        )
    owl.save_figure(owl.show.subsets_figure(table), folder / "subsets.png", force=True)
    shown = table.drop(columns=["weights", "multiply_adds", "validation_f1", "test_f1"])
    voice.table(shown.rename(columns=_heading), title="by the number of training clips")
    last = table["run"].iloc[-1]
    voice.say(f"\nWrote one run per size to {folder}, subsets.csv and subsets.png.")
    voice.say(f"Next: barn-owl evaluate {folder / last}")
    voice.result(run=folder, subsets=table)


SINGLE = Mode(options="", applies=lambda _: False, train=_train_one)
MODES = (
    Mode(options="--seeds", applies=lambda request: bool(request.seeds), train=_train_several, makes_ensembles=True),
    Mode(options="--folds", applies=lambda request: bool(request.folds), train=_train_several, makes_ensembles=True),
    Mode(options="--subset", applies=lambda request: bool(request.subsets), train=_train_subsets),
    Mode(options="--classifier auto", applies=lambda request: request.chooses, train=_train_best),
    Mode(
        options="--classifier all or --front-end",
        applies=lambda request: bool(request.classifiers or request.front_ends),
        train=_rank,
        resumes_itself=True,
    ),
)  # fmt: skip
"""Modes of training; `SINGLE` by default."""


def _heading(name: str) -> str:
    return name.replace("_", " ").replace("balanced accuracy", "bal. acc.")
