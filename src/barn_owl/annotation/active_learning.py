"""Active learning: which unlabeled clips to label next.

Clips are chosen greedily to maximize coverage: the sum over all clips of the similarity to the nearest chosen or
labeled clip, weighted by the model's uncertainty and by the rarity of the likely label. The sum is submodular, so the
greedy choice reaches at least 1 - 1/e of the optimum (G. Nemhauser, L. Wolsey, M. Fisher, "An Analysis of
Approximations for Maximizing Submodular Set Functions", Mathematical Programming 14, 1978).
"""

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from functools import partial

import numpy as np
import pandas as pd
import scipy

from barn_owl.annotation.harvesting import CONTEXT_S, cut_parts, sound_row
from barn_owl.annotation.similar_sounds import example_of
from barn_owl.audio import audio_info
from barn_owl.clips import check_clip_table, load_frames
from barn_owl.clips.labels import labels_in
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import AudioError, TableError
from barn_owl.evaluate.predictions import clip_outputs, with_predictions
from barn_owl.model import Model
from barn_owl.model.loading import ModelLike, as_model
from barn_owl.parallel import each

LONG_S = 20.0
"""Files longer than this are recordings; parts of them are proposed."""
PRINCIPAL = 30
REACH = 0.1
"""Squared distance up to which two clips are redundant, relative to the median distance."""
SURE = 0.05
"""Weight of a clip the model is certain of: small but not zero, as the model may be wrong."""
UNSURE = 0.5
"""Uncertainty from which the two likeliest labels are the reason of a proposal."""
PLACE = ["file", "start_s", "end_s"]
SEEN = 3000
"""Clips that cover is reckoned over; of more, a random part."""


def propose(
    clips: TableOrPath,
    *,
    count: int = 50,
    model: ModelLike | None = None,
    known: TableOrPath | None = None,
    workers: int = 2,
    seed: int = 0,
    progress: Callable[[float, float], None] | None = None,
) -> pd.DataFrame:
    """Propose the clips that are most useful to label next, in this order.

    Parameters
    ----------
    clips : pd.DataFrame
        A clip table; labels are ignored. Long files without times are recordings; their parts
        that stand out of their quiet are proposed.
    count : int
        Number of clips.
    model : Model | None
        Model whose uncertainty is used. None: diversity only.
    known : pd.DataFrame | None
        Labeled clips, which need not be covered again; with a model, clips that are likely to have a rare label come
        first.
    workers : int
        Number of parallel workers.
    seed : int
        Seed of all random choices.
    progress : Callable[[float, float], None] | None
        Called with the amount done and in all.

    Returns
    -------
    pd.DataFrame
        The chosen rows with ``rank`` from 1 and ``why``; with a model also ``predicted`` and its ``score``.

    Raises
    ------
    TableError
        If there are no clips, or none is usable.

    Examples
    --------
    >>> proposed = barn_owl.annotation.propose(barn_owl.read_clip_table("clips.csv"), count=3)
    >>> proposed["rank"].tolist()
    [1, 2, 3]
    """
    model = None if model is None else as_model(model)
    clips = as_clip_table(clips, "clips")
    known = None if known is None else as_clip_table(known, "known")
    table = _candidates(check_clip_table(clips, where="clips to propose from"), workers)
    if not len(table):
        raise TableError("there are no clips to propose")
    before = table.iloc[:0] if known is None else check_clip_table(known, where="known clips")
    labeled, both = len(before), pd.concat([before[PLACE], table[PLACE]], ignore_index=True)
    rows, kept = _rows(both, workers, progress)
    chosen_before = np.flatnonzero(kept < labeled)
    own = kept >= labeled
    table = table.iloc[kept[own] - labeled].reset_index(drop=True)
    if not len(table):
        raise TableError("none of the clips can be used")
    unsure = rare = np.ones(len(table))
    doubts = np.full(len(table), "", dtype=object)
    if model is not None:
        table, unsure, rare, doubts, used = _doubted(model, table, before.get("label", []), workers)
        keep = np.flatnonzero(own)[used]
        rows = np.concatenate([rows[chosen_before], rows[keep]])
    weights = np.concatenate([np.zeros(len(chosen_before)), unsure * rare])
    order, gains = covering(rows, weights, len(chosen_before), count, np.random.default_rng(seed))
    best = table.iloc[order].reset_index(drop=True)
    like = (gains / max(gains.max(initial=0), 1e-9)).round(3)
    alike = _represented(rows[len(chosen_before) :], order)
    why = [
        "; ".join(filter(None, [str(doubts[row]) if unsure[row] > UNSURE else "", _like(count)]))
        for row, count in zip(order, alike, strict=True)
    ]
    return best.assign(rank=np.arange(1, len(best) + 1), gain=like, why=why)


def _represented(rows: np.ndarray, chosen: np.ndarray) -> np.ndarray:
    """Count the other clips that are nearer to each chosen clip than to the other chosen clips."""
    nearest = scipy.spatial.distance.cdist(rows, rows[chosen], "sqeuclidean").argmin(axis=1)
    return np.asarray(np.bincount(nearest, minlength=len(chosen)) - 1).clip(0)


def _like(count: int) -> str:
    return (
        f"nearest to {count} other clips" if count > 1 else "nearest to one other clip" if count else "like no other"
    )


