"""The pooled families: statistics over the frames of a window make a row, and a classifier of rows judges it."""

from collections.abc import Mapping
from typing import Any

import numpy as np

from barn_owl.features import pool
from barn_owl.model import kernel, logistic, majority, nearest, trees
from barn_owl.model.family import Cost, Steps
from barn_owl.model.rows import RowClassifier
from barn_owl.model.settings import LevelSettings
from barn_owl.network import sigmoid
from barn_owl.network.level import window_level

STEP = 4
"""Frames from one window to the next."""
WINDOWS_AT_ONCE = 128
NEVER = -30.0
"""Log-odds of what is never said."""


class Pooled:
    """A family that pools windows and hands the rows to a classifier.

    level : how the gain is taken out of a window. centre, spread : of each feature of the training rows, further
    columns at the end; ``(features,)``. The classifier gives the log-odds of each label that a window holds it; where
    in the window a sound begins, it does not say.
    """

    step, onsets = STEP, False

    def __init__(
        self,
        name: str,
        window: int,
        statistics: list[str],
        level: LevelSettings,
        classifier: RowClassifier,
        centre: np.ndarray,
        spread: np.ndarray,
    ) -> None:
        self.name, self.window, self.statistics, self.level = name, window, statistics, level
        self.classifier, self.centre, self.spread = classifier, centre, spread

    def steps(self, frames: np.ndarray, extras: np.ndarray | None = None) -> Steps:
        """Return what the classifier says of each window; see `Family`."""
        view = np.lib.stride_tricks.sliding_window_view(frames, self.window, axis=0)[:: self.step].swapaxes(1, 2)
        rows = [self.rows(view[at : at + WINDOWS_AT_ONCE], extras) for at in range(0, len(view), WINDOWS_AT_ONCE)]
        sounds = np.concatenate([self.classifier.logits(part) for part in rows])
        # A window counts as much as anything is likely to sound in it, squared.
        attention = 2 * np.log(sigmoid(sounds).max(axis=1, keepdims=True) + np.float32(1e-3))
        naming = np.concatenate([sounds, np.full_like(attention, NEVER), attention], axis=1)
        return Steps(sounds, np.full_like(sounds, NEVER), naming, np.concatenate(rows))

    def rows(self, windows: np.ndarray, extras: np.ndarray | None = None) -> np.ndarray:
        """Rows of windows, ``(windows, frames, features)``; what is not known of extras is average.

        extras : for each window, or the same for all.
        """
        pooled = pooled_windows(windows, self.statistics, self.level)
        more = len(self.centre) - pooled.shape[1]
        if more:
            known = self.centre[-more:] if extras is None else np.where(np.isnan(extras), self.centre[-more:], extras)
            pooled = np.concatenate([pooled, np.broadcast_to(known, (len(pooled), more))], axis=1, dtype=np.float32)
        return np.asarray((pooled - self.centre) / self.spread)

    def arrays(self) -> dict[str, np.ndarray]:
        """What the classifier learnt, and what the rows are standardised with."""
        return {"centre": self.centre, "spread": self.spread, **self.classifier.arrays()}

    def shape(self) -> dict[str, Any]:
        """Length of the window, and the statistics."""
        own = self.classifier.shape() if hasattr(self.classifier, "shape") else {}
        return {"frames": self.window, "statistics": self.statistics, "level": self.level.model_dump(), **own}

    def cost(self, hop_s: float) -> Cost:
        """Numbers the classifier keeps; its multiply-adds and those of the pooling."""
        pooling = self.window * (len(self.centre) // max(1, len(self.statistics))) * len(self.statistics)
        weights = sum(array.size for array in self.classifier.arrays().values())
        each = pooling + self.classifier.multiply_adds()
        return Cost(weights=weights, multiply_adds=round(each / (self.step * hop_s)))


class SomebodyElses:
    """An estimator of somebody else's as a classifier of rows: it has ``fit`` and ``predict_proba``.

    It is taught one label a row, or none of them, which is the number behind the last.
    """

    def __init__(self, estimator: Any, labels: int) -> None:
        self.estimator, self._labels = estimator, labels

    def logits(self, rows: np.ndarray) -> np.ndarray:
        """Log-odds of the probabilities; see `RowClassifier`."""
        said = np.zeros((len(rows), self._labels + 1))
        given = self.estimator.predict_proba(rows)
        said[:, np.asarray(getattr(self.estimator, "classes_", np.arange(given.shape[1])), dtype=int)] = given
        said = said[:, : self._labels].clip(1e-6, 1 - 1e-6)
        return (np.log(said) - np.log1p(-said)).astype(np.float32)

    def arrays(self) -> dict[str, np.ndarray]:
        """Nothing that could be written to a model file."""
        return {}

    def multiply_adds(self) -> int:
        """Not known."""
        return 0


def pooled_windows(windows: np.ndarray, statistics: list[str], level: LevelSettings) -> np.ndarray:
    """Statistics over time of windows, ``(windows, frames, features)``, without their gain if that is to be."""
    return pool(window_level(windows, level.range_db) if level.frames else windows, statistics)


def _only(array: np.ndarray, kind: type[Any]) -> Any:
    """The one number of an array; raises ValueError when there is none or more."""
    if array.size != 1:
        raise ValueError(f"one number was expected, there are {array.size}")
    return kind(array.ravel()[0])


CLASSIFIERS: Mapping[str, Any] = {
    "majority": lambda a: majority.Majority(a["shares"]),
    "nearest": lambda a: nearest.Nearest(a["rows"], a["votes"], _only(a["neighbours"], int)),
    "logistic": lambda a: logistic.Linear(a["kernel"], a["bias"]),
    "kernel": lambda a: kernel.Kernel(a["landmarks"], _only(a["width"], float), a["coefficients"], a["bias"]),
    "trees": lambda a: trees.Trees(a["features"], a["cuts"], a["leaves"], a["start"]),
}
"""Build the classifier of a family again from its arrays."""
