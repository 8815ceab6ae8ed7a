"""Harvesting: clips from recordings with weak labels (one label per recording, without times).

Sounds above the background of a recording are cut into parts. A part counts for its label when the most similar parts
of other recordings have the same label; a sound that occurs in all recordings is near all labels. Then a classifier
is trained on the best parts, round by round, with the recording of a part held out when the part is scored.
Recordings with different labels show how often a part reaches a score by chance (J. Elias and S. Gygi, "Target-decoy
search strategy", Nature Methods 4, 2007), which gives the confidence.
"""

import itertools
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
import pandas as pd
import scipy

from barn_owl.annotation.similar_sounds import FRONT_END, pieces_of
from barn_owl.audio.silence import two_threshold_runs
from barn_owl.classifiers.logistic import fit_logistic
from barn_owl.clips import check_clip_table
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import AudioError, TableError
from barn_owl.features import pool
from barn_owl.files import temporary_folder
from barn_owl.parallel import each

BEGIN_DB, END_DB, QUIET_SHARE = 4.0, 2.0, 0.25
"""Level above quiet at which a part begins and ends; quiet is the lower quartile of the level."""
GAP_S, MIN_DURATION_S, MAX_DURATION_S = 0.2, 0.05, 2.0
"""Longest pause within a part, shortest and longest part; longer activity is cut."""
MIN_QUIET_S = 0.4
"""Shortest stretch without a sound that is taken as background."""
MAX_PARTS = 300
"""Largest number of parts per recording, the loudest first, so that a recording without pauses does not outweigh the
rest."""
CONTEXT_S = 0.1
"""Context around a harvested part, since a sound begins before it exceeds the threshold."""
STATISTICS = ("mean", "deviation", "loud", "change", "slope")
TOP = 20.0
"""Largest level of a part above the quiet after scaling, so that loud and faint parts compare."""
PRINCIPAL, NEAREST = 30, 10
"""Principal components in which parts are compared, and largest number of neighbors, one per recording."""
TEACHING_SHARE = 0.3
"""Share of a recording's parts that its label is trained on; sounds fill less, but their best parts suffice."""
PENALTY = 0.01
"""L2 penalty of the logistic regression on parts."""
MAX_ROUNDS, PATIENCE, RISE = 8, 2, 0.005
"""Largest number of rounds, and of rounds in a row that may raise the accuracy by less than this before it ends."""
FEWEST, FOLDS = 3, 4
"""Recordings that a label needs, and parts that they are divided into."""
BLOCK = 1000
"""Parts that are compared with all others at once."""


@dataclass(frozen=True, kw_only=True)
class Harvest:
    """Result of harvesting: ``clips``, a clip table with the confidence as ``score``.

    Attributes
    ----------
    clips : pd.DataFrame
        Clip table of the harvested parts.
    rounds : pd.DataFrame
        One row per round with ``held_out``: share of held-out recordings whose label was recognized from their parts,
        mean over labels.
    skipped_labels : dict[str, str]
        Labels without any part to take, and why.
    skipped : list[str]
        Recordings that could not be read.

    Examples
    --------
    >>> table = pd.DataFrame()
    >>> barn_owl.annotation.Harvest(clips=table, rounds=table, skipped_labels={}, skipped=[]).skipped_labels
    {}
    """

    clips: pd.DataFrame
    rounds: pd.DataFrame
    skipped_labels: dict[str, str]
    skipped: list[str]


@dataclass(frozen=True, eq=False)
class _Parts:
    """All parts: features, recording by number, times, label by number; of each recording label, group, fold, and
    times of its quiet stretches."""

    rows: np.ndarray
    recording: np.ndarray
    times: np.ndarray
    label: np.ndarray
    recording_label: np.ndarray
    group: np.ndarray
    fold: np.ndarray
    quiet: list[np.ndarray]


