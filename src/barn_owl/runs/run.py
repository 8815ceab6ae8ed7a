"""The folder of a run, and judging its model."""

import json
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import pandas as pd

from barn_owl.classify import Model, Plan, load_model, read_plan
from barn_owl.classify.families import NETWORKS
from barn_owl.clips import check_clip_table, join_overlapping, labels_in, read_clip_table
from barn_owl.errors import ModelError, TableError
from barn_owl.evaluate import OverlapScores, Scores, predict, score_labels, score_overlapping
from barn_owl.runs.learning import Learning, read_learning

CHECKPOINT = "checkpoint.safetensors"
"""What a training in progress leaves in its folder; gone when it is over."""


@dataclass(frozen=True, kw_only=True)
class Evaluation:
    """Predictions and scores of one side of the split, or of a table of its own.

    skipped : the reason for each clip that could not be used, by row number of the table judged.
    """

    side: str
    predictions: pd.DataFrame
    scores: Scores | OverlapScores
    skipped: dict[int, str]


@dataclass(frozen=True)
class Run:
    """A folder with all that a training run produced."""

    folder: Path

    @cached_property
    def plan(self) -> Plan:
        """The plan, with every default spelled out."""
        return read_plan(self.folder / "plan.toml")

    @cached_property
    def model(self) -> Model:
        """The trained model."""
        return load_model(self.folder)

    @cached_property
    def predictions(self) -> pd.DataFrame:
        """The clip table of the run with sides, predictions and scores."""
        return read_clip_table(self.folder / "predictions.csv")

    @property
    def provenance(self) -> dict[str, Any]:
        """Versions, seed, fingerprint of the data, times, peak memory, what the model costs."""
        return dict(json.loads((self.folder / "provenance.json").read_text(encoding="utf-8")))

    @property
    def curves(self) -> pd.DataFrame:
        """Losses and validation recall by epoch."""
        path = self.folder / "curves.csv"
        if not path.is_file():
            raise ModelError(f"{self.folder} has no curves of its own; an ensemble's are in the runs of its members")
        return pd.read_csv(path)

    @property
    def learning(self) -> Learning:
        """How the training went: best epoch, overfitting."""
        scores = json.loads((self.folder / "scores.json").read_text(encoding="utf-8"))
        return read_learning(self.curves, scores, by_epoch=self.model.family.name in NETWORKS)

    def evaluate(
        self,
        clips: pd.DataFrame | None = None,
        *,
        side: str = "test",
        workers: int = 2,
        progress: Callable[[int, int], None] | None = None,
    ) -> Evaluation:
        """Judge the model on one side of its own split, or on `clips` (all of them; `side` is then a name).

        Raises TableError when there is nothing labelled to judge, or a label is unknown to the model.
        """
        if clips is None:
            chosen = self.predictions[self.predictions["split"] == side].reset_index(drop=True)
            if not len(chosen):
                raise TableError(f"{self.folder}: no clip is on the {side} side of the split")
            return judge(self.model, chosen, side)
        chosen = check_clip_table(clips)
        chosen = chosen[chosen["label"] != ""].reset_index(drop=True)
        if not len(chosen):
            raise TableError("the table has no labelled clips to judge")
        if self.model.overlapping:
            chosen = join_overlapping(chosen)
        known = set(self.model.labels)
        unknown = sorted(
            {label for text in chosen["label"] for label in (labels_in(text) if self.model.overlapping else [text])}
            - known
        )
        if unknown:
            raise TableError(
                f"the model does not know {', '.join(map(repr, unknown))}; it knows {', '.join(self.model.labels)}"
            )
        predictions, skipped = predict(self.model, chosen, workers=workers, progress=progress)
        return judge(self.model, predictions, side, skipped)


def judge(model: Model, predictions: pd.DataFrame, side: str, skipped: dict[int, str] | None = None) -> Evaluation:
    """Score predictions against the labels beside them."""
    truth, said = predictions["label"].tolist(), predictions["predicted"].fillna("").tolist()
    scores: Scores | OverlapScores
    if model.overlapping:
        scores = score_overlapping(truth, said, model.labels)
    else:
        scores = score_labels(truth, said, model.labels, majority=model.provenance["majority_label"])
    return Evaluation(side=side, predictions=predictions, scores=scores, skipped=skipped or {})


def open_run(folder: str | Path) -> Run:
    """Open the folder of a finished run. Raises ModelError when it is not one."""
    folder = Path(folder)
    missing = [
        name for name in ("plan.toml", "model.safetensors", "predictions.csv") if not (folder / name).is_file()
    ]
    if missing and (folder / CHECKPOINT).is_file():
        raise ModelError(
            f"{folder} is a training that is not over; go on with barn-owl train CLIPS --run {folder} --resume"
        )
    if missing:
        raise ModelError(f"{folder} is not the folder of a finished run: {', '.join(missing)} is missing")
    return Run(folder)
