"""Training: from a clip table and a plan to the folder of a run."""

import logging
import time
from dataclasses import replace
from importlib.metadata import version
from pathlib import Path

import pandas as pd

from barn_owl.classifiers.kind import NetworkKind
from barn_owl.clips import labels_in, write_clip_table
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import TrainingError
from barn_owl.files import check_space, claimed_folder
from barn_owl.learn import Fitted, Plan, fit, write_plan
from barn_owl.learn.checkpoint import Checkpoint
from barn_owl.learn.plan import PlanLike, as_plan
from barn_owl.learn.trainer_pool import TrainingProcesses
from barn_owl.model import Model
from barn_owl.model.extras import ExtraColumns
from barn_owl.runs.calibration import calibrated, rehearsal_of, unheard_parts
from barn_owl.runs.data import RunData, read_clips, usable_clips, with_splits
from barn_owl.runs.resuming import find_checkpoint, is_finished, plan_of_run
from barn_owl.runs.run import CHECKPOINT, Run
from barn_owl.runs.start import starting_point
from barn_owl.runs.suggest import suggest_plan
from barn_owl.runs.work import PLAIN, Work
from barn_owl.runs.writing import fingerprint, write_run

logger = logging.getLogger(__name__)

RUN_BYTES, CLIP_BYTES = 8_000_000, 20_000
"""Space on the disk that a run needs at least, and for each of its clips: checked before the work, not after."""


def train(
    clips: TableOrPath, folder: str | Path, plan: PlanLike | None = None, *, resume: bool = False, work: Work = PLAIN
) -> Run:
    """Train a classifier on clips, evaluate it, and write the run folder.

    A network writes a checkpoint after each epoch. After Ctrl-C, the best weights are written as the model, the
    checkpoint is kept, and KeyboardInterrupt is raised.

    Parameters
    ----------
    clips : pd.DataFrame
        A clip table. Rows with a blank label are skipped; splits in a column ``split`` are kept.
    folder : str | Path
        Folder of the run. It must be new or empty, unless `work.force` is set.
    plan : Plan | None
        The plan. Default: a suggested plan (`suggest_plan`) or, with `resume`, the plan of the run.
    resume : bool
        Continue the training in `folder` from its last checkpoint. The result equals that of an uninterrupted
        training with the same plan and clips.
    work : Work
        Number of workers, cache and progress callbacks.

    Raises
    ------
    TableError
        If a table is invalid.
    PlanError
        If the plan is invalid.
    TrainingError
        If the training fails.
    ModelError
        If the model is invalid.
    OutputError
        If an output cannot be written.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> quick = {"pooling": {"windows": 200}, "rehearsal": {"minutes": 0}}
    >>> plan = barn_owl.Plan(classifier="nearest", background=["still"], **quick)
    >>> run = barn_owl.train(clips, "third", plan)
    >>> run.model.labels
    ['hiss', 'hum', 'still', 'tick']
    """
    clips, plan = as_clip_table(clips), as_plan(plan)
    begin, folder = time.perf_counter(), Path(folder)
    plan = plan_of_run(folder, plan) if resume else plan or suggest_plan(clips).plan
    sided = with_splits(usable_clips(clips, plan), plan)
    checkpoint = find_checkpoint(folder, sided) if resume else None
    if resume and checkpoint is None and is_finished(folder):
        logger.warning("%s is finished; there is nothing to resume", folder)
        return Run(folder)
    check_space(folder, RUN_BYTES + CLIP_BYTES * len(sided))
    with (
        claimed_folder(folder, force=work.force or resume),
        TrainingProcesses(plan, work.workers) as processes,
        read_clips(sided, plan, work) as data,
    ):
        return fit_into(folder, plan, data, work, checkpoint=checkpoint, begin=begin, processes=processes)


