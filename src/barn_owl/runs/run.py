"""A run: its folder, model and evaluation."""

import html
import json
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any, TypeAlias

import numpy as np
import pandas as pd

from barn_owl.classifiers.kind import NetworkKind, kind_of
from barn_owl.clips import join_multilabel, labels_in, read_clip_table
from barn_owl.clips.splits import SPLITS
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import ModelError, TableError
from barn_owl.evaluate import Evaluation, predict
from barn_owl.evaluate.evaluation import leaks
from barn_owl.evaluate.mistakes import NEAREST, nearest_clips
from barn_owl.files import is_file
from barn_owl.learn import Plan, read_plan
from barn_owl.learn.plan import closed_recordings
from barn_owl.learn.rehearsal import EXPECTATION
from barn_owl.model import Model, load_model
from barn_owl.runs.caveats import rehearsal_caveats
from barn_owl.runs.groups import GroupSpread, spread_of_groups
from barn_owl.runs.history import TrainingHistory, read_training_history
from barn_owl.wording import nearest_path

EMBEDDINGS = "embeddings.npy"
BASELINE = "baseline.json"
"""Balanced accuracy by split of a logistic regression on clip statistics."""
UNLABELED = "unlabeled.csv"
"""Sounds of the plan's recordings, with the labels that the model is sure of."""
CHECKPOINT = "checkpoint.safetensors"
"""File of a training in progress; deleted at its end."""


