"""Writing the files of a run."""

import hashlib
import platform
import time
from dataclasses import asdict, replace
from datetime import UTC, datetime
from functools import cache
from importlib.metadata import version
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from barn_owl.audio import Excerpt
from barn_owl.classifiers.cnn import networks_in
from barn_owl.clips import write_clip_table
from barn_owl.clips.splits import SPLITS
from barn_owl.evaluate import Evaluation
from barn_owl.evaluate.predictions import clip_outputs, with_predictions
from barn_owl.files import atomic_write, write_json
from barn_owl.learn import Fitted, Plan, write_plan
from barn_owl.learn.rehearsal import Rehearsed
from barn_owl.learn.summary import summary
from barn_owl.model import Model
from barn_owl.names import is_url
from barn_owl.runs.baseline import clip_statistics_baseline
from barn_owl.runs.data import RunData
from barn_owl.runs.exemplars import exemplars_to_keep
from barn_owl.runs.memory import peak_memory_mb
from barn_owl.runs.recordings import unlabeled_sounds
from barn_owl.runs.run import BASELINE, EMBEDDINGS, UNLABELED, Run, judge
from barn_owl.tables import write_table


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

    watched : predictions for the validation clips by a model that was not fitted to them; default: the model's own.
    """
    outputs = clip_outputs(model, data.table, data.frames)
    predictions = with_predictions(model, data.table, data.frames, outputs)
    if watched is not None:
        on_side = predictions["split"] == "validation"
        predictions.loc[on_side, watched.columns] = watched.to_numpy()
    judged = {split: _judged(model, predictions, split) for split in SPLITS}
    if rehearsed is not None:
        rehearsed.write(folder)
    used = Plan(**{**plan.model_dump(), "decoding": model.decoding.model_dump()})  # some are found in training
    write_plan(used, folder / "plan.toml", force=True)
    write_clip_table(data.requested, folder / "clips.csv", force=True)
    if fitted.curves:
        write_table(pd.DataFrame([asdict(line) for line in fitted.curves]), folder / "curves.csv", force=True)
    if (found := networks_in(model.classifier)) is not None:
        hop_ms, frame_ms = plan.front_end.hop_ms, plan.front_end.frame_ms
        write_table(summary(found.networks[0], hop_ms, frame_ms), folder / "summary.csv", force=True)
    _write_skipped(data, folder / "skipped.csv")
    (folder / UNLABELED).unlink(missing_ok=True)
    if data.unlabeled.places:
        write_clip_table(unlabeled_sounds(model, data.unlabeled), folder / UNLABELED, force=True)
    write_json(folder / "scores.json", {split: one.as_dict() if one else None for split, one in judged.items()})
    write_json(folder / BASELINE, clip_statistics_baseline(data, multilabel=plan.multilabel))
    if judged["test"] and not judged["test"].multilabel:
        write_table(judged["test"].scores.confusion, folder / "confusion.csv", force=True, index="label")
    with atomic_write(folder / EMBEDDINGS) as beside:
        np.save(beside, outputs.embeddings, allow_pickle=False)
    circumstances = _circumstances(begin, len(data.table), len(data.skipped))
    write_json(folder / "provenance.json", model.provenance | asdict(model.cost) | circumstances)
    model = replace(model, exemplars=exemplars_to_keep(plan, data) if found is not None else [])
    model.save(folder / "model.safetensors", force=True)
    # Last, as a run is finished when it is there.
    write_clip_table(predictions, folder / "predictions.csv", force=True)
    return Run(folder, urls=any(map(is_url, data.table["file"])))


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


def _judged(model: Model, predictions: pd.DataFrame, split: str) -> Evaluation | None:
    chosen = predictions[predictions["split"] == split].reset_index(drop=True)
    return judge(model, chosen, split) if len(chosen) else None


def _write_skipped(data: RunData, path: Path) -> None:
    """List the clips that could not be used with the reason; no file when there are none."""
    path.unlink(missing_ok=True)
    if data.skipped:
        skipped = data.requested.iloc[list(data.skipped)].assign(reason=list(data.skipped.values()))
        write_clip_table(skipped, path, force=True)
