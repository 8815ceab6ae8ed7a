"""Fitting the pooled classifiers on windows of mixtures and of whole clips."""

import time
from collections.abc import Iterator
from functools import partial
from typing import Any

import numpy as np

from barn_owl.classifiers.kind import RowsKind
from barn_owl.classifiers.pooled import EstimatorAdapter, Pooled, pooled_windows
from barn_owl.classifiers.row_classifiers import Candidate, RowTask
from barn_owl.learn.fitted import (
    Examples,
    Fitted,
    Progress,
    Watcher,
    background_numbers,
    evaluate_logits,
    rarest_label,
    standardization,
)
from barn_owl.learn.mixtures import MIN_FRAMES, MixtureMaker
from barn_owl.learn.plan import Plan
from barn_owl.learn.sharing import shared
from barn_owl.learn.variants import Variants
from barn_owl.network import binary_cross_entropy

VARIANT_ROUNDS = 4
"""Rounds of drawing windows, each from other variants of the clips."""
MAX_SOUNDS = 2
"""Largest number of sounds in a window."""
ROWS_STREAM, VALIDATION_STREAM = 37, 41
"""Streams of random numbers of the windows for training and for validation."""


class PooledWindows:
    """Rows of windows of mixtures and of whole clips, not standardized, with targets and names of the clips.

    watched : draw windows for validation: without variants of the clips.
    """

    def __init__(self, plan: Plan, labels: list[str], examples: Examples, *, watched: bool = False) -> None:
        rng = np.random.default_rng([plan.seed, VALIDATION_STREAM if watched else ROWS_STREAM])
        background = background_numbers(plan, labels)
        maker = MixtureMaker(plan, examples, background)
        self.mean, self.deviation = standardization(plan, examples.clips)
        count = max(1, plan.pooling.windows // (2 if watched else 1) // VARIANT_ROUNDS)
        beds = np.flatnonzero(examples.targets[:, background].any(axis=1))
        variants = Variants(examples.sources, beds, plan) if plan.sound.any and examples.sources else None
        rows, targets, self.names = [], [], []
        for round_ in range(VARIANT_ROUNDS):
            if variants is not None and round_ and not watched:
                for clip, frames in enumerate(variants.of_all(round_, workers=1)):
                    maker.replace(clip, frames)
            mixtures = maker.make(count, plan.window_frames, rng, most=MAX_SOUNDS, whole=0.0)
            active = mixtures.activity.sum(axis=1) >= MIN_FRAMES
            is_event = np.array([number not in background for number in range(len(labels))])
            active[:, ~is_event] &= ~active[:, is_event].any(axis=1, keepdims=True)
            certain = ~((mixtures.counts == 0).any(axis=1) & ~active)[:, is_event].any(axis=1)
            windows = (mixtures.frames[certain] - self.mean) / self.deviation
            pooled = pooled_windows(windows, plan.pooling.statistics, plan.levels)
            none = np.full((1, examples.extras.shape[1]), np.nan, dtype=np.float32)
            extras = np.concatenate([examples.extras, none])[mixtures.clips[certain]]
            rows.append(np.concatenate([pooled, extras], axis=1))
            targets.append(active[certain].astype(np.float32))
            self.names += [
                examples.name(int(clip)) if clip >= 0 else "background" for clip in mixtures.clips[certain]
            ]
        if variants is not None:
            variants.close()
        for pooled, kinds, names in self._whole_clips(plan, examples, count * VARIANT_ROUNDS):
            rows.append(pooled)
            targets.append(kinds)
            self.names += names
        together = np.concatenate(rows)
        self.rows = np.where(np.isnan(together), _known_means(together), together)
        self.targets = np.concatenate(targets)

    def _whole_clips(
        self, plan: Plan, examples: Examples, windows: int
    ) -> Iterator[tuple[np.ndarray, np.ndarray, list[str]]]:
        """Yield rows, targets and names of whole clips, label by label: half as many as windows, labels balanced."""
        numbers = examples.numbers
        per_label = max(1, windows // 2 // len(np.unique(numbers)))
        for number in np.unique(numbers):
            own = np.flatnonzero(numbers == number)
            clips = [(examples.clips.parts[clip] - self.mean) / self.deviation for clip in own]
            made = [pooled_windows(clip[None], plan.pooling.statistics, plan.levels) for clip in clips]
            rows = np.concatenate(made)
            again = np.resize(np.arange(len(own)), max(per_label, len(own)))
            rows = np.concatenate([rows, examples.extras[own]], axis=1)[again]
            yield rows, examples.targets[own][again], [examples.name(int(own[one])) for one in again]


def drawn_windows(plan: Plan, labels: list[str], examples: Examples, *, watched: bool = False) -> PooledWindows:
    """Draw windows, or return the windows of an earlier classifier of the same training, to be read only."""
    clips = (tuple(labels), tuple(examples.sources), examples.targets.tobytes(), examples.extras.tobytes())
    make = partial(PooledWindows, plan, labels, examples, watched=watched)
    return shared(make, examples.memo, plan, "windows", watched, clips)


def _known_means(rows: np.ndarray) -> np.ndarray:
    """Return the mean of the known values of each column; 0 without any."""
    known = ~np.isnan(rows)
    return np.asarray(np.where(known, rows, 0).sum(axis=0) / np.maximum(known.sum(axis=0), 1), dtype=np.float32)


def center_and_spread(rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return mean and deviation of each feature, float32; constant features are not scaled."""
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
    """Fit a pooled classifier with all candidates of the plan and keep the best on the validation clips.

    estimator : a third-party estimator to fit instead of the plan's classifier. keep : number, from 1, of the
    candidate to keep where no validation clips choose.
    """
    windows = drawn_windows(plan, labels, train)
    watched = windows if validation is None else drawn_windows(plan, labels, validation, watched=True)
    center, spread = center_and_spread(windows.rows)
    task = RowTask(
        rows=(windows.rows - center) / spread, targets=windows.targets,
        weights=np.ones(len(windows.rows), dtype=np.float32), watched=(watched.rows - center) / spread,
        rng=np.random.default_rng([plan.seed, VARIANT_ROUNDS]),
    )  # fmt: skip
    name = plan.classifier if estimator is None else type(estimator).__name__
    if estimator is not None or not isinstance(plan.kind, RowsKind):
        found, stops = _adapted_estimator(task, estimator), (np.inf, 0)
    else:
        found, stops = plan.kind.candidates(task, plan.own), plan.kind.stops(plan.own)
    kept, curves, interrupted = _best(plan, found, stops, watched.targets, watch, keep)
    how = plan.window_frames, plan.window_step, plan.pooling.statistics, plan.levels
    classifier = Pooled(name, *how, kept.make(), center, spread)
    return Fitted(
        classifier=classifier, mean=windows.mean, deviation=windows.deviation, curves=curves, interrupted=interrupted
    )


def _adapted_estimator(task: RowTask, estimator: Any) -> Iterator[Candidate]:
    estimator.fit(task.rows, rarest_label(task.targets))
    made = EstimatorAdapter(estimator, task.targets.shape[1])
    loss = binary_cross_entropy(made.logits(task.rows), task.targets)[0]
    yield Candidate.made(made, loss, made.logits(task.watched))


def _best(
    plan: Plan,
    candidates: Iterator[Candidate],
    stops: tuple[float, int],
    targets: np.ndarray,
    watch: Watcher,
    keep: int | None,
) -> tuple[Candidate, list[Progress], bool]:
    """Return the best candidate on the validation targets, all scores, and whether Ctrl-C ended the search."""
    patience, steps = stops
    begin, curves, interrupted = time.perf_counter(), [], False
    kept, best, best_at = None, np.inf, 0
    try:
        for number, candidate in enumerate(candidates, start=1):
            loss, recall, f1 = evaluate_logits(candidate.watched, targets, multilabel=True)
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