def fit_into(
    folder: Path,
    plan: Plan,
    data: RunData,
    work: Work = PLAIN,
    *,
    checkpoint: Checkpoint | None = None,
    begin: float | None = None,
    processes: TrainingProcesses | None = None,
) -> Run:
    """Fit the classifier of `plan` to clips that are read already, judge it and write the run; see `train`."""
    begin = time.perf_counter() if begin is None else begin
    extra_columns = data.extra_columns(plan)
    train_side, validation = data.examples(plan, extra_columns)
    start = starting_point(plan, data.labels)

    def save(checkpoint: Checkpoint) -> None:
        if len(checkpoint.curves) == 1:
            # Not before there is something to resume: until then a run that was here is as it was.
            for name in ("predictions.csv", "model.safetensors", CHECKPOINT):
                (folder / name).unlink(missing_ok=True)
            write_plan(plan, folder / "plan.toml", force=True)
            write_clip_table(data.requested, folder / "clips.csv", force=True)
        checkpoint.save(folder / CHECKPOINT)

    with processes or TrainingProcesses(plan, work.workers) as processes:
        fitted = fit(
            plan, data.labels, train_side, validation,
            workers=work.workers, watch=work.watch, start=start, resume=checkpoint, save=save,
            processes=processes,
        )  # fmt: skip
        work.now("judging the validation clips, and rehearsing a recording of them")
        model = fitted_model(plan, data, fitted, extra_columns)
        parts = unheard_parts(model, data, fitted)
        model, watched = calibrated(model, plan, data, parts)
        rehearsed = rehearsal_of(model, plan, data, parts)
        if rehearsed is not None:
            model = rehearsed.model
        if not (fitted.trouble or fitted.interrupted or len(parts) > 1):
            model, fitted = _refitted(model, plan, data, fitted, extra_columns, work, processes)
    work.now("judging the clips")
    run = write_run(folder, plan, data, model, fitted, begin, watched=watched, rehearsed=rehearsed)
    if fitted.trouble:
        raise TrainingError(f"{fitted.trouble}. The best until then, epoch {fitted.best.epoch}, is kept in {folder}")
    if fitted.interrupted:
        raise KeyboardInterrupt
    (folder / CHECKPOINT).unlink(missing_ok=True)
    return run


def _refitted(
    model: Model,
    plan: Plan,
    data: RunData,
    fitted: Fitted,
    extra_columns: ExtraColumns,
    work: Work,
    processes: TrainingProcesses,
) -> tuple[Model, Fitted]:
    """Fit the classifier once more, on the training and validation clips together: more recorders tell more.

    A network continues training. Calibration and thresholds, found on the held-out validation clips, stay.
    """
    if not plan.training.refit or plan.kind.is_baseline:
        return model, fitted
    again = data.with_splits(lambda table: table.assign(split=table["split"].replace("validation", "train")))
    every, _ = again.examples(plan, extra_columns, needs_validation=False)
    onward = plan.but(training={"epochs": plan.training.refit})
    if not plan.start.model:
        onward = onward.but(start={"rate_share": 1.0})
    try:
        found = fit(
            onward, data.labels, every, None, workers=work.workers, keep=fitted.best.epoch, processes=processes,
            start=fitted if isinstance(plan.kind, NetworkKind) else None,
            watch=None if (watch := work.watch) is None else lambda line: watch(replace(line, refit=True)),
        )  # fmt: skip
    except KeyboardInterrupt:
        return model, replace(fitted, interrupted=True)
    if found.interrupted or found.trouble:
        return model, replace(fitted, interrupted=found.interrupted, trouble=found.trouble)
    refitted = replace(model, classifier=found.classifier, mean=found.mean, deviation=found.deviation)
    return refitted, replace(fitted, classifier=found.classifier, mean=found.mean, deviation=found.deviation)


def fitted_model(plan: Plan, data: RunData, fitted: Fitted, extra_columns: ExtraColumns) -> Model:
    """Put everything that is needed to use a fitted classifier into a model."""
    training = data.table[data.table["split"] == "train"]
    counts = pd.Series([label for text in training["label"] for label in labels_in(text)]).value_counts()
    return Model(
        labels=data.labels,
        background=plan.background,
        ignored=plan.ignored,
        front_end=plan.front_end,
        clips=plan.clips,
        decoding=plan.decoding,
        mean=fitted.mean,
        deviation=fitted.deviation,
        classifier=fitted.classifier,
        multilabel=plan.multilabel,
        extra_columns=extra_columns,
        provenance={
            "barn_owl": version("barn-owl-audio"),
            "seed": plan.seed,
            "data_fingerprint": fingerprint(data.table),
            "training_clips": len(training),
            "majority_label": str(counts.index[0]),
            "epochs": len(fitted.curves),
            "best_epoch": fitted.best.epoch,
            "interrupted": fitted.interrupted or bool(fitted.trouble),
        },
    )