def _candidates(clips: pd.DataFrame, workers: int) -> pd.DataFrame:
    """Clips as they are, and the parts of long files."""
    whole = clips[clips["start_s"].isna() & clips["end_s"].isna()]
    long = [row for row, file in zip(whole.index, whole["file"], strict=True) if _length_s(file) > LONG_S]
    parts = [clips.drop(index=long)]
    files = list(clips.loc[long, "file"])
    for file, cut in zip(files, each(partial(cut_parts, cache=None), files, workers), strict=True):
        if not isinstance(cut, str):
            times = cut[1]
            start, end = np.maximum(times[:, 0] - CONTEXT_S, 0).round(3), (times[:, 1] + CONTEXT_S).round(3)
            parts.append(pd.DataFrame({"file": file, "start_s": start, "end_s": end}))
    joined = pd.concat(parts, ignore_index=True)
    return joined.assign(label=joined["label"].fillna("") if "label" in joined else "")


def _length_s(file: str) -> float:
    try:
        return audio_info(file).duration_s
    except AudioError:
        return 0.0  # reading it reports why


def _rows(
    clips: pd.DataFrame, workers: int, progress: Callable[[float, float], None] | None
) -> tuple[np.ndarray, np.ndarray]:
    """Return principal components of the sound of clips, and the rows that could be read."""
    found, kept = [], []
    for number, row in enumerate(each(_row_of, clips.to_dict("records"), workers)):
        if row is not None:
            found.append(row)
            kept.append(number)
        if progress:
            progress(number + 1, len(clips))
    if not found:
        raise TableError("none of the clips can be used")
    rows = np.array(found, dtype=np.float32)
    rows = (rows - rows.mean(axis=0)) / (rows.std(axis=0) + np.float32(1e-6))
    directions = scipy.linalg.svd(rows[:: max(1, len(rows) // SEEN)], full_matrices=False)[2][:PRINCIPAL]
    return rows @ directions.T, np.array(kept)


def _row_of(place: dict[str, object]) -> np.ndarray | None:
    try:
        return sound_row(example_of(pd.Series(place)).levels)
    except AudioError:
        return None


def _doubted(
    model: Model, table: pd.DataFrame, known: Iterable[str], workers: int
) -> tuple[pd.DataFrame, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Predictions for clips, their uncertainty, the rarity of their labels, the two likeliest labels in words, and
    the rows that could be read."""
    frames, _, skipped = load_frames(table, model.front_end, model.clips, workers=workers)
    used = np.array([row for row in range(len(table)) if row not in skipped], dtype=int)
    table = table.iloc[used].reset_index(drop=True)
    predicted = with_predictions(model, table, frames, clip_outputs(model, table, frames))
    scores = predicted[[f"score:{label}" for label in model.labels]].to_numpy(dtype=np.float64)
    first, best = np.sort(scores, axis=1), np.argsort(-scores, axis=1)[:, :2]
    doubts = np.array(
        [" or ".join(f"{model.labels[label]} ({row[label]:.2f})" for label in two)
         for row, two in zip(scores, best, strict=True)], dtype=object,
    )  # fmt: skip
    between = np.abs(2 * scores - 1).min(axis=1) if model.multilabel else first[:, -1] - first[:, -2]
    had = Counter(label for text in known for label in labels_in(str(text)))
    rare = rarity(scores, [had[label] for label in model.labels])
    return (
        table.assign(predicted=predicted["predicted"], score=predicted["score"].round(4)),
        1 - between + SURE,
        rare,
        doubts,
        used,
    )


def rarity(scores: np.ndarray, had: Sequence[int]) -> np.ndarray:
    """Rarity of the label each clip is likely to have, ``(clips,)``, with mean 1.

    scores : of each label, ``(clips, labels)``. had : clips of each label that there are.

    >>> rarity(np.array([[1.0, 0.0], [0.0, 1.0]]), [9, 1]).round(2)
    array([0.33, 1.67])
    """
    rare = scores @ (1 / (1 + np.array(had, dtype=float)))
    return np.asarray(rare / max(float(rare.mean()), 1e-9))


def covering(
    rows: np.ndarray, weights: np.ndarray, known: int, count: int, rng: np.random.Generator
) -> tuple[np.ndarray, np.ndarray]:
    """Select rows behind the first `known` greedily by coverage; return their numbers and the gain of each."""
    seen = np.arange(len(rows)) if len(rows) <= SEEN else np.sort(rng.choice(len(rows), SEEN, replace=False))
    distance = scipy.spatial.distance.cdist(rows, rows[seen], "sqeuclidean").astype(np.float32)
    median = float(np.median(distance[distance > 0])) if (distance > 0).any() else 1.0
    alike = np.exp(-distance / (REACH * median))
    covered = alike[:known].max(axis=0) if known else np.zeros(len(seen), dtype=np.float32)
    counted = weights[seen].astype(np.float32)
    free = np.arange(len(rows)) >= known
    order, gains = [], []
    for _ in range(min(count, int(free.sum()))):
        gain = np.maximum(alike - covered, 0) @ counted
        gain[~free] = -1
        best = int(gain.argmax())
        free[best] = False
        order.append(best - known)
        gains.append(float(gain[best]))
        covered = np.maximum(covered, alike[best])
    return np.array(order, dtype=int), np.array(gains)
