"""Attributes that are computed on first use."""

from collections.abc import Callable
from typing import Any, Generic, TypeVar, overload

Value = TypeVar("Value")


class once(Generic[Value]):  # noqa: N801 - read as a decorator
    """A property that is computed once for each object, and kept.

    `functools.cached_property` before Python 3.12 has a lock for all objects of a class, so threads would wait for
    each other. Threads should not share an object here: each would compute the value.
    """

    def __init__(self, compute: Callable[[Any], Value]) -> None:
        self._compute = compute
        self.__doc__ = compute.__doc__

    @overload
    def __get__(self, owner: None, kind: type) -> "once[Value]": ...
    @overload
    def __get__(self, owner: object, kind: type) -> Value: ...
    def __get__(self, owner: object | None, kind: type) -> "once[Value] | Value":
        """Compute the value and store it under the name of the property, which then hides this descriptor."""
        if owner is None:
            return self
        value = owner.__dict__[self._compute.__name__] = self._compute(owner)
        return value
