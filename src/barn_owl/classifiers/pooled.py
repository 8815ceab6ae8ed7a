"""Pooled classifiers: statistics over the frames of a window form a row, and a row classifier scores it."""

from collections.abc import Callable
from typing import Annotated, Any, Protocol

import numpy as np
from pydantic import Field

from barn_owl.classifiers.base import Cost, FrameScores
from barn_owl.classifiers.level import Level
from barn_owl.classifiers.limits import Size, check_window
from barn_owl.errors import ModelError
from barn_owl.features import pool
from barn_owl.network import sigmoid
from barn_owl.network.level import window_level
from barn_owl.settings import Settings

STEP_S = 0.064
"""Time between windows."""
WINDOWS_PER_BLOCK = 128
NEVER = -30.0
"""Log-odds of labels that are never predicted."""


class RowClassifier(Protocol):
    """Interface of a trained classifier of rows of pooled features."""

    def logits(self, rows: np.ndarray) -> np.ndarray:
        """Return log-odds that each label is active, float32, ``(rows, labels)``.

        rows : pooled features with mean 0 and deviation 1 in training, float32, ``(rows, features)``.
        """

    def state(self) -> dict[str, np.ndarray]:
        """Return the learned arrays by name, for the model file."""

    def multiply_adds(self) -> int:
        """Count the multiply-adds, or operations of similar cost, per row."""


