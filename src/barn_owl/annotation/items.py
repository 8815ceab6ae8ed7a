"""Items for review: events and stretches without events, in their order of review.

Each stratum (label and third of the scores) has a random order, so the reviewed beginning of a stratum is a random
sample of it.
"""

import itertools
from collections.abc import Callable, Sequence
from pathlib import Path, PurePosixPath

import numpy as np
import pandas as pd

from barn_owl.audio import audio_info, read_audio, sound_files_below
from barn_owl.audio.remote import is_remote
from barn_owl.clips import check_clip_table
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import TableError
from barn_owl.features import FrontEnd
from barn_owl.features.activity import quiet_level
from barn_owl.files import not_a_file

EVENT, STRETCH = "event", "stretch"
THIRDS = 3
"""Strata of the scores of a label; few, so that a hundred answers suffice for each."""
NEARBY_S = 0.5
"""Largest distance of events with different labels that disagree with each other."""
MIN_DURATION_S = 0.5
"""Shortest stretch between events; in a shorter stretch, an onset cannot be heard."""
LISTENED = 4000
"""Events that are listened to, to find sounds of new kinds; beyond, a random choice of them."""
SEEN_S = 3.0
"""Sound of an event that is listened to."""


def review_items(
    events: TableOrPath,
    recordings: Sequence[str] = (),
    *,
    stretches: int = 60,
    stretch_s: float = 5.0,
    listens: bool = True,
    seed: int = 0,
    progress: Callable[[int, int], None] | None = None,
) -> pd.DataFrame:
    """Create the table of items to review: each event, and stretches without events.

    Parameters
    ----------
    events : pd.DataFrame
        A table with times, labels and scores.
    recordings : Sequence[str]
        All recordings of the archive, with and without events.
    stretches : int
        Number of stretches without an event to draw; a sound that begins in a stretch was missed.
    stretch_s : float
        Length of a stretch without events, in seconds.
    listens : bool
        Whether sounds of new kinds are looked for, which reads the events.
    seed : int
        Seed of all random choices.
    progress : Callable[[int, int], None] | None
        Called with how many of them are read, and how many there are.

    Returns
    -------
    pd.DataFrame
        Returns the columns of a clip table and ``kind`` (event or stretch), ``stratum``, ``of`` (size of the
        stratum), ``draw`` (place in its random order), ``informativeness`` (0 to 1) and ``why``. Clips without times
        are whole files; an item without a label has the label in ``predicted``, if any. A table of
        `barn_owl.annotation.propose` stays in its order.

    Raises
    ------
    TableError
        If a table is invalid.

    Examples
    --------
    >>> items = barn_owl.annotation.review_items(barn_owl.read_events("events.csv"), ["night.wav"], stretches=3)
    >>> sorted(items["kind"].unique())
    ['event', 'stretch']
    """
    events = as_clip_table(events, "events")
    events = check_clip_table(events, where="events")
    events = _whole(events)
    # A generator per stratum: draws must not depend on further strata.
    strata, novelty, gaps = (np.random.default_rng([seed, number]) for number in range(3))
    columns = ["file", "start_s", "end_s", "label", "score"]
    items = _with_strata(events[columns].assign(kind=EVENT, why=""), strata)
    if "rank" in events:  # clips of `propose`, in the order of their usefulness
        items["informativeness"] = 1 - events["rank"].rank(pct=True).to_numpy()
        items["why"] = events["why"].to_numpy() if "why" in events else ""
    else:
        items["informativeness"] = _worth(items, novelty, listens=listens, progress=progress)
    events = items
    files = list(dict.fromkeys([*recordings, *events["file"]]))
    drawn = _stretches(events, files, stretches, stretch_s, gaps)
    return pd.concat([events, drawn], ignore_index=True) if len(drawn) else events


