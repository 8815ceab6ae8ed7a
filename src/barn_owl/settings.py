"""Settings as frozen values that say precisely what is wrong with them."""

import difflib
from typing import Any

from pydantic import BaseModel, ConfigDict, ValidationError

from barn_owl.errors import PlanError


class Settings(BaseModel):
    """Parent of all settings: frozen, no unknown keys, checked once when made.

    Raises PlanError, with one line a fault: the key, what it must be, and the value it got.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    def __init__(self, **values: Any) -> None:
        try:
            super().__init__(**values)
        except ValidationError as error:
            raise PlanError("\n".join(_faults(type(self), error))) from None

    def but(self, **changes: Any) -> "Settings":
        """Return a copy with `changes` applied and checked again."""
        return type(self)(**{**self.model_dump(), **changes})


def _faults(settings: type[BaseModel], error: ValidationError) -> list[str]:
    return [_fault(settings, fault) for fault in error.errors(include_url=False)]


def _fault(settings: type[BaseModel], fault: Any) -> str:
    place = ".".join(str(part) for part in fault["loc"])
    if fault["type"] == "extra_forbidden":
        return f"{place}: unknown key{_nearest(settings, fault['loc'])}"
    if fault["type"] == "value_error":
        message = str(fault["ctx"]["error"])
        return f"{place}: {message}" if place else message
    got = fault["input"]
    return f"{place}: {fault['msg'].replace('Input should', 'should')}, got {got!r}"


def _nearest(settings: type[BaseModel], place: tuple[str | int, ...]) -> str:
    """Name the known key that looks most like the unknown one at `place`."""
    fields = settings.model_fields
    for part in place[:-1]:
        inner = fields[str(part)].annotation
        if not (isinstance(inner, type) and issubclass(inner, BaseModel)):
            return ""
        fields = inner.model_fields
    close = difflib.get_close_matches(str(place[-1]), fields, n=1)
    return f"; did you mean {close[0]}?" if close else f"; known keys: {', '.join(fields)}"
