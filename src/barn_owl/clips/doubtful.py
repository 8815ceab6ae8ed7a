"""Doubtful labels: clips whose most similar clips have another label."""

from collections.abc import Iterator, Sequence

import numpy as np
import pandas as pd

from barn_owl.clips.duplicates import BLOCK_VALUES
from barn_owl.clips.inspection import ClipInspection

NEIGHBORS, MIN_NEIGHBORS = 10, 3
MAX_SAME_SHARE, MIN_OTHER_SHARE = 0.1, 0.7
"""Shares of a clip's nearest clips, with its label and with a different label, that make its label doubtful."""


def doubtful_labels(clips: pd.DataFrame, measures: Sequence[ClipInspection]) -> Iterator[tuple[int, int, int, str]]:
    """Find clips whose most similar clips nearly all have a single different label.

    Returns row, number of compared clips, and number and label of the clips with the different label.
    """
    rows = np.array(
        [n for n, m in enumerate(measures) if m.sound is not None and m.facts and m.facts.silent_share < 1
         and clips["label"][n]], dtype=int,
    )  # fmt: skip
    labels = clips["label"].to_numpy(dtype=object)[rows]
    if len(rows) <= NEIGHBORS or len(set(labels)) < 2:
        return
    x = np.stack([sound for n in rows if (sound := measures[n].sound) is not None])
    x = (x - x.mean(axis=0)) / np.maximum(x.std(axis=0), 1e-9)
    if "group" in clips:  # each recorder has its frequency response
        groups = clips["group"].to_numpy(dtype=object)[rows]
        for group in set(groups):
            own = groups == group
            if own.sum() > NEIGHBORS:
                x[own] -= x[own].mean(axis=0)
    label_counts = dict(zip(*np.unique(labels, return_counts=True), strict=True))
    for at, nearest in enumerate(_nearest(x.astype(np.float32))):
        # A label with few clips cannot fill ten places; with very few, no label is doubted.
        looked_at = min(NEIGHBORS, int(label_counts[labels[at]]) - 1)
        if looked_at < MIN_NEIGHBORS:
            continue
        others = nearest[:looked_at]
        names, counts = np.unique(labels[others], return_counts=True)
        best = int(counts.argmax())
        own_share = float((labels[others] == labels[at]).mean())
        if own_share <= MAX_SAME_SHARE and counts[best] >= MIN_OTHER_SHARE * looked_at:
            yield int(rows[at]), looked_at, int(counts[best]), str(names[best])


def _nearest(x: np.ndarray) -> Iterator[np.ndarray]:
    """Rows of `x` nearest to each row, except itself, the nearest first; shape ``(NEIGHBORS,)`` each."""
    squares = (x * x).sum(axis=1)
    block = max(1, BLOCK_VALUES // len(x))
    for first in range(0, len(x), block):
        distance = squares - 2 * x[first : first + block] @ x.T
        own = np.arange(len(distance))
        distance[own, first + own] = np.inf
        near = np.argpartition(distance, NEIGHBORS - 1, axis=1)[:, :NEIGHBORS]
        order = np.take_along_axis(distance, near, axis=1).argsort(axis=1)
        yield from np.take_along_axis(near, order, axis=1)
