"""The families by name: fitting one, and building a trained one again from a file."""

from collections.abc import Callable
from typing import Any

import numpy as np
from threadpoolctl import threadpool_limits

from barn_owl.classify.family import Family
from barn_owl.classify.fitted import Examples, Fitted, Watcher
from barn_owl.classify.logistic import Logistic, fit_logistic_family
from barn_owl.classify.plan import Plan, TcnSettings
from barn_owl.classify.tcn import Tcn, fit_tcn


def fit(
    plan: Plan,
    labels: list[str],
    train: Examples,
    validation: Examples,
    *,
    workers: int = 2,
    watch: Watcher | None = None,
) -> Fitted:
    """Fit the family that `plan` names, on `workers` threads; `watch` is called after each epoch.

    The same plan on the same frames gives the same weights, whatever the number of workers. On Ctrl-C the
    best weights so far are returned, marked as interrupted; before the first epoch is over, the
    KeyboardInterrupt goes through. Raises TrainingError when the loss stops being a number.
    """
    watch = watch or (lambda _: None)
    # The parts of a batch are the unit of parallel work, so the linear algebra inside one is not.
    with threadpool_limits(limits=1, user_api="blas"), np.errstate(over="ignore", invalid="ignore"):
        if plan.family == "tcn":
            return fit_tcn(plan, labels, train, validation, workers=workers, watch=watch)
        return fit_logistic_family(plan, labels, train, validation, workers=workers, watch=watch)


def rebuild(name: str, shape: dict[str, Any], arrays: dict[str, np.ndarray], bands: int, labels: int) -> Family:
    """Build a trained family again from what its ``shape`` and ``arrays`` gave.

    Raises KeyError or ValueError when the name is not known or the arrays do not fit.
    """
    return _REBUILD[name](shape, arrays, bands, labels)


def _tcn(shape: dict[str, Any], arrays: dict[str, np.ndarray], bands: int, labels: int) -> Family:
    settings = TcnSettings(**shape["settings"])
    tcn = Tcn(shape["frames"], bands, labels, settings, np.random.default_rng(0))
    tcn.network.load(arrays)
    return tcn


def _logistic(shape: dict[str, Any], arrays: dict[str, np.ndarray], bands: int, labels: int) -> Family:
    kernel, bias = arrays["kernel"], arrays["bias"]
    if kernel.shape != (2 * bands, labels) or bias.shape != (labels,):
        raise ValueError(f"the kernel has shape {kernel.shape}, expected {(2 * bands, labels)}")
    return Logistic(shape["frames"], kernel, bias)


_REBUILD: dict[str, Callable[[dict[str, Any], dict[str, np.ndarray], int, int], Family]] = {
    "tcn": _tcn,
    "logistic": _logistic,
}