def _whole(events: pd.DataFrame) -> pd.DataFrame:
    """The same events with times, a score and, if there is a prediction, a label each."""
    starts, ends = events["start_s"].fillna(0.0), events["end_s"].copy()
    for row in np.flatnonzero(ends.isna()):
        ends.iloc[row] = audio_info(events["file"].iloc[row]).duration_s
    label = events["label"]
    if "predicted" in events:
        label = label.where(label != "", events["predicted"].fillna("").astype(str))
    score = events.get("score", np.nan)
    return events.assign(start_s=starts, end_s=ends, label=label, score=score)


def _with_strata(events: pd.DataFrame, rng: np.random.Generator) -> pd.DataFrame:
    """Add stratum, size of the stratum and place in its random order to each event."""
    ranks = events.groupby("label")["score"].rank(method="first", pct=True).fillna(1.0)
    third = np.minimum((ranks * THIRDS).apply(np.ceil), THIRDS).astype(int)
    stratum = events["label"] + " " + third.map({1: "low", 2: "middle", 3: "high"}).astype(str)
    shuffled = pd.Series(rng.permutation(len(events)), index=events.index)
    draw = shuffled.groupby(stratum).rank(method="first").astype(int)
    return events.assign(stratum=stratum, of=stratum.map(stratum.value_counts()), draw=draw)


def _worth(
    events: pd.DataFrame, rng: np.random.Generator, *, listens: bool, progress: Callable[[int, int], None] | None
) -> np.ndarray:
    """Return the informativeness of an answer, 0 to 1, and the reason: near the threshold, at odds with a neighbor,
    novel."""
    low = 1 - events.groupby("label")["score"].rank(pct=True).fillna(0.5).to_numpy()
    odd = _disagreeing(events).astype(np.float64)
    new = _novelty(events, rng, progress) if listens and len(events) else np.zeros(len(events))
    reasons = np.stack([low, 0.9 * odd, new], axis=1) if len(events) else np.zeros((0, 3))
    words = np.array(["near the threshold", "another label alongside it", "unlike others of its label"])
    events["why"] = np.where(reasons.max(axis=1, initial=0) > 0.5, words[reasons.argmax(axis=1)], "")
    return (reasons @ np.array([0.5, 0.25, 0.25])).round(4)


def _disagreeing(events: pd.DataFrame) -> np.ndarray:
    """Whether an event of another label overlaps or is very near."""
    odd = np.zeros(len(events), dtype=bool)
    order = events.reset_index(drop=True).sort_values(["file", "start_s"])
    rows = list(zip(order.index, order["file"], order["start_s"], order["end_s"], order["label"], strict=True))
    for number, (here, file, _, end_s, label) in enumerate(rows):
        for there, other_file, start_s, _, other in rows[number + 1 :]:
            if other_file != file or start_s > end_s + NEARBY_S:
                break
            if other != label:
                odd[here] = odd[there] = True
    return odd


def _novelty(
    events: pd.DataFrame, rng: np.random.Generator, progress: Callable[[int, int], None] | None
) -> np.ndarray:
    """Return the rank of an event's spectral distance from the events of its label, as a share."""
    known, front_end = np.full(len(events), np.nan), FrontEnd(features=["log-mel"], pad_short=True)
    listened = np.sort(rng.permutation(len(events))[:LISTENED])
    found = []
    for row in listened:
        found.append(_shape(events.iloc[row], front_end))
        if progress:
            progress(len(found), len(listened))
    shapes = np.stack(found)
    labels = events["label"].to_numpy()[listened]
    for label in np.unique(labels):
        own = np.flatnonzero(labels == label)
        away = np.linalg.norm(shapes[own] - np.median(shapes[own], axis=0), axis=1)
        known[listened[own]] = pd.Series(away).rank(pct=True) if len(own) > 2 else 0.5
    return np.nan_to_num(known, nan=0.5)


def _shape(event: pd.Series, front_end: FrontEnd) -> np.ndarray:
    """Mean spectrum of an event above its quiet level, without its loudness."""
    end_s = min(event["end_s"], event["start_s"] + SEEN_S)
    samples, _ = read_audio(event["file"], start_s=event["start_s"], end_s=end_s, rate_hz=front_end.rate_hz)
    frames = front_end.frames(samples)
    mean = (frames - 0.5 * quiet_level(frames)).mean(axis=0)
    return mean - mean.mean()