@dataclass(frozen=True, repr=False)
class Run:
    """The folder of a training run.

    Attributes
    ----------
    folder : Path
        Folder of the run.
    urls : bool
        Whether URLs in its tables and plan may be opened.

    Examples
    --------
    >>> run = barn_owl.open_run("first")
    >>> run.plan.classifier, run.model.labels
    ('logistic', ['hiss', 'hum', 'still', 'tick'])
    """

    folder: Path
    urls: bool = False
    """Whether clips that are URLs may be opened; see `barn_owl.read_clip_table`."""

    def __repr__(self) -> str:
        """Summarize classifier and scores in a line."""
        reached = self.tested.scores.overall["value"].get("balanced_accuracy") if self.tested else None
        skill = "not tested" if reached is None else f"balanced accuracy {reached:.2f} on the test clips"
        return f"Run({str(self.folder)!r}: {self.plan.classifier}, {len(self.model.labels)} labels, {skill})"

    @cached_property
    def plan(self) -> Plan:
        """The plan, with every default spelled out."""
        plan = read_plan(self.folder / "plan.toml", urls=True)
        return plan if self.urls else closed_recordings(plan)

    @cached_property
    def model(self) -> Model:
        """The trained model."""
        return load_model(self.folder)

    @cached_property
    def predictions(self) -> pd.DataFrame:
        """The clip table of the run with splits, predictions and scores."""
        table = read_clip_table(self.folder / "predictions.csv", urls=self.urls)
        if "split" not in table:
            raise ModelError(f"{self.folder / 'predictions.csv'} has no column 'split'; train the run again")
        return table

    @property
    def provenance(self) -> dict[str, Any]:
        """Versions, seed, fingerprint of the data, times, peak memory, and cost of the model."""
        return self._json("provenance.json")

    def _json(self, name: str) -> dict[str, Any]:
        """Read a JSON file of the run. Raises ModelError when it is missing or damaged."""
        try:
            return dict(json.loads((self.folder / name).read_text(encoding="utf-8")))
        except (OSError, ValueError, TypeError, RecursionError) as error:
            raise ModelError(f"{self.folder / name} is missing or damaged ({error}); train the run again") from error

    @cached_property
    def expectation(self) -> dict[str, Any] | None:
        """Predicted scores on recordings, from the rehearsal, if there is one. See `Rehearsed.expectation`."""
        return self._json(EXPECTATION) if is_file(self.folder / EXPECTATION) else None

    @cached_property
    def _baseline(self) -> dict[str, float]:
        """Balanced accuracy by split of a plain classifier; none for ensembles and reduced models."""
        return self._json(BASELINE) if is_file(self.folder / BASELINE) else {}

    @cached_property
    def tested(self) -> Evaluation | None:
        """The evaluation of the test split; None where no clip is on it."""
        return self.evaluate() if (self.predictions["split"] == "test").any() else None

    def _repr_html_(self) -> str:
        """Return scores on clips and predicted scores on recordings as HTML, for notebooks."""
        parts = [f"<h4>{html.escape(str(self.folder))}</h4>"]
        if self.tested is not None:
            parts.append(self.tested._repr_html_())
        if self.expectation is not None:
            caveats = "".join(f"<li>{html.escape(caveat)}</li>" for caveat in self.recording_caveats)
            by_label = pd.DataFrame(self.expectation["labels"]).T
            parts.append(f"<p>In a recording, by the rehearsal:</p><ul>{caveats}</ul>{by_label.round(2).to_html()}")
        return "".join(parts)

    @cached_property
    def group_spread(self) -> GroupSpread:
        """Accuracy by held-out group, and the range to expect of a new group; empty for clips with several labels."""
        labels = [] if self.model.multilabel else self.model.event_labels
        return spread_of_groups(self.predictions, labels)

    @property
    def recording_caveats(self) -> list[str]:
        """Reasons for caution about using the model on recordings, with remedies."""
        validation = (self._json("scores.json").get("validation") or {}).get("balanced_accuracy")
        return [] if self.expectation is None else rehearsal_caveats(self.expectation, validation)

    @property
    def curves(self) -> pd.DataFrame:
        """Losses and validation recall by epoch."""
        path = self.folder / "curves.csv"
        if not is_file(path):
            raise ModelError(f"{self.folder} has no curves of its own; an ensemble's are in the runs of its members")
        return pd.read_csv(path)

    @cached_property
    def embeddings(self) -> np.ndarray:
        """Embeddings of the rows of the predictions, float32 ``(clips, features)``.

        Raises
        ------
        ModelError
            If the run has none, such as a run of an older version.
        """
        path = self.folder / EMBEDDINGS
        try:
            # Mapped first: a header may promise more than the file has.
            rows = np.array(np.load(path, mmap_mode="r", allow_pickle=False))
        except (OSError, ValueError, EOFError) as error:
            raise ModelError(
                f"{path} is missing or damaged; train the run again to see which clips are alike"
            ) from error
        if len(rows) != len(self.predictions):
            raise ModelError(
                f"{path} has {len(rows)} rows, predictions.csv {len(self.predictions)}; train the run again"
            )
        return rows

    def nearest_training_clips(self, row: int, label: str, count: int = NEAREST) -> pd.DataFrame:
        """Training clips of a label that sound most like row `row` of the predictions to the model, nearest first.

        Parameters
        ----------
        row : int
            Row number of the predictions.
        label : str
            Label.
        count : int
            Number of clips.
        """
        known = np.flatnonzero((self.predictions["split"] == "train").to_numpy())
        known = known[known != row]
        labels = self.predictions["label"].to_numpy(dtype=object)[known]
        nearest = nearest_clips(self.embeddings[row], self.embeddings[known], labels, label, count=count)
        return self.predictions.iloc[known[nearest]]

    @property
    def likely_wrong_labels(self) -> pd.DataFrame:
        """Clips of all splits that may be mislabeled; see `Evaluation.likely_wrong_labels`.

        From the training split, only clips that the model could not even fit.
        """
        return judge(self.model, self.predictions, "all").likely_wrong_labels

    @cached_property
    def splits(self) -> pd.DataFrame:
        """Scores by split: ``clips``, ``accuracy``, ``balanced_accuracy``, ``macro_f1``."""
        rows = {}
        for split in SPLITS:
            chosen = self.predictions["split"] == split
            if chosen.any():
                one = self.evaluate(split=split)
                overall = one.scores.overall["value"]
                rows[split] = {
                    "clips": len(one.arrays),
                    "accuracy": overall.iloc[0],
                    **overall[["balanced_accuracy", "macro_f1", "log_loss"]],
                }
        return pd.DataFrame(rows).T.rename_axis("split").astype({"clips": int})

    @property
    def caveats(self) -> list[str]:
        """Reasons for caution about the whole run: overfitting, leaks between its splits."""
        found = leaks(self.predictions)
        if is_file(self.folder / "curves.csv"):
            found += self.learning.warnings
        return found

    @property
    def learning(self) -> TrainingHistory:
        """How the training went: best epoch, overfitting."""
        return read_training_history(
            self.curves,
            self._json("scores.json"),
            by_epoch=isinstance(kind_of(self.model.classifier.name), NetworkKind),
            refitted=self.plan.training.refit > 0,
        )

    def evaluate(
        self,
        clips: TableOrPath | None = None,
        *,
        split: str = "test",
        workers: int = 2,
        progress: Callable[[int, int], None] | None = None,
    ) -> Evaluation:
        """Evaluate the model on a split of the run's clips, or on different clips.

        Parameters
        ----------
        clips : pd.DataFrame | str | Path | None
            Labeled clips; None, or the name of a split, for clips of the run.
        split : str
            Split of the run: ``train``, ``validation`` or ``test``; with `clips`, their name in the evaluation.
        workers : int
            Number of parallel workers.
        progress : Callable[[int, int], None] | None
            Called with the clips done and their number.

        Raises
        ------
        TableError
            If no clip is labeled, or a label is unknown to the model.
        """
        if isinstance(clips, str) and clips in SPLITS:
            return self.evaluate(split=clips)
        if clips is None:
            rows = np.flatnonzero(self.predictions["split"] == split)
            if not len(rows):
                raise TableError(f"{self.folder} has no clips in the {split} split; splits are {', '.join(SPLITS)}")
            own = judge(self.model, self.predictions.iloc[rows].reset_index(drop=True), split)
            return replace(own, rows=rows, clip_statistics=self._baseline.get(split))
        chosen = as_clip_table(clips)
        chosen = chosen[chosen["label"] != ""].reset_index(drop=True)
        if not len(chosen):
            raise TableError("the table has no labeled clips to judge")
        if self.model.multilabel:
            chosen = join_multilabel(chosen)
        known = set(self.model.labels)
        unknown = sorted(
            {label for text in chosen["label"] for label in (labels_in(text) if self.model.multilabel else [text])}
            - known
        )
        if unknown:
            raise TableError(
                f"the model does not know {', '.join(map(repr, unknown))}; it knows {', '.join(self.model.labels)}"
            )
        predictions, skipped = predict(self.model, chosen, workers=workers, progress=progress)
        return judge(self.model, predictions, split, skipped)


