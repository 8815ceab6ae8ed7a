"""Fitting the classifier of a plan."""

from collections.abc import Callable
from typing import Any

import numpy as np
from threadpoolctl import threadpool_limits

from barn_owl.classifiers.kind import NetworkKind
from barn_owl.learn.checkpoint import Checkpoint
from barn_owl.learn.fitted import Examples, Fitted, Watcher
from barn_owl.learn.plan import Plan
from barn_owl.learn.pooled import fit_pooled
from barn_owl.learn.trainer_pool import TrainingProcesses
from barn_owl.learn.training import fit_network


def fit(
    plan: Plan,
    labels: list[str],
    train: Examples,
    validation: Examples | None,
    *,
    workers: int = 2,
    watch: Watcher | None = None,
    estimator: Any = None,
    start: Fitted | None = None,
    resume: Checkpoint | None = None,
    save: Callable[[Checkpoint], None] | None = None,
    keep: int | None = None,
    processes: TrainingProcesses | None = None,
) -> Fitted:
    """Fit the classifier of `plan` on `workers` threads; calls `watch` after each epoch.

    The same plan and frames yield the same weights for any number of workers. After Ctrl-C the current best weights
    are returned, marked as interrupted; during the first epoch, KeyboardInterrupt is raised.

    Parameters
    ----------
    plan : Plan
        Plan.
    labels : list[str]
        Labels.
    train : Examples
        Clips to train on.
    validation : Examples | None
        None to fit for all epochs of the plan and keep the last state or, for a pooled classifier, its candidate
        number `keep`, from 1.
    workers : int
        Number of parallel workers.
    watch : Callable[[Progress], None] | None
        Called with the `Progress` after each epoch.
    estimator : Any
        Third-party, with ``fit`` and ``predict_proba``, in place of a pooled classifier; it cannot be saved.
    start : Fitted | None
        A model of the same shape to train further.
    keep : int | None
        Number of the candidate to keep, from 1, without validation clips.
    processes : TrainingProcesses | None
        Processes for the networks, that are used again by the next training.
    resume : Checkpoint | None
        State from which a network continues.
    save : Callable[[Checkpoint], None] | None
        Called with a `Checkpoint` after each epoch of a network.

    Raises
    ------
    TrainingError
        If the loss stops being a number before there is a best.
    """
    watch = watch or (lambda _: None)
    # Parts of a batch are computed in parallel, so linear algebra uses a single thread.
    with threadpool_limits(limits=1, user_api="blas"), np.errstate(over="ignore", invalid="ignore"):
        if isinstance(plan.kind, NetworkKind) and estimator is None:
            return fit_network(
                plan, labels, train, validation,
                workers=workers, watch=watch, start=start, resume=resume, save=save, processes=processes,
            )  # fmt: skip
        return fit_pooled(plan, labels, train, validation, watch=watch, estimator=estimator, keep=keep)
