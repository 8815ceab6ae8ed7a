"""Public names of a package, and checks of the arguments of its functions against their annotations.

A general checker of types at run time, such as beartype, would do; its import takes as long as importing all of
barn_owl.
"""

import functools
import math
import sys
import types
from collections.abc import Callable, Iterable
from itertools import islice
from numbers import Integral, Real
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal, Union, get_args, get_origin

import lazy_loader

if TYPE_CHECKING:
    import numpy as np

MIN_VALUES = {
    "workers": 1, "most_workers": 1, "copies": 1, "examples": 1, "seed": 0, "rounds": 0, "count": 0, "folds": 2,
    "bins": 1, "bands": 1, "rate_hz": 1, "low_hz": 0, "high_hz": 0,
}  # fmt: skip
"""Smallest value of arguments by name."""
CHECKED_ITEMS = 100
"""Items of a sequence whose type is checked."""


def attach(package: str, file: str) -> tuple[Callable[[str], Any], Callable[[], list[str]], list[str]]:
    """Return ``__getattr__``, ``__dir__`` and ``__all__`` of a package whose stub lists its public names.

    Names are loaded when they are first used, and functions check their arguments from then on.
    """
    load, names, public = lazy_loader.attach_stub(package, file)

    def get(name: str) -> Any:
        found = load(name)
        if "." not in package or not isinstance(found, types.FunctionType) or hasattr(found, "checks_arguments"):
            return found  # top-level names come from packages
        made = checked(found)
        for place in (found.__module__, package):  # the same object in both, as pickling needs
            setattr(sys.modules[place], found.__name__, made)
        return made

    return get, names, public


def checked(function: Callable[..., Any]) -> Callable[..., Any]:
    """Return a function that raises TypeError or ValueError, with the name, for an argument of the wrong type."""
    from inspect import signature as signature_of  # takes half of the time of importing the package

    signature = signature_of(function)

    @functools.wraps(function)
    def call(*given: Any, **named: Any) -> Any:
        for name, value in signature.bind(*given, **named).arguments.items():
            parameter = signature.parameters[name]
            if parameter.kind not in (parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD):
                _check(name, value, parameter.annotation)
        return function(*given, **named)

    call.checks_arguments = True  # type: ignore[attr-defined]
    return call


def as_array(name: str, value: Any, *sizes: int | None, kind: str = "number", of: str = "") -> "np.ndarray":
    """Return an argument as an array with a dimension for each of `sizes`; None allows any size.

    of : arguments that determine the sizes. Raises ValueError, with the name of the argument, for another shape,
    values that are not numbers, or NaN.
    """
    import numpy as np

    try:
        array = np.asarray(value, dtype=bool if kind == "boolean" else None)
    except (TypeError, ValueError):
        array = np.empty(0, dtype=object)
    shaped = array.ndim == len(sizes) and all(
        wanted is None or size == wanted for size, wanted in zip(array.shape, sizes, strict=True)
    )
    if not shaped or array.dtype.kind not in "biuf" or np.isnan(array).any():
        shape = ", ".join("any" if size is None else str(size) for size in sizes)
        raise ValueError(
            f"{name} must be a {kind} array of shape ({shape}), got {array.dtype} {array.shape}{of and '; see '}{of}"
        )
    return array


def _check(name: str, value: Any, hint: Any) -> None:
    if isinstance(value, Real) and not isinstance(value, Integral) and math.isnan(value):
        raise ValueError(f"{name} must be {_words(hint)}, got NaN")
    if name != "samples" and not _fits(value, hint):  # samples are checked where they are read
        raise TypeError(f"{name} must be {_words(hint)}, got {_shown(value)}")
    if isinstance(value, str) and not value and Path in get_args(hint):
        raise ValueError(f"{name} must not be empty")
    if isinstance(value, Real) and name in MIN_VALUES and float(value) < MIN_VALUES[name]:
        raise ValueError(f"{name} must be at least {MIN_VALUES[name]}, got {value}")


def _fits(value: Any, hint: Any) -> bool:
    """Return whether a value is of the type of an annotation; unsupported annotations accept any value."""
    origin, inner = get_origin(hint), get_args(hint)
    if origin in (Union, types.UnionType):
        return any(_fits(value, one) for one in inner)
    if origin is Literal:
        return isinstance(value, str | int | None) and value in inner
    if hint is None or hint is type(None):
        return value is None
    kind = inner[0] if origin is Annotated else origin or hint
    if kind is Any:
        return True
    return _is_of(value, kind, inner) if isinstance(kind, type) else True


def _is_of(value: Any, kind: type, inner: tuple[Any, ...]) -> bool:
    if kind.__name__ in _WIDER:
        return _WIDER[kind.__name__](value)
    if getattr(kind, "_is_protocol", False) and kind.__module__ != "collections.abc":
        return all(hasattr(value, member) for member in _members(kind))
    if kind.__module__ == "collections.abc":
        return _fits_items(value, kind, inner)
    return isinstance(value, kind)


_WIDER: dict[str, Callable[[Any], bool]] = {
    "int": lambda value: isinstance(value, Integral) and not isinstance(value, bool),  # numbers of NumPy, too
    "float": lambda value: isinstance(value, Real) and not isinstance(value, bool),
    "ndarray": lambda value: hasattr(value, "__array__") or isinstance(value, list),
    "Mapping": lambda value: hasattr(value, "keys") and not hasattr(value, "columns"),  # a row of a table, too
    "Callable": callable,
    "BinaryIO": lambda value: hasattr(value, "read"),
    "TextIO": lambda value: hasattr(value, "read") or hasattr(value, "write"),
    "IO": lambda value: hasattr(value, "read") or hasattr(value, "write"),
}
"""Tests that are wider than isinstance, by the name of the type."""


def _fits_items(value: Any, kind: type, inner: tuple[Any, ...]) -> bool:
    if isinstance(value, str | bytes) or not isinstance(value, Iterable) or hasattr(value, "columns"):
        return False
    if not isinstance(value, kind) and not (hasattr(value, "__len__") and hasattr(value, "__getitem__")):
        return False
    if not inner or not hasattr(value, "__len__"):  # a generator
        return True
    return all(_fits(one, inner[0]) for one in islice(value, CHECKED_ITEMS))


def _members(protocol: type) -> list[str]:
    names = {*vars(protocol), *vars(protocol).get("__annotations__", ())}
    return [name for name in names if not name.startswith("_")]


def _words(hint: Any) -> str:
    """Return a type in words: ``a table, str or Path``."""
    if get_origin(hint) in (Union, types.UnionType):
        names = [_words(one) for one in get_args(hint) if _words(one)]
        return " or ".join(filter(None, [", ".join(names[:-1]), names[-1]]))
    if get_origin(hint) is Literal:
        return " or ".join(map(repr, get_args(hint)))
    if hint is None or hint is type(None):
        return "None"
    return str(getattr(get_origin(hint) or hint, "__name__", hint))


def _shown(value: Any) -> str:
    text = repr(value) if isinstance(value, str | int | float | Real) else ""
    return f"{text[:60]} ({type(value).__name__})" if text else type(value).__name__