def judge(model: Model, predictions: pd.DataFrame, split: str, skipped: dict[int, str] | None = None) -> Evaluation:
    """Evaluate predictions against their labels."""
    majority = model.provenance.get("majority_label", "")
    return Evaluation(
        split=split,
        predictions=predictions,
        labels=model.labels,
        majority=majority if majority in model.labels else model.labels[0],
        multilabel=model.multilabel,
        background=tuple(label for label in model.labels if label not in model.event_labels),
        thresholds=model.thresholds,
        skipped=skipped or {},
    )


RunLike: TypeAlias = Run | str | Path
"""Type of arguments that are runs: see `as_run`."""


def as_run(run: RunLike, name: str = "run") -> Run:
    """Return an argument of a public function as a run: a run, or the path of its folder.

    Raises ModelError if the folder is not of a finished run, and TypeError for another type, with `name`.
    """
    if isinstance(run, Run):
        return run
    if not isinstance(run, str | Path):
        raise TypeError(f"{name} must be a run or the path of its folder, got {type(run).__name__}")
    return open_run(run)


def open_run(folder: str | Path, *, urls: bool = False) -> Run:
    """Open the folder of a finished run.

    Parameters
    ----------
    folder : str | Path
        The folder.
    urls : bool
        Whether clips that are URLs may be opened; see `barn_owl.read_clip_table`.

    Raises
    ------
    ModelError
        If the folder has no finished run.

    Examples
    --------
    >>> barn_owl.open_run("first").model.labels
    ['hiss', 'hum', 'still', 'tick']
    """
    folder = Path(folder)
    missing = [name for name in ("plan.toml", "model.safetensors", "predictions.csv") if not is_file(folder / name)]
    if missing and is_file(folder / CHECKPOINT):
        raise ModelError(f"{folder} is an unfinished training; resume the training with the same clips")
    if missing:
        raise ModelError(
            f"{folder} is not the folder of a finished run: {', '.join(missing)} is missing{nearest_path(folder)}"
        )
    return Run(folder, urls)
