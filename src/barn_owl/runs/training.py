"""From a clip table and a plan to the folder of a run."""

import hashlib
import logging
import platform
import time
from dataclasses import asdict, replace
from datetime import UTC, datetime
from functools import cache, partial
from importlib.metadata import version
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from barn_owl.audio import Excerpt
from barn_owl.classifiers.cnn import networks_in
from barn_owl.clips import labels_in, read_clip_table, write_clip_table
from barn_owl.clips.sides import SIDES
from barn_owl.errors import ModelError, PlanError, TableError, TrainingError
from barn_owl.evaluate import Evaluation, Scores, fit_temperature
from barn_owl.evaluate.calibration import at_temperature
from barn_owl.evaluate.predictions import Heard, hear, with_predictions
from barn_owl.files import claim_folder, is_file, is_folder, real_path, whole_file, write_json
from barn_owl.learn import Fitted, Plan, fit, read_plan, write_plan
from barn_owl.learn.checkpoint import Checkpoint, read_checkpoint
from barn_owl.learn.members import kept_processes
from barn_owl.learn.rehearsal import Rehearsal, Rehearsed, make_rehearsal, rehearse
from barn_owl.learn.sharing import shared
from barn_owl.learn.summary import summary
from barn_owl.model import Model
from barn_owl.model.extras import ExtraColumns
from barn_owl.runs.data import RunData, label_names, read_clips, usable_clips, with_sides
from barn_owl.runs.keeping import examples_to_keep
from barn_owl.runs.memory import peak_memory_mb
from barn_owl.runs.run import CHECKPOINT, HIDDEN, Run, judge
from barn_owl.runs.start import starting_point
from barn_owl.runs.suggest import suggest_plan
from barn_owl.runs.thresholds import with_thresholds
from barn_owl.runs.work import PLAIN, Work

logger = logging.getLogger(__name__)


def train(
    clips: pd.DataFrame,
    folder: str | Path,
    plan: Plan | None = None,
    *,
    resume: bool = False,
    work: Work = PLAIN,
) -> Run:
    """Split the clips, fit the family of `plan`, judge it and write the folder of the run.

    clips : a clip table; rows with a blank label are left out, sides that are named already are kept.
    folder : the run's folder; it must be new or empty unless `work.force`, which replaces the files of a run.
    plan : None for one that is fitted to the clips (see `suggest_plan`), or, to resume, for the run's own.
    resume : go on with the training that `folder` holds, from its last checkpoint; the model is the same as if it had
        never stopped. The plan and the clips must be the same.
    work : cores, cache, and who is told how far it is.

    A network leaves a checkpoint after each epoch. When training is over, or is stopped by Ctrl-C after an epoch, the
    best weights so far are written as the model; then KeyboardInterrupt is raised once everything is written, and the
    checkpoint stays. Raises TableError, PlanError, TrainingError, ModelError or OutputError.

    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> quick = {"pooling": {"windows": 200}, "rehearsal": {"minutes": 0}}
    >>> plan = barn_owl.Plan(family="nearest", background=["still"], **quick)
    >>> run = barn_owl.train(clips, "third", plan)
    >>> run.model.labels
    ['hiss', 'hum', 'still', 'tick']
    """
    begin, folder = time.perf_counter(), Path(folder)
    plan = own_plan(folder, plan) if resume else plan or suggest_plan(clips).plan
    sided = with_sides(usable_clips(clips, plan), plan)
    checkpoint = found_checkpoint(folder, sided) if resume else None
    if resume and checkpoint is None and is_finished(folder):
        logger.warning("%s is finished; there is nothing to resume", folder)
        return Run(folder)
    was_there = is_folder(folder)
    claim_folder(folder, force=work.force or resume)
    try:
        with kept_processes(plan, work.workers), read_clips(sided, plan, work) as data:
            return fit_into(folder, plan, data, work, checkpoint=checkpoint, begin=begin)
    except BaseException:
        if not was_there and not any(folder.iterdir()):
            folder.rmdir()
        raise


