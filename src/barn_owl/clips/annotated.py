"""Training clips from annotated recordings: true events and false alarms."""

from collections.abc import Iterator

import numpy as np
import pandas as pd

from barn_owl.audio import audio_info
from barn_owl.clips.completeness import complete_stretches, incomplete_stretches, marked_rows
from barn_owl.clips.table import TableOrPath, as_clip_table, check_clip_table
from barn_owl.clips.within import check_within
from barn_owl.errors import TableError

MICRO = 6
"""Digits of a second that are kept: finer than a sample."""


def clips_of_events(truth: TableOrPath, length_s: float, *, copies: int = 1, seed: int = 0) -> pd.DataFrame:
    """Create training clips of annotated events, with context; a clip table.

    The clip of an event is as long as the event, but at least `length_s`, and the event is at a random place in it,
    so that onsets, offsets and the background around events are trained on, too. Events of
    another label that reach into a clip are not avoided: sounds overlap in the field as well.

    Parameters
    ----------
    truth : pd.DataFrame
        Events with times; unlabeled events (unknown sounds) are skipped.
    length_s : float
        Length of a clip in seconds.
    copies : int
        Clips an event, each with another place. Columns ``onset_s`` and ``offset_s`` tell where the event is
        in the recording.
    seed : int
        Seed of all random choices.

    Raises
    ------
    TableError
        If no row has both label and times.

    Examples
    --------
    >>> truth = barn_owl.read_clip_table("truth.csv")
    >>> len(barn_owl.clips.clips_of_events(truth, 1.0))
    4
    """
    truth = as_clip_table(truth, "truth")
    truth = check_clip_table(truth, where="truth table")
    wanted = truth[(truth["label"] != "") & truth["start_s"].notna() & truth["end_s"].notna()]
    if not len(wanted):
        raise TableError("the truth table has no events with both label and times")
    rng, lengths = (
        np.random.default_rng(seed),
        {file: audio_info(file).duration_s for file in wanted["file"].unique()},
    )
    check_within(wanted, lengths, where="truth table")
    rows = []
    for event in wanted.itertuples():
        whole = lengths[event.file]
        for _ in range(copies):
            room = max(length_s - (event.end_s - event.start_s), 0.0)
            start = float(np.clip(event.start_s - rng.uniform(0, room), 0, max(whole - length_s, 0.0)))
            start = min(start, event.start_s)
            end = min(max(start + length_s, event.end_s), whole)
            rows.append((event.file, start, end, event.label, event.start_s, event.end_s))
    columns = ["file", "start_s", "end_s", "label", "onset_s", "offset_s"]
    cut = pd.DataFrame(rows, columns=columns).round(MICRO)
    more = [name for name in wanted if name not in (*columns, "score", "split")]
    repeated = wanted.loc[wanted.index.repeat(copies), more].reset_index(drop=True)
    return check_clip_table(cut.join(repeated))


def clips_of_false_alarms(
    events: TableOrPath, truth: TableOrPath, length_s: float, *, label: str = "background", margin_s: float = 0.2
) -> pd.DataFrame:
    """Return training clips of the false alarms of an earlier model (hard negatives) as a clip table.

    Parameters
    ----------
    events : pd.DataFrame | str | Path
        Events that the model detected. Column ``confused_with`` of the result is their label.
    truth : pd.DataFrame | str | Path
        All events in the same recordings; rows with a blank label (unknown sounds) do not count. If it has complete
        stretches, only false alarms in these are used.
    length_s : float
        Length of each clip in seconds, with the false alarm in its middle.
    label : str
        Label of the clips.
    margin_s : float
        Smallest distance of a clip from true events, in seconds.

    Raises
    ------
    TableError
        If a table is invalid.
    AudioError
        If sound cannot be read.

    Examples
    --------
    >>> truth = barn_owl.read_clip_table("truth.csv")
    >>> events = barn_owl.read_events("events.csv")
    >>> clips = barn_owl.clips.clips_of_false_alarms(events, truth, 1.0)
    >>> set(clips["label"]) - {"background"}
    set()
    """
    events, truth = as_clip_table(events, "events"), as_clip_table(truth, "truth")
    lengths = {file: audio_info(file).duration_s for file in events["file"].unique()}
    check_within(truth, lengths, where="truth table")
    marked = marked_rows(truth)[lambda rows: rows["label"] != ""]
    if (stretches := complete_stretches(truth)) is not None:
        marked = pd.concat([marked, incomplete_stretches(stretches, lengths)], ignore_index=True)
    check_within(events, lengths, where="event table")
    rows = []
    for file, found in events.groupby("file", sort=False):
        rows += list(_free(found, marked[marked["file"] == file], length_s, lengths[file], margin_s))
    columns = ["file", "start_s", "end_s", "confused_with"]
    table = pd.DataFrame(rows, columns=columns).astype({"start_s": float, "end_s": float})
    return check_clip_table(table.round(MICRO).assign(label=label))


def _free(
    found: pd.DataFrame, marked: pd.DataFrame, length_s: float, duration_s: float, margin_s: float
) -> Iterator[tuple[str, float, float, str]]:
    before = -np.inf
    for event in found.sort_values("start_s").itertuples():
        start = float(np.clip((event.start_s + event.end_s - length_s) / 2, 0, max(duration_s - length_s, 0)))
        end = min(start + length_s, duration_s)
        hits = (marked["start_s"] < end + margin_s) & (marked["end_s"] > start - margin_s)
        if not hits.any() and start >= before:
            before = end
            yield event.file, start, end, event.label
