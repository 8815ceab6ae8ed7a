"""The pooled families: statistics over the frames of a window make a row, and a classifier of rows judges it."""

import time
from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np

from barn_owl.classify import kernel, logistic, majority, nearest, trees
from barn_owl.classify.family import Cost, Steps
from barn_owl.classify.fitted import (
    Examples,
    Fitted,
    Progress,
    Watcher,
    background_numbers,
    judge_logits,
    rarest_label,
    standardisation,
)
from barn_owl.classify.network.level import window_level
from barn_owl.classify.plan import LevelSettings, Plan
from barn_owl.classify.rows import Candidate, RowClassifier, RowTask
from barn_owl.classify.scenes import LEAST_FRAMES, SceneMaker
from barn_owl.classify.variants import Variants
from barn_owl.features import pool

STEP = 4
TURNS = 4
"""Times the sound of the clips is changed anew while windows are drawn."""
MOST_SOUNDS = 2
"""Sounds in a window at most."""
ROWS_STREAM, WATCHED_STREAM = 37, 41
WINDOWS_AT_ONCE = 128
NEVER = -30.0
"""Log-odds of what is never said."""


class Pooled:
    """A family that pools windows and hands the rows to a classifier.

    level : how the gain is taken out of a window. centre, spread : of each feature of the training rows, further
    columns at the end; ``(features,)``. The classifier gives the log-odds of each label that a window holds it; where
    in the window a sound begins, it does not say.
    """

    step = STEP

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
        return Steps(sounds, np.full_like(sounds, NEVER), np.concatenate(rows))

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

    def cost(self) -> Cost:
        """Numbers the classifier keeps; its multiply-adds and those of the pooling, for 25 windows a second."""
        pooling = self.window * (len(self.centre) // max(1, len(self.statistics))) * len(self.statistics)
        weights = sum(array.size for array in self.classifier.arrays().values())
        each = pooling + self.classifier.multiply_adds()
        return Cost(weights=weights, multiply_adds=each * STEPS_A_SECOND)


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


STEPS_A_SECOND = 25
"""Windows a second, at a hop of 10 ms."""


def pooled_windows(windows: np.ndarray, statistics: list[str], level: LevelSettings) -> np.ndarray:
    """Statistics over time of windows, ``(windows, frames, features)``, without their gain if that is to be."""
    return pool(window_level(windows, level.range_db) if level.frames else windows, statistics)


class PooledWindows:
    """Rows of windows out of scenes, not standardised; their targets, and the names of their clips.

    watched : draw them as they are looked at while others are learnt from: their sound is not changed.
    """

    def __init__(self, plan: Plan, labels: list[str], examples: Examples, *, watched: bool = False) -> None:
        rng = np.random.default_rng([plan.seed, WATCHED_STREAM if watched else ROWS_STREAM])
        background = background_numbers(plan, labels)
        maker = SceneMaker(plan, examples, background)
        self.mean, self.deviation = standardisation(plan, examples.clips)
        count = max(1, plan.pooling.windows // (2 if watched else 1) // TURNS)
        beds = np.flatnonzero(examples.targets[:, background].any(axis=1))
        variants = Variants(examples.sources, beds, plan) if plan.sound.any and examples.sources else None
        rows, targets, self.names = [], [], []
        for turn in range(TURNS):
            if variants is not None and turn and not watched:
                for clip, frames in enumerate(variants.of_all(turn, workers=1)):
                    maker.replace(clip, frames)
            scenes = maker.make(count, plan.window_frames, rng, most=MOST_SOUNDS)
            heard = scenes.sounds.sum(axis=1) >= LEAST_FRAMES
            named = np.array([number not in background for number in range(len(labels))])
            heard[:, ~named] &= ~heard[:, named].any(axis=1, keepdims=True)
            sure = ~((scenes.counts == 0).any(axis=1) & ~heard)[:, named].any(axis=1)
            windows = (scenes.frames[sure] - self.mean) / self.deviation
            pooled = pooled_windows(windows, plan.pooling.statistics, plan.levels)
            none = np.full((1, examples.extras.shape[1]), np.nan, dtype=np.float32)
            extras = np.concatenate([examples.extras, none])[scenes.clips[sure]]
            rows.append(np.concatenate([pooled, extras], axis=1))
            targets.append(heard[sure].astype(np.float32))
            self.names += [examples.name(int(clip)) if clip >= 0 else "background" for clip in scenes.clips[sure]]
        if variants is not None:
            variants.close()
        together = np.concatenate(rows)
        self.rows = np.where(np.isnan(together), _mean_of_known(together), together)
        self.targets = np.concatenate(targets)


def _mean_of_known(rows: np.ndarray) -> np.ndarray:
    """Mean of each column over what is known of it; 0 where nothing is."""
    known = ~np.isnan(rows)
    return np.asarray(np.where(known, rows, 0).sum(axis=0) / np.maximum(known.sum(axis=0), 1), dtype=np.float32)


def centre_and_spread(rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Mean and deviation of each feature; one that never changes is left as it is. float32."""
    spread = rows.std(axis=0, dtype=np.float64)
    return rows.mean(axis=0, dtype=np.float64).astype(np.float32), np.where(spread > 1e-6, spread, 1).astype(
        np.float32
    )


def fit_pooled(
    plan: Plan,
    labels: list[str],
    train: Examples,
    validation: Examples | None,
    *,
    watch: Watcher,
    estimator: Any = None,
    keep: int | None = None,
) -> Fitted:
    """Fit a pooled family in all ways that the plan allows and keep what is best on the validation clips.

    estimator : one of somebody else's to fit instead of the plan's family. keep : number, from 1, of the way to
    keep, where there are no validation clips to choose by.
    """
    windows = PooledWindows(plan, labels, train)
    watched = windows if validation is None else PooledWindows(plan, labels, validation, watched=True)
    centre, spread = centre_and_spread(windows.rows)
    task = RowTask(
        rows=(windows.rows - centre) / spread, targets=windows.targets,
        weights=np.ones(len(windows.rows), dtype=np.float32), watched=(watched.rows - centre) / spread,
        overlapping=True, rng=np.random.default_rng([plan.seed, TURNS]),
    )  # fmt: skip
    name = plan.family if estimator is None else type(estimator).__name__
    found = _candidates(plan, task) if estimator is None else _somebody_elses(task, estimator)
    kept, curves, interrupted = _best(plan, found, watched.targets, watch, keep)
    family = Pooled(name, plan.window_frames, plan.pooling.statistics, plan.levels, kept.make(), centre, spread)
    return Fitted(
        family=family, mean=windows.mean, deviation=windows.deviation, curves=curves, interrupted=interrupted
    )


def _candidates(plan: Plan, task: RowTask) -> Iterator[Candidate]:
    if plan.family == "majority":
        return majority.candidates(task)
    if plan.family == "nearest":
        return nearest.candidates(task, plan.nearest)
    if plan.family == "logistic":
        return logistic.candidates(task, plan.logistic)
    if plan.family == "kernel":
        return kernel.candidates(task, plan.kernel)
    return trees.candidates(task, plan.trees)


def _somebody_elses(task: RowTask, estimator: Any) -> Iterator[Candidate]:
    estimator.fit(task.rows, rarest_label(task.targets))
    made = SomebodyElses(estimator, task.targets.shape[1])
    yield Candidate.made(made, task.loss(made.logits(task.rows), task.targets)[0], made.logits(task.watched))


def _best(
    plan: Plan, candidates: Iterator[Candidate], targets: np.ndarray, watch: Watcher, keep: int | None
) -> tuple[Candidate, list[Progress], bool]:
    """Judge candidates as they come; trees stop when more of them make it no better."""
    patience, steps = {"trees": (plan.trees.patience, plan.trees.rounds)}.get(plan.family, (np.inf, 0))
    begin, curves, interrupted = time.perf_counter(), [], False
    kept, best, best_at = None, np.inf, 0
    try:
        for number, candidate in enumerate(candidates, start=1):
            loss, recall, f1 = judge_logits(candidate.watched, targets, overlapping=True)
            badness = loss if plan.training.stop_on == "loss" else -f1
            if keep is not None:
                badness = abs(number - keep)
            if kept is None or badness < best:
                kept, best, best_at = candidate, badness, number
            line = Progress(
                epoch=number, epochs=max(steps, number), train_loss=candidate.train_loss, validation_loss=loss,
                validation_recall=recall, validation_f1=f1, best=best_at == number,
                seconds=time.perf_counter() - begin,
            )  # fmt: skip
            curves.append(line)
            watch(line)
            if number - best_at >= patience or number == keep:
                break
    except KeyboardInterrupt:
        interrupted = True
    if kept is None:
        raise KeyboardInterrupt
    return kept, curves, interrupted


CLASSIFIERS: Mapping[str, Any] = {
    "majority": lambda a: majority.Majority(a["shares"]),
    "nearest": lambda a: nearest.Nearest(a["rows"], a["votes"], int(a["settings"][0]), bool(a["settings"][1])),
    "logistic": lambda a: logistic.Linear(a["kernel"], a["bias"]),
    "kernel": lambda a: kernel.Kernel(a["landmarks"], float(a["width"][0]), a["coefficients"], a["bias"]),
    "trees": lambda a: trees.Trees(a["features"], a["cuts"], a["leaves"], a["start"]),
}
"""Build the classifier of a family again from its arrays."""