class Pooled:
    """A classifier that pools windows and hands the rows to a classifier.

    window, step : frames of a window, and from one to the next. level : how the gain is taken out of it. center,
    spread : of each feature of the training rows, further columns at the end; ``(features,)``. The classifier gives
    log-odds that a window contains each label; it has no onset scores.
    """

    has_onsets = False

    def __init__(
        self,
        name: str,
        window: int,
        step: int,
        statistics: list[str],
        level: Level,
        row_classifier: RowClassifier,
        center: np.ndarray,
        spread: np.ndarray,
    ) -> None:
        self.name, self.window, self.step = name, window, step
        self.statistics, self.level = statistics, level
        self.row_classifier, self.center, self.spread = row_classifier, center, spread

    def frame_scores(self, frames: np.ndarray, extras: np.ndarray | None = None) -> FrameScores:
        """Return the scores of each window; see `Classifier`."""
        view = np.lib.stride_tricks.sliding_window_view(frames, self.window, axis=0)[:: self.step].swapaxes(1, 2)
        rows = [self.rows(view[at : at + WINDOWS_PER_BLOCK], extras) for at in range(0, len(view), WINDOWS_PER_BLOCK)]
        activity = np.concatenate([self.row_classifier.logits(part) for part in rows])
        # A window counts as much as anything is likely to sound in it, squared.
        attention = 2 * np.log(sigmoid(activity).max(axis=1, keepdims=True) + np.float32(1e-3))
        label_logits = np.concatenate([activity, np.full_like(attention, NEVER), attention], axis=1)
        return FrameScores(activity, np.full_like(activity, NEVER), label_logits, np.concatenate(rows))

    def whole(self, frames: np.ndarray, extras: np.ndarray | None = None) -> np.ndarray:
        """Log-odds of each label for a clip as a whole, ``(labels,)``."""
        return self.row_classifier.logits(self.rows(frames[None], extras))[0]

    def rows(self, windows: np.ndarray, extras: np.ndarray | None = None) -> np.ndarray:
        """Return rows of windows, ``(windows, frames, features)``; unknown extras are set to their mean.

        extras : for each window, or the same for all.
        """
        pooled = pooled_windows(windows, self.statistics, self.level)
        more = len(self.center) - pooled.shape[1]
        if more:
            known = self.center[-more:] if extras is None else np.where(np.isnan(extras), self.center[-more:], extras)
            pooled = np.concatenate([pooled, np.broadcast_to(known, (len(pooled), more))], axis=1, dtype=np.float32)
        return np.asarray((pooled - self.center) / self.spread)

    def state(self) -> dict[str, np.ndarray]:
        """Return the arrays of the row classifier, and the standardization of rows."""
        return {"center": self.center, "spread": self.spread, **self.row_classifier.state()}

    def config(self) -> dict[str, Any]:
        """Return windows, statistics and level normalization."""
        own = self.row_classifier.config() if hasattr(self.row_classifier, "config") else {}
        windows = {"frames": self.window, "step": self.step, "statistics": self.statistics}
        return {**windows, "level": self.level.model_dump(), **own}

    def cost(self, hop_s: float) -> Cost:
        """Return the number of weights, and the multiply-adds with pooling."""
        pooling = self.window * (len(self.center) // max(1, len(self.statistics))) * len(self.statistics)
        weights = sum(array.size for array in self.row_classifier.state().values())
        each = pooling + self.row_classifier.multiply_adds()
        return Cost(weights=weights, multiply_adds=round(each / (self.step * hop_s)))


class EstimatorAdapter:
    """A third-party estimator with ``fit`` and ``predict_proba`` as a row classifier.

    It is trained with a label per row, or with the number after the last for none of the labels.
    """

    def __init__(self, estimator: Any, labels: int) -> None:
        self.estimator, self._labels = estimator, labels

    def logits(self, rows: np.ndarray) -> np.ndarray:
        """Log-odds of the probabilities; see `RowClassifier`."""
        probability = np.zeros((len(rows), self._labels + 1))
        given = self.estimator.predict_proba(rows)
        probability[:, np.asarray(getattr(self.estimator, "classes_", np.arange(given.shape[1])), dtype=int)] = given
        probability = probability[:, : self._labels].clip(1e-6, 1 - 1e-6)
        return (np.log(probability) - np.log1p(-probability)).astype(np.float32)

    def state(self) -> dict[str, np.ndarray]:
        """Nothing that could be written to a model file."""
        return {}

    def config(self) -> dict[str, Any]:
        """Raise ModelError: it cannot be written."""
        name = type(self.estimator).__name__
        raise ModelError(f"a model of {name} cannot be written: its inside is not ours to know")

    def multiply_adds(self) -> int:
        """Return 0, since the cost is unknown."""
        return 0


def pooled_windows(windows: np.ndarray, statistics: list[str], level: Level) -> np.ndarray:
    """Statistics over time of windows, ``(windows, frames, features)``, without their gain if that is to be."""
    return pool(window_level(windows, level.range_db) if level.frames else windows, statistics)


class PooledConfig(Settings):
    """Entry of a `Pooled` classifier in a model file."""

    name: Annotated[str, Field(max_length=100)]
    frames: Size
    step: Size
    statistics: list[Annotated[str, Field(max_length=40)]] = Field(min_length=1, max_length=64)
    level: Level


def rebuilt(
    config: PooledConfig, arrays: dict[str, np.ndarray], features: int, labels: int,
    make: Callable[[dict[str, np.ndarray]], RowClassifier],
) -> Pooled:  # fmt: skip
    """Rebuild a classifier; `make` rebuilds its row classifier. Raises KeyError or ValueError for wrong arrays."""
    check_window(config.frames, features)
    center, spread = arrays["center"], arrays["spread"]
    least = features * len(config.statistics)
    if center.ndim != 1 or center.shape != spread.shape or len(center) < least:
        raise ValueError(f"rows are standardized with {center.shape} numbers, expected {least} or more")
    if not (spread > 0).all():
        raise ValueError("rows are standardized with a spread that is not above 0")
    classifier = make(arrays)
    given = classifier.logits(np.zeros((1, len(center)), dtype=np.float32)).shape
    if given != (1, labels):
        raise ValueError(f"the classifier gives scores of shape {given} for {labels} labels")
    windows = config.frames, config.step, config.statistics, config.level
    return Pooled(config.name, *windows, classifier, center, spread)
