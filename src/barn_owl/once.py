"""Attributes that are computed on first use."""

from collections.abc import Callable
from typing import Any, Generic, TypeVar, overload

Value = TypeVar("Value")


class once(Generic[Value]):  # noqa: N801 - read as a decorator
    """A property that is computed once for each object, and kept.

    `functools.cached_property` before Python 3.12 lets one thread at a time compute a property, of all objects of a
    class together. Threads that share an object should not meet here: each would compute it.
    """

    def __init__(self, compute: Callable[[Any], Value]) -> None:
        self._compute = compute
        self.__doc__ = compute.__doc__

    @overload
    def __get__(self, owner: None, kind: type) -> "once[Value]": ...
    @overload
    def __get__(self, owner: object, kind: type) -> Value: ...
    def __get__(self, owner: object | None, kind: type) -> "once[Value] | Value":
        """Compute the value and keep it under the name of the property, which then hides this one."""
        if owner is None:
            return self
        value = owner.__dict__[self._compute.__name__] = self._compute(owner)
        return value
