"""Predictions of a model for the clips of a table."""

import logging
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
import pandas as pd
from threadpoolctl import threadpool_limits

from barn_owl.arrays import quantile
from barn_owl.clips import ClipFrames, join_labels, load_frames
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.evaluate.calibration import decided
from barn_owl.evaluate.prediction_arrays import LIKELY, SCORE
from barn_owl.model import Model
from barn_owl.model.loading import ModelLike, as_model

logger = logging.getLogger(__name__)

UNDECIDED, NONE = "(undecided)", "(none)"
"""Predicted label where no score reaches its threshold, and where no label is active."""
PEAK_SCORE = "peak_score"
"""Column of the highest score that any label has at any moment of a clip: tagging compares it with ``threshold``."""
LOUD, QUIET = 0.9, 0.1
"""Shares of the frames of a clip, for the levels of sound and background."""


def predict(
    model: ModelLike, clips: TableOrPath, *, workers: int = 2, progress: Callable[[int, int], None] | None = None
) -> tuple[pd.DataFrame, dict[int, str]]:
    """Score every clip of a table.

    Parameters
    ----------
    model : Model | Run | str | Path
        Model, run, or the path of either.
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    workers : int
        Number of parallel workers.
    progress : Callable[[int, int], None] | None
        Called with the number of items done and in all.

    Returns
    -------
    tuple[pd.DataFrame, dict[int, str]]
        The table with ``predicted``, its ``score`` and a column ``score:LABEL`` for each label of the model, without
        unusable clips; and the reason for each unusable clip, by row number.

    Raises
    ------
    TableError
        If the clip table is invalid.

    Examples
    --------
    >>> model = barn_owl.load_model("first")
    >>> table, skipped = barn_owl.predict(model, barn_owl.read_clip_table("clips.csv"))
    >>> len(table), skipped
    (48, {})
    """
    model = as_model(model)
    clips = as_clip_table(clips, "clips")
    missing = [name for name in model.extra_columns.names if name not in clips]
    if missing:
        logger.warning(
            "this model also looks at %s, which the table does not have: taken as average", ", ".join(missing)
        )
    frames, kept, skipped = load_frames(clips, model.front_end, model.clips, workers=workers, progress=progress)
    return with_predictions(model, kept, frames, clip_outputs(model, kept, frames)), skipped


class ClipOutputs(NamedTuple):
    """Outputs of a model for clips, float32: log-odds ``(clips, labels)``, embeddings ``(clips, features)``, and the
    highest score of any label at any step ``(clips,)``."""

    logits: np.ndarray
    embeddings: np.ndarray
    highest: np.ndarray


def clip_outputs(model: Model, clips: pd.DataFrame, frames: ClipFrames) -> ClipOutputs:
    """Compute the outputs of `model` for clips with these rows and frames, before its temperature."""
    extras = model.extra_columns.rows(clips)
    # The matrices are small: a second thread inside a product costs more than it brings.
    with threadpool_limits(limits=1, user_api="blas"):
        outputs = [model.clip(frames[clip], extras[clip]) for clip in range(len(frames))]
    if not outputs:
        return ClipOutputs(np.empty((0, len(model.labels)), np.float32), np.empty((0, 0), np.float32), np.empty(0))
    return ClipOutputs(*(np.stack(parts) for parts in zip(*outputs, strict=True)))


def with_predictions(model: Model, clips: pd.DataFrame, frames: ClipFrames, heard: ClipOutputs) -> pd.DataFrame:
    """Add the predictions of `model` to the rows of `clips` with their frames, and duration, level and clarity.

    ``predicted`` is the label with the highest score, before thresholds; of overlapping labels, all above their
    thresholds. ``loud_frames_db`` is the level of the loudest tenth of the frames, mean over bands, and
    ``above_noise_db`` its distance to the quietest tenth; existing columns of these names stay. ``peak_score`` is the
    highest score of any label at any step of the clip.
    """
    scores = model.clip_scores(heard.logits)
    answers = pd.DataFrame({f"{SCORE}{label}": scores[:, number] for number, label in enumerate(model.labels)})
    answers[PEAK_SCORE] = heard.highest.astype(np.float64).round(4)
    levels = _levels(model, frames)
    own = clips.drop(columns=[name for name in (*answers, "predicted", "score") if name in clips]).reset_index(
        drop=True
    )
    new = [name for name in levels if name not in own]
    return say(model, pd.concat([own, levels[new], answers], axis=1))


def say(model: Model, scored: pd.DataFrame) -> pd.DataFrame:
    """Fill in ``predicted`` and ``score`` from the scores of a table."""
    columns = [f"{SCORE}{label}" for label in model.labels]
    scores = scored[columns].to_numpy(dtype=np.float64)
    best = scores.argmax(axis=1)
    predicted = [model.labels[label] for label in best]
    if model.multilabel:
        least = np.array([model.thresholds.get(label, LIKELY) for label in model.labels])
        predicted = [join_labels([model.labels[n] for n in np.flatnonzero(row > least)]) for row in scores]
    added = ["predicted", "score", *columns]
    highest = scores[np.arange(len(best)), best].clip(0, 1)
    before = [name for name in scored if name not in added]
    return scored.assign(predicted=predicted, score=highest)[before + added]


def undecided(model: ModelLike, predictions: pd.DataFrame) -> np.ndarray:
    """Which rows have no score above the threshold of its label, boolean ``(rows,)``.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model.
    predictions : pd.DataFrame
        Table with ``predicted`` and ``score:LABEL`` for each label.
    """
    model = as_model(model)
    scores = predictions[[f"{SCORE}{label}" for label in model.labels]].to_numpy(dtype=np.float64)
    if model.multilabel:
        return np.asarray(predictions["predicted"].fillna("") == "")
    return ~decided(scores, model.labels, model.thresholds)


def rejected(model: ModelLike, predictions: pd.DataFrame) -> pd.Series:
    """Why clips are rejected by the rule of tagging: no label reaches the score that an event needs.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model.
    predictions : pd.DataFrame
        Table with ``predicted`` and ``score:LABEL`` for each label.

    Returns
    -------
    pd.Series
        Return the reason for each rejected row, "" for the rest. Clips predicted as background are not rejected,
        since background is a rejection already.
    """
    model = as_model(model)
    needed = predictions["predicted"].map(lambda label: model.decoding.of(str(label)).threshold)
    is_faint = (predictions[PEAK_SCORE] < needed) & ~predictions["predicted"].isin(model.background)
    reasons = [
        f"no label is active in it: {heard:.2f} at most, an event needs {least:.2f}" if faint else ""
        for faint, heard, least in zip(is_faint, predictions[PEAK_SCORE], needed, strict=True)
    ]
    return pd.Series(reasons, index=predictions.index, dtype=str)


def _levels(model: Model, frames: ClipFrames) -> pd.DataFrame:
    """Return the duration of each clip and, for levels in dB, its level and the level above its background."""
    front_end = model.front_end
    rows = []
    for clip in range(len(frames)):
        levels = frames[clip][:, front_end.level_columns].mean(axis=1)
        quiet, loud = quantile(levels, QUIET), quantile(levels, LOUD)
        seconds = front_end.samples_for(len(levels)) / front_end.rate_hz
        rows.append((round(seconds, 3), round(float(loud), 1), round(float(loud - quiet), 1)))
    table = pd.DataFrame(rows, columns=["duration_s", "loud_frames_db", "above_noise_db"])
    return table if front_end.level_columns.stop and _in_db(model) else table[["duration_s"]]


def _in_db(model: Model) -> bool:
    return any(base == "log-mel" and not times for base, times, *_ in model.front_end.layout)