def fit_into(
    folder: Path,
    plan: Plan,
    data: RunData,
    work: Work = PLAIN,
    *,
    checkpoint: Checkpoint | None = None,
    begin: float | None = None,
) -> Run:
    """Fit the family of `plan` to clips that are read already, judge it and write the run; see `train`."""
    begin = time.perf_counter() if begin is None else begin
    extra_columns = data.extra_columns(plan)
    train_side, validation = data.examples(plan, extra_columns)
    start = starting_point(plan, data.labels)

    def save(checkpoint: Checkpoint) -> None:
        if len(checkpoint.curves) == 1:
            # Not before there is something to resume: until then a run that was here is as it was.
            for name in ("predictions.csv", "model.safetensors", CHECKPOINT):
                (folder / name).unlink(missing_ok=True)
            write_plan(plan, folder / "plan.toml")
            write_clip_table(data.asked, folder / "clips.csv")
        checkpoint.save(folder / CHECKPOINT)

    with kept_processes(plan, work.workers):
        fitted = fit(
            plan, data.labels, train_side, validation,
            workers=work.workers, watch=work.watch, start=start, resume=checkpoint, save=save,
        )  # fmt: skip
        model = as_model(plan, data, fitted, extra_columns)
        parts = unheard_parts(model, data, fitted)
        model, watched = calibrated(model, plan, data, parts)
        rehearsals = _rehearsals(plan, data, parts)
        rehearsed = rehearse(model, plan, rehearsals) if rehearsals else None
        if rehearsed is not None:
            model = rehearsed.model
        if not (fitted.trouble or fitted.interrupted or len(parts) > 1):
            model, fitted = _refitted(model, plan, data, fitted, extra_columns, work)
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
) -> tuple[Model, Fitted]:
    """Fit the family once more, on the training and validation clips together: more recorders tell more.

    A network goes on from where it is. All that was found on the validation clips stays: it holds for what has not
    learned from them.
    """
    if not plan.training.refit or plan.kind.is_baseline:
        return model, fitted
    again = data.with_sides(lambda table: table.assign(split=table["split"].replace("validation", "train")))
    every, _ = again.examples(plan, extra_columns, needs_validation=False)
    onward = plan.but(training={"epochs": plan.training.refit, "patience": plan.training.refit})
    if not plan.start.model:
        onward = onward.but(start={"rate_share": 1.0})
    try:
        found = fit(
            onward, data.labels, every, None, workers=work.workers, keep=fitted.best.epoch,
            start=fitted if plan.kind.is_resumable else None,
            watch=None if (watch := work.watch) is None else lambda line: watch(replace(line, again=True)),
        )  # fmt: skip
    except KeyboardInterrupt:
        return model, replace(fitted, interrupted=True)
    if found.interrupted or found.trouble:
        return model, replace(fitted, interrupted=found.interrupted, trouble=found.trouble)
    refitted = replace(model, family=found.family, mean=found.mean, deviation=found.deviation)
    return refitted, replace(fitted, family=found.family, mean=found.mean, deviation=found.deviation)


def unheard_parts(model: Model, data: RunData, fitted: Fitted) -> list[tuple[Model, np.ndarray]]:
    """Parts of the validation clips, as rows of the table, each with a model that has not learned from it.

    Where each of several networks left out a part of its own, that is the network alone; else the whole model.
    """
    rows = np.flatnonzero(data.table["split"] == "validation")
    family = networks_in(model.family)
    if family is None or not len(fitted.held_out):
        return [(model, rows)] if len(rows) else []
    parts = fitted.held_out[: len(rows)]
    return [(replace(model, family=family.part(int(number))), rows[parts == number]) for number in np.unique(parts)]


def _rehearsals(plan: Plan, data: RunData, parts: list[tuple[Model, np.ndarray]]) -> list[tuple[Model, Rehearsal]]:
    """Make a rehearsal of each part of the validation clips, if the plan wants any and there are enough clips.

    Where most labels are only remembered, it would say nothing of them: there is none, and the model's settings stay.
    """
    watched = data.table[data.table["split"] == "validation"].reset_index(drop=True)
    if not plan.rehearsal.minutes or plan.kind.is_baseline or not len(watched):
        return []
    if data.kept and len(set(label_names(watched, plan.but(start={"model": ""})))) <= len(data.labels) / 2:
        return []
    own = plan.but(rehearsal={"minutes": plan.rehearsal.minutes / len(parts)})
    made = [
        (
            model,
            shared(
                partial(make_rehearsal, own, data.table.iloc[rows].reset_index(drop=True)),
                data.memo,
                own,
                rows.tobytes(),
            ),
        )
        for model, rows in parts
    ]
    return [(model, rehearsal) for model, rehearsal in made if rehearsal is not None]


