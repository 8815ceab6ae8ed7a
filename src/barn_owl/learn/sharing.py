"""What families that learn from the same clips have in common is made once, and kept until the last has learnt."""

from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any, TypeVar

from barn_owl.learn.plan import Plan

T = TypeVar("T")

_kept: ContextVar[dict[Hashable, Any] | None] = ContextVar("kept", default=None)


@contextmanager
def sharing() -> Iterator[None]:
    """Within this block, `shared` makes things once. All that is made there must be of the same clips."""
    token = _kept.set({})
    try:
        yield
    finally:
        _kept.reset(token)


def shared(make: Callable[[], T], plan: Plan, *what: Hashable) -> T:
    """Return what `make` gives; within `sharing` what it gave before, for another family, if all else was the same.

    plan : whatever of it `make` looks at, but the family, how it is trained, and its further columns. what : all else
    that `make` depends on.
    """
    kept = _kept.get()
    if kept is None:
        return make()
    key = (plan.model_dump_json(exclude={"family", "training", "columns"}), *what)
    if key not in kept:
        kept[key] = make()
    return kept[key]
