"""From a clip table and a plan to the folder of a run."""

import hashlib
import logging
import platform
import tempfile
import time
from collections.abc import Callable
from dataclasses import asdict
from datetime import UTC, datetime
from importlib.metadata import version
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from barn_owl.classify import (
    ClipFrames,
    Examples,
    Fitted,
    Model,
    Plan,
    Progress,
    fit,
    load_frames,
    write_plan,
)
from barn_owl.clips import check_clip_table, split_clips, write_clip_table
from barn_owl.clips.duplicates import file_families
from barn_owl.clips.table import SIDES
from barn_owl.errors import PlanError, TableError
from barn_owl.evaluate.predictions import with_predictions
from barn_owl.features.cache import excerpts
from barn_owl.files import claim_folder, whole_file, write_json
from barn_owl.runs.memory import peak_memory_mb
from barn_owl.runs.run import Run, judge

logger = logging.getLogger(__name__)


def train(
    clips: pd.DataFrame,
    folder: str | Path,
    plan: Plan | None = None,
    *,
    workers: int = 2,
    force: bool = False,
    cache: str | Path | None = None,
    reading: Callable[[int, int], None] | None = None,
    watch: Callable[[Progress], None] | None = None,
) -> Run:
    """Split the clips, fit the family of `plan`, judge it and write the folder of the run.

    clips : a clip table; rows with a blank label are left out, sides that are named already are kept.
    folder : the run's folder; it must be new or empty unless `force`, which replaces the files of a run.
    cache : a folder to keep computed frames in, so that the next training starts at once; None for a temporary
        one, as the frames of a large data set do not fit into memory either way.
    reading : called with the clips read and their number; watch : called after each epoch.

    The model and the tables are written when training is over, or is stopped by Ctrl-C after an epoch: then
    the best weights so far are kept and KeyboardInterrupt is raised once everything is written.
    Raises TableError, PlanError, TrainingError or OutputError, and leaves no half-written run.
    """
    plan, begin = plan or Plan(), time.perf_counter()
    clips = check_clip_table(clips)
    labelled = clips[clips["label"] != ""].reset_index(drop=True)
    if len(labelled) < len(clips):
        logger.warning("%d of %d rows have no label and are left out", len(clips) - len(labelled), len(clips))
    _refuse_many_labels(labelled)
    sided = _split(labelled, plan)
    _refuse_unknown_background(plan, labelled)
    was_there = Path(folder).exists()
    folder = claim_folder(folder, force=force)
    temporary = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
    try:
        frames, kept, skipped = load_frames(
            sided, plan.front_end, plan.clips, workers=workers, cache=cache or temporary.name, progress=reading
        )
        labels = sorted(kept["label"].unique())
        fitted = fit(plan, labels, *_sides(frames, kept, labels), workers=workers, watch=watch)
        model = _model(plan, labels, fitted, kept)
        predictions = with_predictions(model, kept, frames)
    except BaseException:
        if not was_there:
            folder.rmdir()  # still empty: nothing is written before this point
        raise
    finally:
        temporary.cleanup()
    scores = {side: _scores(model, predictions, side) for side in SIDES}
    write_plan(plan, folder / "plan.toml")
    _write_csv(pd.DataFrame([asdict(line) for line in fitted.curves]), folder / "curves.csv")
    _write_skipped(sided, skipped, folder / "skipped.csv")
    write_json(folder / "scores.json", scores)
    write_json(folder / "provenance.json", model.provenance | _circumstances(begin, len(kept), len(skipped)))
    model.save(folder / "model.safetensors")
    # Last, as a run is finished when it is there.
    write_clip_table(predictions, folder / "predictions.csv")
    if scores["test"]:
        _write_csv(
            judge(model, _on(predictions, "test"), "test").scores.confusion,
            folder / "confusion.csv",
            index=True,
        )
    if fitted.interrupted:
        raise KeyboardInterrupt
    return Run(folder)


