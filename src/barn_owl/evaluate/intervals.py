"""Confidence intervals of scores: the bootstrap over groups."""

import numpy as np
import scipy

LEVEL = 0.95
"""Probability that an interval contains the true value."""


MANY_GROUPS = 10
"""Number of groups from which drawing groups suffices: coverage is then 94 to 96 % (simulated)."""


def draws_inside(groups: int, clips: int) -> bool:
    """Whether `draw` draws clips inside of so few groups."""
    return groups < min(MANY_GROUPS, clips)


def draw(groups: np.ndarray, rounds: int, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Draw groups with replacement for each round and, with few groups, clips with replacement within each.

    Groups are drawn instead of clips, since clips of a recorder or session are similar, and drawing clips would
    understate the uncertainty. The few groups of a small test may agree by chance, so clips within groups are drawn
    as well (Davison and Hinkley, "Bootstrap Methods", 1997, section 3.8).

    groups : number of each clip's group, from 0, ``(clips,)``. Returns the units that are counted (groups, or clips),
    a number for each clip, and how often each unit is drawn in each round: float64 ``(units, rounds)``.
    """
    sizes = np.bincount(groups)
    count = len(sizes)
    numbers = rng.integers(0, count, (rounds, count)) + count * np.arange(rounds)[:, None]
    drawn = np.bincount(numbers.ravel(), minlength=rounds * count).reshape(rounds, count)
    if not draws_inside(count, len(groups)):
        # In a single array, units first: sparse products would copy it each time.
        return groups, np.ascontiguousarray(drawn.T, dtype=np.float64)
    counts = np.empty((len(groups), rounds))
    for group, size in enumerate(sizes):
        counts[groups == group] = rng.multinomial(drawn[:, group] * size, np.full(size, 1 / size)).T
    return np.arange(len(groups)), counts


def interval(rounds: np.ndarray, groups: int, *, inside: bool, level: float = LEVEL) -> tuple[np.ndarray, np.ndarray]:
    """Lower and upper end of the interval from the values of all rounds, along the last axis.

    Percentiles are widened, since a few groups understate the variance: by ``sqrt(n / (n - 1))`` and Student's t with
    ``n - 1`` degrees of freedom (T. Hesterberg, "What Teachers Should Know About the Bootstrap", The American
    Statistician 69, 2015). inside : whether clips were drawn within groups, which widens the interval already, so
    that t is skipped. NaN rounds are skipped.
    """
    spread = np.sqrt(groups / max(groups - 1, 1))
    upper = (1 + level) / 2
    reach = scipy.special.ndtri(upper) if inside else scipy.special.stdtrit(max(groups - 1, 1), upper)
    tail = 100 * float(scipy.special.ndtr(-reach * spread))
    known = np.isfinite(rounds).any(axis=-1)
    ends = np.full((2, *known.shape), np.nan)
    # Rows without NaN at once; the rest is sorted row by row.
    whole = ~np.isnan(rounds).any(axis=-1)
    for part, percentile in ((whole, np.percentile), (known & ~whole, np.nanpercentile)):
        if part.any():
            ends[:, part] = percentile(rounds[part], [tail, 100 - tail], axis=-1)
    return ends[0], ends[1]