def harvest(
    recordings: TableOrPath,
    *,
    per_recording: int = 5,
    least: float = 0.8,
    background: str | None = None,
    cache: str | Path | None = None,
    workers: int = 2,
    seed: int = 0,
    progress: Callable[[float, float], None] | None = None,
) -> Harvest:
    """Find the parts of weakly labeled recordings that contain the sound of their label.

    Parameters
    ----------
    recordings : pd.DataFrame
        A clip table with a label each; with ``group``, recordings of one group are held out together.
    per_recording : int
        Largest number of parts per recording.
    least : float
        Minimum confidence of a part that is taken, 0 to 1.
    background : str | None
        A label for as many stretches in which nothing stands out, the longest of recordings whose label was found;
        None for none.
    cache : str | Path | None
        A folder to keep features in.
    workers : int
        Number of parallel workers.
    seed : int
        Seed of all random choices.
    progress : Callable[[int, int], None] | None
        Called with the number of items done and in all.

    Raises
    ------
    TableError
        If no two labels have three recordings.
    AudioError
        If none can be read.

    Examples
    --------
    >>> table = pd.DataFrame({"file": ["night.wav"], "label": ["hum"]})
    >>> barn_owl.harvest(table)
    Traceback (most recent call last):
    barn_owl.errors.TableError: to tell labels apart, two of them need 3 recordings each or more; hum has 1
    """
    recordings = as_clip_table(recordings, "recordings")
    table = check_clip_table(recordings, where="recordings")
    counts = table.loc[table["label"] != "", "label"].value_counts()
    skipped_labels = {
        str(label): f"{count} recordings, and {FEWEST} are needed"
        for label, count in counts.items()
        if count < FEWEST
    }
    table = table[table["label"].isin(counts.index[counts >= FEWEST])].reset_index(drop=True)
    if table["label"].nunique() < 2:
        counted = ", ".join(f"{label} has {count}" for label, count in counts.items()) or "there are no labels"
        raise TableError(f"to tell labels apart, two of them need {FEWEST} recordings each or more; {counted}")
    parts, table, skipped = _parts(table, cache, workers, seed, progress)
    labels = sorted(table["label"].unique())
    scores, rounds = _rounds(parts, len(labels))
    own = np.take_along_axis(scores, parts.label[:, None], axis=1)[:, 0]
    confidence = np.zeros(len(own))
    for number, label in enumerate(labels):
        mine = parts.label == number
        confidence[mine] = _confidence(own[mine], scores[~mine, number])
        confident = len(set(parts.recording[mine & (confidence >= least)]))
        labeled = int((parts.recording_label == number).sum())
        if confident < min(FEWEST, (labeled + 1) // 2):
            # The best of many parts is good by chance now and then, but hardly in several recordings.
            skipped_labels[label] = (
                f"only {confident} of {labeled} recordings have confident parts, the highest score is "
                f"{confidence[mine].max():.2f}; is the sound in the recordings?"
            )
            confidence[mine] = 0
    taken = [_best(parts, confidence, own, number, per_recording, least) for number in range(len(table))]
    best = np.concatenate(taken)
    around = parts.times[best] + np.array([-CONTEXT_S, CONTEXT_S])
    clips = _clips(table, parts.recording[best], around, confidence[best], table["label"])
    if background is not None:
        # The rest of a recording whose label was not found may contain the sound of the label.
        found = [number for number, own_parts in enumerate(taken) if len(own_parts)]
        longest = [parts.quiet[n][np.argsort(-np.ptp(parts.quiet[n], axis=1), kind="stable")] for n in found]
        quiet = [of_recording[:per_recording] for of_recording in longest]
        numbers = np.repeat(np.array(found, dtype=int), [len(times) for times in quiet])
        times = np.concatenate([np.zeros((0, 2)), *quiet])
        clips = pd.concat([clips, _clips(table, numbers, times, np.ones(len(times)), background)])
    clips = check_clip_table(clips.sort_values(["label", "score"], ascending=[True, False], ignore_index=True))
    return Harvest(clips=clips, rounds=rounds, skipped_labels=skipped_labels, skipped=skipped)


def _parts(
    table: pd.DataFrame,
    cache: str | Path | None,
    workers: int,
    seed: int,
    progress: Callable[[float, float], None] | None,
) -> tuple[_Parts, pd.DataFrame, list[str]]:
    """Cut all recordings into parts."""
    rows, times, numbers, quiet = [], [], [], []
    kept: list[int] = []
    skipped: list[str] = []
    for at, cut in enumerate(each(partial(cut_parts, cache=cache), list(table["file"]), workers)):
        if isinstance(cut, str):
            skipped.append(cut)
        else:
            found, own, still = cut
            rows.append(found)
            times.append(own)
            quiet.append(still)
            numbers.append(np.full(len(own), len(kept)))
            kept.append(at)
        if progress:
            progress(at + 1, len(table))
    if not kept:
        raise AudioError(skipped[0])
    table = table.iloc[kept].reset_index(drop=True)
    named = sorted(table["label"].unique())
    if len(named) < 2 or not sum(map(len, times)):
        raise TableError("nothing stands out of the quiet in recordings of two labels")
    recording = np.concatenate(numbers).astype(int)
    recording_label = table["label"].map(named.index).to_numpy()
    stacked = np.concatenate(rows)
    stacked = (stacked - stacked.mean(axis=0)) / (stacked.std(axis=0) + np.float32(1e-6))
    groups = _groups(table)
    made = _Parts(stacked, recording, np.concatenate(times), recording_label[recording], recording_label,
                  pd.factorize(groups)[0], _folds(table, groups, seed), quiet)  # fmt: skip
    return made, table, skipped


def cut_parts(file: str, *, cache: str | Path | None) -> tuple[np.ndarray, np.ndarray, np.ndarray] | str:
    """Features and times of the parts of a recording, and times of its quiet stretches; or why it cannot be read."""
    try:
        with temporary_folder() as temporary:  # where frames wait, as the recording is gone through twice
            return _cut(file, cache or temporary)
    except (AudioError, OSError) as error:
        return str(error)


def _cut(file: str, cache: str | Path) -> tuple[np.ndarray, np.ndarray, np.ndarray] | str:
    # The root of the mean square, as a whistle is only in a few bands.
    louds = [np.sqrt(np.square(piece.levels).mean(axis=1)) for piece in pieces_of(file, cache)]
    if not louds:
        return f"{file} is shorter than a frame"
    loud = np.concatenate(louds)
    spans = _spans(loud)
    rows = [
        sound_row(piece.levels[begin - piece.first :][: end - begin + 1])
        for piece in pieces_of(file, cache, beyond=round(MAX_DURATION_S / FRONT_END.hop_s) + 1)
        for begin, end in spans
        if piece.first <= begin < piece.first + piece.count
    ]
    times = np.array(spans, dtype=float).reshape(-1, 2) * FRONT_END.hop_s
    times[:, 1] += FRONT_END.frame_ms / 1000
    width = len(sound_row(np.zeros((1, FRONT_END.width), dtype=np.float32)))
    return np.array(rows, dtype=np.float32).reshape(len(rows), width), times, _quiet(loud)


def _quiet(loud: np.ndarray) -> np.ndarray:
    """Return start and stop of stretches in which nothing stands out, in seconds, ``(stretches, 2)``."""
    still = loud < float(np.quantile(loud, QUIET_SHARE)) + END_DB
    edges = np.flatnonzero(np.diff(np.concatenate([[False], still, [False]]))).reshape(-1, 2) * FRONT_END.hop_s
    times = edges + np.array([CONTEXT_S, FRONT_END.frame_ms / 1000 - FRONT_END.hop_s - CONTEXT_S])
    times = times[np.ptp(times, axis=1) >= MIN_QUIET_S]
    times[:, 1] = np.minimum(times[:, 1], times[:, 0] + MAX_DURATION_S)
    return times


def _spans(loud: np.ndarray) -> list[tuple[int, int]]:
    """Start and stop frames of sounds above the background, in order: the loudest if there are very many."""
    base = float(np.quantile(loud, QUIET_SHARE))
    runs: list[list[int]] = []
    for begin, end in two_threshold_runs(loud, base + BEGIN_DB, base + END_DB):
        if runs and begin - runs[-1][1] <= GAP_S / FRONT_END.hop_s:
            runs[-1][1] = int(end)
        else:
            runs.append([int(begin), int(end)])
    spans: list[tuple[int, int]] = []
    for begin, end in runs:
        length_s = (end - begin) * FRONT_END.hop_s
        if length_s >= MIN_DURATION_S:
            edges = np.linspace(begin, end, int(np.ceil(length_s / MAX_DURATION_S)) + 1).astype(int).tolist()
            spans += itertools.pairwise(edges)
    if len(spans) > MAX_PARTS:
        loudest = np.argsort([-loud[begin:end].mean() for begin, end in spans], kind="stable")[:MAX_PARTS]
        spans = [spans[number] for number in sorted(loudest)]
    return spans


def sound_row(levels: np.ndarray) -> np.ndarray:
    """Describe the sound of a part independently of its level: statistics, course in three steps, duration."""
    alike = levels * (TOP / max(float(levels.max()), 1e-6))
    steps = [alike[rows].mean(axis=0) if len(rows) else alike.mean(axis=0)
             for rows in np.array_split(np.arange(len(alike)), 3)]  # fmt: skip
    return np.concatenate([pool(alike, STATISTICS), *steps, [8 * np.log(len(alike))]])


def _groups(table: pd.DataFrame) -> "pd.Series[str]":
    """Return the group that each recording is held out with; its own number without groups."""
    return table["group"].where(table["group"] != "", table["file"]) if "group" in table else table["file"]


def _folds(table: pd.DataFrame, groups: "pd.Series[str]", seed: int) -> np.ndarray:
    """Return the fold of each recording; groups stay together, labels are spread over the folds."""
    rng = np.random.default_rng(seed)
    fold: dict[str, int] = {}
    for label in sorted(table["label"].unique()):
        own = [group for group in dict.fromkeys(groups[table["label"] == label]) if group not in fold]
        turn = rng.permutation(FOLDS)
        fold |= {group: int(turn[at % FOLDS]) for at, group in enumerate(rng.permutation(own))}
    return groups.map(fold).to_numpy()


def _rounds(parts: _Parts, labels: int) -> tuple[np.ndarray, pd.DataFrame]:
    """Score each part for each label, ``(parts, labels)``, by the round with the best held-out recordings."""
    scores = _nearness(parts, labels)
    best, highest, since = scores, _held_out(parts, scores), 0
    history = [{"round": 0, "by": "nearest parts", "held_out": highest}]
    for number in range(1, MAX_ROUNDS + 1):
        scores = _learnt(parts, np.take_along_axis(scores, parts.label[:, None], axis=1)[:, 0], labels)
        accuracy = _held_out(parts, scores)
        since += 1
        if accuracy > highest + RISE:
            best, highest, since = scores, accuracy, 0
        history.append({"round": number, "by": "classifier", "held_out": accuracy})
        if since >= PATIENCE:
            break
    return best, pd.DataFrame(history)


def _nearness(parts: _Parts, labels: int) -> np.ndarray:
    """Return the share of each label among the recordings of the most similar parts, relative to chance."""
    _, values, directions = scipy.linalg.svd(parts.rows, full_matrices=False)
    count = min(PRINCIPAL, len(values))
    seen = parts.rows @ directions[:count].T
    square = np.square(seen).sum(axis=1)
    recordings = len(parts.recording_label)
    edges = np.flatnonzero(np.r_[True, np.diff(parts.recording) != 0])
    present = parts.recording[edges]
    share = np.bincount(parts.recording_label, minlength=labels) / recordings
    # Not more neighbors than recordings of a label, since even its best parts would have neighbors of wrong labels.
    usual = int(np.median(np.bincount(parts.recording_label, minlength=labels))) - 1
    nearest = min(NEAREST, max(usual, FEWEST - 1), max(len(present) - 1, 1))
    out = np.empty((len(seen), labels))
    for first in range(0, len(seen), BLOCK):
        rows = slice(first, first + BLOCK)
        distance = square[rows, None] + square[None] - 2 * (seen[rows] @ seen.T)
        by_recording = np.minimum.reduceat(distance, edges, axis=1)
        by_recording[parts.group[parts.recording[rows], None] == parts.group[present][None]] = np.inf
        near = present[np.argpartition(by_recording, nearest - 1, axis=1)[:, :nearest]]
        for label in range(labels):
            out[rows, label] = (parts.recording_label[near] == label).mean(axis=1)
    return np.log((out + 0.5 / nearest) / (share + 0.5 / nearest))


def _learnt(parts: _Parts, own: np.ndarray, labels: int) -> np.ndarray:
    """Return log-odds of each part from a classifier trained on the best parts of the recordings of the remaining
    folds."""
    teaching = np.zeros(len(own), dtype=bool)
    for number in range(len(parts.recording_label)):
        mine = np.flatnonzero(parts.recording == number)
        count = max(1, round(TEACHING_SHARE * len(mine)))
        teaching[mine[np.argsort(-own[mine], kind="stable")[:count]]] = True
    targets = np.zeros((len(own), labels))
    targets[np.flatnonzero(teaching), parts.label[teaching]] = 1
    weights = 1 / np.bincount(parts.recording, minlength=len(parts.recording_label))[parts.recording]
    rows, fold = parts.rows.astype(np.float64), parts.fold[parts.recording]
    out = np.zeros((len(own), labels))
    for held in range(FOLDS):
        known = fold != held
        if known.any() and not known.all():
            found, _ = fit_logistic(rows[known], targets[known], weights[known], PENALTY)
            out[~known] = rows[~known] @ found[:-1] + found[-1]
    return out


def _held_out(parts: _Parts, scores: np.ndarray) -> float:
    """Return the share of recordings, mean over labels, whose two best parts score highest for their label."""
    right = np.zeros(len(parts.recording_label), dtype=bool)
    for number, label in enumerate(parts.recording_label):
        own = scores[parts.recording == number]
        if len(own):
            best = np.sort(own, axis=0)[-2:].mean(axis=0)
            right[number] = best.argmax() == label
    return float(
        np.mean([right[parts.recording_label == label].mean() for label in np.unique(parts.recording_label)])
    )


def _confidence(own: np.ndarray, others: np.ndarray) -> np.ndarray:
    """Return the share of true parts among parts with at least the same score, from scores of decoy recordings."""
    if not len(others):
        return np.zeros(len(own))
    order = np.argsort(-own, kind="stable")
    by_chance = 1 - np.searchsorted(np.sort(others), own[order], side="left") / len(others)
    # Add one decoy, since the next decoy may score higher than all seen so far.
    expected = (by_chance + 1 / len(others)) * len(own)
    share = np.clip(1 - expected / np.arange(1, len(own) + 1), 0, 1)
    out = np.empty(len(own))
    # Confidence does not fall with the score.
    out[order] = np.maximum.accumulate(share[::-1])[::-1]
    return out


def _best(parts: _Parts, confidence: np.ndarray, own: np.ndarray, number: int, most: int, least: float) -> np.ndarray:
    """The highest-scoring parts of a recording."""
    mine = np.flatnonzero((parts.recording == number) & (confidence >= least))
    return mine[np.argsort(-own[mine], kind="stable")[:most]]


def _clips(
    table: pd.DataFrame, numbers: np.ndarray, times: np.ndarray, confidence: np.ndarray, label: "pd.Series[str] | str"
) -> pd.DataFrame:
    """Return a clip table of excerpts of recordings; `numbers` are rows of `table`."""
    made = pd.DataFrame(
        {
            "file": table["file"].to_numpy()[numbers],
            "start_s": np.maximum(times[:, 0], 0).round(3),
            "end_s": times[:, 1].round(3),
            "label": label if isinstance(label, str) else label.to_numpy()[numbers],
            "score": confidence.round(4),
        }
    )
    groups = (
        table["group"].to_numpy()[numbers] if "group" in table else made["file"].map(lambda file: Path(file).stem)
    )
    return made.assign(group=groups)