def _split(clips: pd.DataFrame, plan: Plan) -> pd.DataFrame:
    """Split clips; files with the same bytes stay on one side, whatever they are called."""
    if "family" in clips:
        return split_clips(clips, plan.split, seed=plan.seed)
    known = clips.assign(family=file_families(clips))
    return split_clips(known, plan.split, seed=plan.seed).drop(columns="family")


def _refuse_many_labels(clips: pd.DataFrame) -> None:
    twice = clips.duplicated(["file", "start_s", "end_s"])
    if twice.any():
        row = clips[twice].iloc[0]
        raise TableError(
            f"{row['file']} has more than one label for the same excerpt (one is {row['label']!r}); "
            "one label a clip can be learnt, so keep one of the rows"
        )


def _refuse_unknown_background(plan: Plan, clips: pd.DataFrame) -> None:
    labels = sorted(clips["label"].unique())
    unknown = [label for label in plan.background if label not in labels]
    if unknown:
        raise PlanError(f"background: no clip is labelled {unknown[0]!r}; there are {', '.join(labels)}")


def _sides(frames: ClipFrames, clips: pd.DataFrame, labels: list[str]) -> list[Examples]:
    """Training and validation examples."""
    numbers = np.array([labels.index(label) for label in clips["label"]])
    sides = []
    for side in ("train", "validation"):
        rows = np.flatnonzero(clips["split"] == side)
        if not len(rows):
            raise TableError(f"no usable clip is on the {side} side of the split")
        own = clips.iloc[rows]
        sources = excerpts(own["file"], own["start_s"], own["end_s"])
        sides.append(Examples(clips=frames.take(rows), numbers=numbers[rows], sources=sources))
    missing = [label for number, label in enumerate(labels) if number not in sides[0].numbers]
    if missing:
        raise TableError(
            f"no clip of {', '.join(map(repr, missing))} is on the training side: its groups are all elsewhere; "
            'name more groups, or set split.together = "file"'
        )
    return sides


def _model(plan: Plan, labels: list[str], fitted: Fitted, clips: pd.DataFrame) -> Model:
    training = clips[clips["split"] == "train"]
    return Model(
        labels=labels,
        background=plan.background,
        front_end=plan.front_end,
        clips=plan.clips,
        decision=plan.decision,
        mean=fitted.mean,
        deviation=fitted.deviation,
        family=fitted.family,
        provenance={
            "barn_owl": version("barn-owl-audio"),
            "seed": plan.seed,
            "data_fingerprint": fingerprint(clips),
            "training_clips": len(training),
            "majority_label": str(training["label"].value_counts().index[0]),
            "epochs": len(fitted.curves),
            "best_epoch": fitted.best.epoch,
            "interrupted": fitted.interrupted,
        },
    )


def fingerprint(clips: pd.DataFrame) -> str:
    """SHA-256 over the rows of a clip table and the sizes of its files: changes when the data do."""
    digest = hashlib.sha256()
    for row in clips[["file", "start_s", "end_s", "label", "split"]].itertuples(index=False):
        size = Path(row.file).stat().st_size
        digest.update(repr((Path(row.file).name, row.start_s, row.end_s, row.label, row.split, size)).encode())
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
        "versions": {name: version(name) for name in ("numpy", "scipy", "pandas", "soundfile", "soxr")},
    }


def _on(predictions: pd.DataFrame, side: str) -> pd.DataFrame:
    return predictions[predictions["split"] == side].reset_index(drop=True)


def _scores(model: Model, predictions: pd.DataFrame, side: str) -> dict[str, Any] | None:
    chosen = _on(predictions, side)
    return judge(model, chosen, side).scores.as_dict() if len(chosen) else None


def _write_csv(table: pd.DataFrame, path: Path, *, index: bool = False) -> None:
    with whole_file(path) as beside:
        table.to_csv(beside, index=index, index_label="label" if index else None, lineterminator="\r\n")


def _write_skipped(clips: pd.DataFrame, skipped: dict[int, str], path: Path) -> None:
    """List the clips that could not be used with the reason; no file when there are none."""
    path.unlink(missing_ok=True)
    if skipped:
        write_clip_table(clips.iloc[list(skipped)].assign(reason=list(skipped.values())), path)
