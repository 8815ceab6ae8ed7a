"""Pooling of frames over time into a row of statistics."""

from collections.abc import Callable, Sequence

import numpy as np

from barn_owl.arrays import quantile
from barn_owl.errors import PlanError

LOUD_SHARE = 0.2
"""Share of the frames that count as loud: a short sound fills about as much of a window."""


def _slope(frames: np.ndarray) -> np.ndarray:
    at = np.arange(frames.shape[-2]) - (frames.shape[-2] - 1) / 2
    return np.tensordot(frames, at / max((at**2).sum(), 1), axes=([-2], [0]))


def _change(frames: np.ndarray) -> np.ndarray:
    if frames.shape[-2] < 2:
        return np.zeros((*frames.shape[:-2], frames.shape[-1]))
    return np.abs(np.diff(frames, axis=-2)).mean(axis=-2, dtype=np.float64)


def _loud(frames: np.ndarray) -> np.ndarray:
    count = max(1, round(LOUD_SHARE * frames.shape[-2]))
    loudest = np.argpartition(frames.mean(axis=-1), -count, axis=-1)[..., -count:]
    return np.take_along_axis(frames, loudest[..., None], axis=-2).mean(axis=-2, dtype=np.float64)


STATISTICS: dict[str, Callable[[np.ndarray], np.ndarray]] = {
    "mean": lambda frames: frames.mean(axis=-2, dtype=np.float64),
    "deviation": lambda frames: frames.std(axis=-2, dtype=np.float64),
    "minimum": lambda frames: frames.min(axis=-2),
    "maximum": lambda frames: frames.max(axis=-2),
    "slope": _slope,
    "change": _change,
    "loud": _loud,
}
"""Statistics over time by name; ``quantile 0.9`` and the like are allowed too."""


def pool(frames: np.ndarray, statistics: Sequence[str] = ("mean", "deviation")) -> np.ndarray:
    """Compute statistics over time of each feature.

    Parameters
    ----------
    frames : np.ndarray
        Shape ``(..., frames, features)``.
    statistics : Sequence[str]
        ``mean``, ``deviation`` (of the population), ``minimum``, ``maximum``, ``loud`` (mean over the fifth of the
        frames with the highest mean), ``slope`` (of the least-squares line, per frame), ``change`` (mean absolute
        difference between adjacent frames) or ``quantile Q``, Q from 0 to 1.

    Returns
    -------
    np.ndarray
        Float32, shape ``(..., len(statistics) * features)``: the first statistic of all features, then the
        second, and so on. Sums are kept in float64.

    Raises
    ------
    PlanError
        For an unknown statistic.

    Examples
    --------
    >>> barn_owl.features.pool(np.zeros((100, 48), np.float32), ["mean", "deviation"]).shape
    (96,)
    """
    frames = np.asarray(frames)
    if frames.ndim < 2 or not frames.size or frames.dtype.kind not in "fiu":
        raise ValueError(f"frames must have the shape (..., frames, features), got {frames.dtype} {frames.shape}")
    if not len(statistics):
        raise PlanError("statistics must name one or more")
    return np.concatenate([_statistic(frames, name) for name in statistics], axis=-1).astype(np.float32)


def pooled_names(columns: Sequence[str], statistics: Sequence[str] = ("mean", "deviation")) -> list[str]:
    """Names of the columns that `pool` returns.

    Parameters
    ----------
    columns : Sequence[str]
        Names of the columns of the frames.
    statistics : Sequence[str]
        Statistics over the frames.

    Examples
    --------
    >>> barn_owl.features.pooled_names(["pitch"], ["mean", "deviation"])
    ['mean of pitch', 'deviation of pitch']
    """
    return [f"{statistic} of {column}" for statistic in statistics for column in columns]


def _statistic(frames: np.ndarray, name: str) -> np.ndarray:
    if name in STATISTICS:
        return STATISTICS[name](frames)
    kind, _, share = name.partition(" ")
    try:
        if kind == "quantile" and 0 <= float(share) <= 1:
            return quantile(np.moveaxis(frames, -2, 0), float(share))
    except ValueError:
        pass  # not a number: reported below
    raise PlanError(f"there is no statistic {name!r}; there are {', '.join(STATISTICS)} and quantile 0 to 1")