def _stretches(
    events: pd.DataFrame, files: Sequence[str], wanted: int, stretch_s: float, rng: np.random.Generator
) -> pd.DataFrame:
    """Draw stretches without an event, all with the same probability."""
    gaps: list[tuple[str, float, float]] = []
    by_file = dict(list(events.groupby("file", sort=False)))
    for file in files if wanted else ():
        gaps += [(file, *gap) for gap in _gaps(by_file.get(file), audio_info(file).duration_s)]
    if not gaps:
        return events.iloc[:0]
    lengths = np.array([end - start for _, start, end in gaps])
    pieces = np.ceil(lengths / stretch_s - 1e-9).astype(int)
    total = int(pieces.sum())
    before = np.cumsum(pieces) - pieces
    chosen = rng.permutation(total)[:wanted] if total < 10**7 else np.unique(rng.integers(0, total, wanted))
    rows = []
    for draw, piece in enumerate(chosen, start=1):
        gap = int(np.searchsorted(before, piece, side="right")) - 1
        file, start, _ = gaps[gap]
        length = lengths[gap] / pieces[gap]
        at = start + (piece - before[gap]) * length
        rows.append((file, round(at, 3), round(at + length, 3), draw))
    drawn = pd.DataFrame(rows, columns=["file", "start_s", "end_s", "draw"])
    return drawn.assign(
        label="",
        score=np.nan,
        kind=STRETCH,
        why="nothing was found here",
        stratum=STRETCH,
        of=total,
        informativeness=0.6,
    )


def _gaps(events: pd.DataFrame | None, length_s: float) -> list[tuple[float, float]]:
    """Stretches of a recording that no event touches."""
    gaps, at = [], 0.0
    for start, end in [] if events is None else events.sort_values("start_s")[["start_s", "end_s"]].to_numpy():
        if start - at >= MIN_DURATION_S:
            gaps.append((at, float(start)))
        at = max(at, float(end))
    return [*gaps, (at, length_s)] if length_s - at >= MIN_DURATION_S else gaps


def recordings_at(table: TableOrPath, folder: str | Path | None) -> pd.DataFrame:
    """Return a table with the present paths of recordings that were moved below `folder`.

    Each is the file of the same name whose path ends most like before.

    Parameters
    ----------
    table : pd.DataFrame | str | Path
        Table with a column ``file``, or its path.
    folder : str | Path | None
        Folder that holds the recordings now. None: nothing is changed.

    Raises
    ------
    TableError
        If a recording is missing, or several files match.
    """
    table = as_clip_table(table, "table")
    missing = [file for file in table["file"].unique() if not is_remote(file) and not_a_file(file)]
    if not missing:
        return table
    if folder is None:
        raise TableError(
            f"{missing[0]} is not there{f' (nor are {len(missing) - 1} others)' if len(missing) > 1 else ''}; "
            "if the recordings were moved, name their folder"
        )
    there: dict[str, list[Path]] = {}
    for path in sound_files_below(folder):
        there.setdefault(path.name, []).append(path)
    moved = {file: str(_same_place(file, there, folder)) for file in missing}
    return table.assign(file=[moved.get(file, file) for file in table["file"]])


def _same_place(file: str, there: dict[str, list[Path]], folder: str | Path) -> Path:
    own = PurePosixPath(Path(file).as_posix()).parts
    found = there.get(own[-1], [])
    if not found:
        raise TableError(f"{own[-1]} is not in {folder} nor below it")

    def common(path: Path) -> int:
        pairs = zip(reversed(path.parts), reversed(own), strict=False)
        return sum(1 for _ in itertools.takewhile(lambda pair: pair[0] == pair[1], pairs))

    best = max(map(common, found))
    nearest = [path for path in found if common(path) == best]
    if len(nearest) > 1:
        raise TableError(f"{file} could be {nearest[0]} or {nearest[1]}; give a folder that holds one of them")
    return nearest[0]
