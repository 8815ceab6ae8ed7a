"""Data shared by classifiers that train on the same clips, freed after the last of them."""

from collections.abc import Callable, Hashable
from typing import Any, TypeVar

from barn_owl.learn.plan import Plan

T = TypeVar("T")

Memo = dict[Hashable, Any]
"""Cache of values computed from the same clips, by source."""


def shared(make: Callable[[], T], memo: Memo | None, plan: Plan, *what: Hashable) -> T:
    """Return the result of `make`; with a memo, its earlier result for the same arguments.

    plan : whatever of it `make` looks at, but the classifier, how it is trained, and its further columns. what : all
    remaining arguments of `make`.
    """
    if memo is None:
        return make()
    key = (plan.model_dump_json(exclude={"classifier", "training", "columns"}), *what)
    if key not in memo:
        memo[key] = make()
    made: T = memo[key]
    return made
