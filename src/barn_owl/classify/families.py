"""The families by name: fitting one, and building a trained one again from a file."""

from collections.abc import Callable
from typing import Any

import numpy as np
from threadpoolctl import threadpool_limits

from barn_owl.classify.checkpoint import Checkpoint
from barn_owl.classify.convolutional import Convolutional
from barn_owl.classify.ensemble import Ensemble
from barn_owl.classify.family import Family
from barn_owl.classify.fitted import Examples, Fitted, Watcher
from barn_owl.classify.mlp import Mlp
from barn_owl.classify.network.architecture import NetworkSettings
from barn_owl.classify.plan import LevelSettings, MlpSettings, Plan
from barn_owl.classify.pooled import CLASSIFIERS, Pooled, fit_pooled
from barn_owl.classify.training import fit_network

NETWORKS = ("mlp", "cnn")
"""Families that are trained epoch by epoch, and so can be stopped and resumed."""


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
) -> Fitted:
    """Fit the family that `plan` names, on `workers` threads; `watch` is called after each epoch.

    estimator : somebody else's, with ``fit`` and ``predict_proba``, in place of a pooled family; it cannot be saved.
    start : a model of the same shape to train further. resume, save : where a network goes on, and what is called
    with a `Checkpoint` after each epoch. validation : None to fit as long as the plan says, and keep what comes last,
    or, of a pooled family, its way number `keep`, from 1.

    The same plan on the same frames gives the same weights, whatever the number of workers. On Ctrl-C the
    best weights so far are returned, marked as interrupted; before the first epoch is over, the
    KeyboardInterrupt goes through. Raises TrainingError when the loss stops being a number before there is a best.
    """
    watch = watch or (lambda _: None)
    # The parts of a batch are the unit of parallel work, so the linear algebra inside one is not.
    with threadpool_limits(limits=1, user_api="blas"), np.errstate(over="ignore", invalid="ignore"):
        if plan.family in NETWORKS and estimator is None:
            return fit_network(
                plan, labels, train, validation,
                workers=workers, watch=watch, start=start, resume=resume, save=save,
            )  # fmt: skip
        return fit_pooled(plan, labels, train, validation, watch=watch, estimator=estimator, keep=keep)


def rebuild(name: str, shape: dict[str, Any], arrays: dict[str, np.ndarray], features: int, labels: int) -> Family:
    """Build a trained family again from what its ``shape`` and ``arrays`` gave, for frames of `features`.

    Raises KeyError or ValueError when the name is not known or the arrays do not fit.
    """
    if name == "ensemble":
        return _ensemble(shape, arrays, features, labels)
    level = LevelSettings(**shape["level"])
    if name == "cnn":
        made = Convolutional(features, labels, NetworkSettings(**shape["settings"]), level, np.random.default_rng(0))
        made.network.load(arrays)
        return made
    centre, spread = arrays["centre"], arrays["spread"]
    least = features * len(shape["statistics"])
    if centre.shape != spread.shape or len(centre) < least:
        raise ValueError(f"rows are standardised with {len(centre)} numbers, expected {least} or more")
    classifier: Any
    if name == "mlp":
        classifier = Mlp(len(centre), labels, MlpSettings(**shape["settings"]), np.random.default_rng(0))
        classifier.network.load(arrays)
    else:
        classifier = CLASSIFIERS[name](arrays)
    family = Pooled(name, shape["frames"], shape["statistics"], level, classifier, centre, spread)
    given = classifier.logits(np.zeros((1, len(centre)), dtype=np.float32)).shape
    if given != (1, labels):
        raise ValueError(f"the classifier gives {given[1]} scores for {labels} labels")
    return family


def _ensemble(shape: dict[str, Any], arrays: dict[str, np.ndarray], features: int, labels: int) -> Ensemble:
    members = []
    for number, member in enumerate(shape["members"]):
        prefix = f"{number}."
        own = {name[len(prefix) :]: array for name, array in arrays.items() if name.startswith(prefix)}
        standard = own.pop("mean_"), own.pop("deviation_")
        its_shape = dict(member)
        members.append((rebuild(its_shape.pop("name"), its_shape, own, features, labels), *standard))
    return Ensemble(members)
