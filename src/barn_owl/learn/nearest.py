"""Fitting the nearest family: how many neighbours to ask."""

from collections.abc import Iterator

from barn_owl.learn.plan import NearestSettings
from barn_owl.learn.rows import Candidate, RowTask
from barn_owl.model.nearest import Nearest

NEIGHBOURS = (1, 3, 5, 9, 15, 25)
"""Odd, so that two labels are never even."""


def candidates(task: RowTask, settings: NearestSettings) -> Iterator[Candidate]:
    """Give a candidate for each number of neighbours; the neighbours themselves are searched once."""
    counts: tuple[int, ...] = NEIGHBOURS if settings.neighbours is None else (settings.neighbours,)
    counts = tuple(sorted({min(count, len(task.rows)) for count in counts}))
    whole = Nearest(task.rows, task.targets, counts[-1])
    near, distances = whole.nearest(task.watched, counts[-1])
    for count in counts:
        made = Nearest(task.rows, task.targets, count)
        watched = made.logits_of(near[:, :count], distances[:, :count])
        # Each training row is its own nearest neighbour: a loss in training would say nothing.
        yield Candidate.made(made, float("nan"), watched)