def as_model(plan: Plan, data: RunData, fitted: Fitted, extra_columns: ExtraColumns) -> Model:
    """Put everything that is needed to use a fitted family into a model."""
    training = data.table[data.table["split"] == "train"]
    counts = pd.Series([label for text in training["label"] for label in labels_in(text)]).value_counts()
    return Model(
        labels=data.labels,
        background=plan.background,
        unreported=plan.unreported,
        front_end=plan.front_end,
        clips=plan.clips,
        decision=plan.decision,
        mean=fitted.mean,
        deviation=fitted.deviation,
        family=fitted.family,
        overlapping=plan.overlapping,
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


def write_run(
    folder: Path,
    plan: Plan,
    data: RunData,
    model: Model,
    fitted: Fitted,
    begin: float,
    *,
    watched: pd.DataFrame | None = None,
    rehearsed: Rehearsed | None = None,
) -> Run:
    """Judge a model on each side of the split and write all files of a run.

    watched : predictions for the validation clips by a model that was not fitted to them; left out, the model's own.
    """
    heard = hear(model, data.table, data.frames)
    predictions = with_predictions(model, data.table, data.frames, heard)
    if watched is not None:
        on_side = predictions["split"] == "validation"
        predictions.loc[on_side, watched.columns] = watched.to_numpy()
    judged = {side: _judged(model, predictions, side) for side in SIDES}
    if rehearsed is not None:
        rehearsed.write(folder)
    write_plan(plan, folder / "plan.toml")
    write_clip_table(data.asked, folder / "clips.csv")
    if fitted.curves:
        write_table(pd.DataFrame([asdict(line) for line in fitted.curves]), folder / "curves.csv")
    if (found := networks_in(model.family)) is not None:
        hop_ms, frame_ms = plan.front_end.hop_ms, plan.front_end.frame_ms
        write_table(summary(found.networks[0], hop_ms, frame_ms), folder / "summary.csv")
    _write_skipped(data, folder / "skipped.csv")
    write_json(folder / "scores.json", {side: one.as_dict() if one else None for side, one in judged.items()})
    if judged["test"] and isinstance(judged["test"].scores, Scores):
        write_table(judged["test"].scores.confusion, folder / "confusion.csv", index=True)
    with whole_file(folder / HIDDEN) as beside:
        np.save(beside, heard.embeddings, allow_pickle=False)
    circumstances = _circumstances(begin, len(data.table), len(data.skipped))
    write_json(folder / "provenance.json", model.provenance | asdict(model.cost) | circumstances)
    model = replace(model, kept=examples_to_keep(plan, data) if found is not None else [])
    model.save(folder / "model.safetensors")
    # Last, as a run is finished when it is there.
    write_clip_table(predictions, folder / "predictions.csv")
    return Run(folder)


def own_plan(folder: Path, plan: Plan | None) -> Plan:
    """Return the plan of a run that is to go on.

    Raises PlanError when `plan` is given and differs, naming the keys.
    """
    if not is_file(folder / "plan.toml"):
        raise ModelError(f"{folder} holds no training to resume; leave --resume out to begin one")
    own = read_plan(folder / "plan.toml")
    changed = _differences(own.model_dump(), plan.model_dump()) if plan else []
    if changed:
        raise PlanError(
            f"the plan is not that of {folder}, so it cannot be resumed; changed: {', '.join(changed[:5])}. "
            "Train into another folder, or leave the changes out"
        )
    return own


def is_finished(folder: Path) -> bool:
    """Whether a folder holds a run that is whole: what is written last is there."""
    return is_file(folder / "predictions.csv")


def _differences(before: dict[str, Any], after: dict[str, Any], section: str = "") -> list[str]:
    changed = []
    for key, value in before.items():
        if isinstance(value, dict) and isinstance(after[key], dict):
            changed += _differences(value, after[key], f"{section}{key}.")
        elif value != after[key]:
            changed.append(f"{section}{key} ({value!r} there, {after[key]!r} now)")
    return changed


def found_checkpoint(folder: Path, clips: pd.DataFrame) -> Checkpoint | None:
    """Return the checkpoint of a run, if it has one. Raises TableError when its clips were others, and says which."""
    if not is_file(folder / "clips.csv"):
        return None
    before, now = _known_rows(read_clip_table(folder / "clips.csv")), _known_rows(clips)
    if before != now:
        gone, new = sorted(set(before) - set(now)), sorted(set(now) - set(before))
        example = f"; the first: {(gone or new)[0]}" if gone or new else " (they are in another order)"
        raise TableError(
            f"the clips are not those of {folder}, so it cannot be resumed: {len(gone)} rows are gone or changed, "
            f"{len(new)} are new{example}"
        )
    return read_checkpoint(folder / CHECKPOINT) if is_file(folder / CHECKPOINT) else None


def _known_rows(clips: pd.DataFrame) -> list[str]:
    """What makes a row the same one, with the whole path of its file: tables lie in different folders."""
    columns = ["start_s", "end_s", "label", "split"]
    rows = clips[columns].astype(object).where(clips[columns].notna(), "").itertuples(index=False, name=None)
    return [f"{real_path(file)} {row}" for file, row in zip(clips["file"], rows, strict=True)]


def fingerprint(clips: pd.DataFrame) -> str:
    """SHA-256 over the rows of a clip table and the content of its files: changes when the data do."""
    digest, contents = hashlib.sha256(), {file: Excerpt(file).content() for file in clips["file"].unique()}
    for row in clips[["file", "start_s", "end_s", "label", "split"]].itertuples(index=False):
        digest.update(repr((contents[row.file], row.start_s, row.end_s, row.label, row.split)).encode())
    return digest.hexdigest()


def _circumstances(begin: float, clips: int, skipped: int) -> dict[str, Any]:
    return {
        "finished": datetime.now(UTC).isoformat(timespec="seconds"),
        "seconds": round(time.perf_counter() - begin, 2),
        "peak_memory_mb": peak_memory_mb(),
        "clips": clips,
        "clips_skipped": skipped,
        "python": platform.python_version(),
        "machine": platform.machine(),
        "versions": _versions(),
    }


@cache
def _versions() -> dict[str, str]:
    return {name: version(name) for name in ("numpy", "scipy", "pandas", "soundfile", "soxr")}


def _judged(model: Model, predictions: pd.DataFrame, side: str) -> Evaluation | None:
    chosen = predictions[predictions["split"] == side].reset_index(drop=True)
    return judge(model, chosen, side) if len(chosen) else None


def calibrated(
    model: Model, plan: Plan, data: RunData, parts: list[tuple[Model, np.ndarray]]
) -> tuple[Model, pd.DataFrame | None]:
    """Fit the temperature, and the thresholds that the plan wishes for, on the validation side.

    parts : the clips of it, by `unheard_parts`. Returns the model with what was found, and the predictions for that
    side by models that have not learned from it; None where it is empty.
    """
    if not parts:
        return model, None
    rows = np.sort(np.concatenate([own for _, own in parts]))
    table, frames = data.table.iloc[rows], data.frames.take(rows)
    heard = Heard(*(np.empty((len(rows), *size), dtype=np.float32) for size in ((len(model.labels),), (0,), ())))
    for part, own in parts:
        said, at = hear(part, data.table.iloc[own], data.frames.take(own)), np.searchsorted(rows, own)
        heard.logits[at], heard.highest[at] = said.logits, said.highest
    answers = judge(model, with_predictions(model, table, frames, heard), "validation").answers
    temperature = fit_temperature(answers.scores, answers.truth, overlapping=model.overlapping)
    model = replace(model, temperature=temperature)
    scores = at_temperature(answers.scores, temperature, overlapping=model.overlapping)
    model = with_thresholds(model, replace(answers, scores=scores), plan.thresholds)
    return model, with_predictions(model, table, frames, heard)


def write_table(table: pd.DataFrame, path: Path, *, index: bool = False) -> None:
    """Write a table of numbers as CSV, whole or not at all."""
    with whole_file(path) as beside:
        table.to_csv(
            beside,
            index=index,
            index_label="label" if index else None,
            lineterminator="\r\n",
            errors="backslashreplace",
        )


def _write_skipped(data: RunData, path: Path) -> None:
    """List the clips that could not be used with the reason; no file when there are none."""
    path.unlink(missing_ok=True)
    if data.skipped:
        skipped = data.asked.iloc[list(data.skipped)].assign(reason=list(data.skipped.values()))
        write_clip_table(skipped, path)
