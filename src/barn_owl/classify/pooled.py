"""The pooled families: statistics over the frames of a window make a row, and a classifier of rows judges it."""

import time
from collections.abc import Iterator, Mapping
from contextlib import closing
from typing import Any

import numpy as np

from barn_owl.classify import kernel, logistic, majority, nearest, trees
from barn_owl.classify.family import Cost, Judged
from barn_owl.classify.fitted import Examples, Fitted, Progress, Watcher, judge_logits, label_weights
from barn_owl.classify.plan import Plan
from barn_owl.classify.rows import Candidate, RowClassifier, RowTask
from barn_owl.classify.windows import TrainingWindows, central_windows
from barn_owl.features import pool

STEP = 4
REACH = 32
TURNS = 4
"""Times a window is drawn of each clip: once as it is, then changed."""
WINDOWS_AT_ONCE = 128


class Pooled:
    """A family that pools windows and hands the rows to a classifier.

    centre, spread : of each feature of the training rows, further columns at the end; ``(features,)``.
    """

    step = STEP

    def __init__(
        self,
        name: str,
        window: int,
        statistics: list[str],
        classifier: RowClassifier,
        centre: np.ndarray,
        spread: np.ndarray,
    ) -> None:
        self.name, self.window, self.statistics = name, window, statistics
        self.classifier, self.centre, self.spread = classifier, centre, spread
        self.reach = min(REACH, window)

    def logits(self, frames: np.ndarray, extras: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
        """Return the logits of all windows, and of short stretches of `reach` frames; see `Family`."""
        windows, local = (
            np.concatenate([self.classifier.logits(rows) for rows in self._rows_of(frames, length, extras)])
            for length in (self.window, self.reach)
        )
        return windows, local

    def judge(self, frames: np.ndarray, extras: np.ndarray | None = None) -> Judged:
        """Return the logits, and the rows that the classifier is given; see `Family`."""
        rows = list(self._rows_of(frames, self.window, extras))
        windows = np.concatenate([self.classifier.logits(part) for part in rows])
        local = [self.classifier.logits(part) for part in self._rows_of(frames, self.reach, extras)]
        return Judged(windows, np.concatenate(local), np.concatenate(rows))

    def _rows_of(self, frames: np.ndarray, length: int, extras: np.ndarray | None) -> Iterator[np.ndarray]:
        view = np.lib.stride_tricks.sliding_window_view(frames, length, axis=0)[:: self.step].swapaxes(1, 2)
        for at in range(0, len(view), WINDOWS_AT_ONCE):
            yield self.rows(view[at : at + WINDOWS_AT_ONCE], extras)

    def rows(self, windows: np.ndarray, extras: np.ndarray | None = None) -> np.ndarray:
        """Rows of standardised windows, ``(windows, frames, features)``; what is not known of extras is average.

        extras : for each window, or the same for all.
        """
        pooled = pool(windows, self.statistics)
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
        return {"frames": self.window, "statistics": self.statistics, **own}

    def cost(self) -> Cost:
        """Numbers the classifier keeps; its multiply-adds and those of the pooling."""
        pooling = self.window * (len(self.centre) // max(1, len(self.statistics))) * len(self.statistics)
        weights = sum(array.size for array in self.classifier.arrays().values())
        return Cost(weights=weights, multiply_adds=pooling + self.classifier.multiply_adds())


class Foreign:
    """An estimator of somebody else's as a classifier of rows: it has ``fit`` and ``predict_proba``."""

    def __init__(self, estimator: Any) -> None:
        self.estimator = estimator

    def logits(self, rows: np.ndarray) -> np.ndarray:
        """Logarithms of the probabilities; see `RowClassifier`."""
        probabilities = np.asarray(self.estimator.predict_proba(rows), dtype=np.float64)
        return np.log(probabilities.clip(1e-6, 1)).astype(np.float32)

    def arrays(self) -> dict[str, np.ndarray]:
        """Nothing that could be written to a model file."""
        return {}

    def multiply_adds(self) -> int:
        """Not known."""
        return 0


def drawn_rows(
    plan: Plan, windows: TrainingWindows, train: Examples, *, workers: int | None
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Pool `TURNS` windows of each clip: the middle one as it is, then changed ones.

    workers : threads that change the sound of the clips for it; None to leave the sound as it is.

    Returns rows (not standardised), their targets, and the clip each comes from.
    """
    rng, every = np.random.default_rng(plan.seed), np.arange(len(train.clips))
    rows, targets = [], []
    for turn in range(TURNS):
        if turn and workers is not None:
            windows.change_all(turn, workers)
        for part in np.array_split(every, -(-len(every) // WINDOWS_AT_ONCE)):
            if turn:
                drawn, aims = windows.draw(part, train.targets[part], rng)
            else:
                drawn, aims = windows.standard(windows.drawer.central(part)), train.targets[part]
            rows.append(np.concatenate([pool(drawn, plan.pooling.statistics), train.extras[part]], axis=1))
            targets.append(aims)
    together = np.concatenate(rows)
    return (
        np.where(np.isnan(together), _mean_of_known(together), together),
        np.concatenate(targets),
        np.tile(every, TURNS),
    )


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
    validation: Examples,
    *,
    workers: int,
    watch: Watcher,
    estimator: Any = None,
) -> Fitted:
    """Fit a pooled family in all ways that the plan allows and keep what is best on the validation clips.

    estimator : one of somebody else's to fit instead of the plan's family.
    """
    with closing(TrainingWindows(plan, labels, train, plan.window_frames)) as windows:
        rows, targets, clips = drawn_rows(plan, windows, train, workers=workers)
        watched = pool(
            windows.standard(central_windows(plan, validation, plan.window_frames)), plan.pooling.statistics
        )
    centre, spread = centre_and_spread(rows)
    watched = np.concatenate([watched, validation.extras], axis=1)
    watched = np.where(np.isnan(watched), centre, watched)
    weights = np.ones(len(rows), dtype=np.float32)
    if plan.training.balance != "none" and not train.overlapping:
        weights = label_weights(train.numbers, len(labels))[train.numbers[clips]]
    task = RowTask(
        rows=(rows - centre) / spread, targets=targets, weights=weights, watched=(watched - centre) / spread,
        overlapping=train.overlapping, rng=np.random.default_rng([plan.seed, TURNS]),
    )  # fmt: skip
    name = plan.family if estimator is None else type(estimator).__name__
    found = _candidates(plan, task) if estimator is None else _foreign(task, estimator)
    kept, curves, interrupted = _best(plan, found, validation, watch)
    family = Pooled(name, plan.window_frames, plan.pooling.statistics, kept.make(), centre, spread)
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


def _foreign(task: RowTask, estimator: Any) -> Iterator[Candidate]:
    estimator.fit(task.rows, task.targets.argmax(axis=1) if not task.overlapping else task.targets > 0.5)
    made = Foreign(estimator)
    yield Candidate.made(made, task.loss(made.logits(task.rows), task.targets)[0], made.logits(task.watched))


def _best(
    plan: Plan, candidates: Iterator[Candidate], validation: Examples, watch: Watcher
) -> tuple[Candidate, list[Progress], bool]:
    """Judge candidates as they come; trees stop when more of them make it no better."""
    patience, steps = {"trees": (plan.trees.patience, plan.trees.rounds)}.get(plan.family, (np.inf, 0))
    begin, curves, interrupted = time.perf_counter(), [], False
    kept, best, best_at = None, np.inf, 0
    try:
        for number, candidate in enumerate(candidates, start=1):
            loss, recall, f1 = judge_logits(candidate.watched, validation)
            badness = loss if plan.training.stop_on == "loss" else -f1
            if kept is None or badness < best:
                kept, best, best_at = candidate, badness, number
            line = Progress(
                epoch=number, epochs=max(steps, number), train_loss=candidate.train_loss, validation_loss=loss,
                validation_recall=recall, validation_f1=f1, best=best_at == number,
                seconds=time.perf_counter() - begin,
            )  # fmt: skip
            curves.append(line)
            watch(line)
            if number - best_at >= patience:
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
