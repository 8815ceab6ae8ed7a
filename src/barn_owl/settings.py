"""Immutable settings with precise error messages."""

import re
from collections.abc import Mapping
from typing import Any, Self

from pydantic import BaseModel, ConfigDict, ValidationError

from barn_owl.errors import PlanError
from barn_owl.wording import nearest_to


class Settings(BaseModel):
    """Base class of all settings: frozen, no unknown keys, validated when created.

    Raises PlanError, with a line per fault: the key, its allowed values, and its value.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    def __init__(self, **values: Any) -> None:
        try:
            super().__init__(**values)
        except ValidationError as error:
            raise PlanError("\n".join(_faults(type(self), error))) from None

    def __dir__(self) -> list[str]:
        """Names of settings and of methods, without names of the parent class."""
        return sorted({*type(self).model_fields, *(set(dir(type(self))) - set(dir(BaseModel))), "model_dump"})

    def model_copy(self, *, update: Mapping[str, Any] | None = None, deep: bool = False) -> Self:  # noqa: ARG002
        """Return a copy with `update` applied and checked again."""
        return type(self)(**{**self.model_dump(exclude_unset=True), **(update or {})})

    def copy(self, *, update: Mapping[str, Any] | None = None, **_: Any) -> Self:
        """Return a copy with `update` applied and checked again."""
        return self.model_copy(update=update)

    def but(self, **changes: Any) -> Self:
        """Return a copy with `changes` applied and checked again; None changes nothing.

        A section is changed by a dictionary of the keys that change in it.
        """
        values = self.model_dump(exclude_unset=True)
        for key, change in changes.items():
            if isinstance(change, dict):
                values[key] = {**values.get(key, {}), **change}
            elif change is not None:
                values[key] = change
        return type(self)(**values)


def _faults(settings: type[BaseModel], error: ValidationError) -> list[str]:
    return [_fault(settings, fault) for fault in error.errors(include_url=False)]


def _fault(settings: type[BaseModel], fault: Any) -> str:
    place = ".".join(str(part) for part in fault["loc"])
    if fault["type"] == "extra_forbidden":
        return f"{place}: unknown key; {nearest_to(place, settings.model_fields, else_say='known keys: ')}"
    if fault["type"] == "missing":
        return f"{place}: is missing"
    if fault["type"] == "value_error":
        return "\n".join(_place_sound(place, line) for line in str(fault["ctx"]["error"]).splitlines())
    got = fault["input"]
    return f"{place}: {fault['msg'].replace('Input should', 'should')}, got {got!r}"


def _place_sound(place: str, line: str) -> str:
    """Prefix a message of a nested section with the name of the section."""
    if not place:
        return line
    return f"{place}.{line}" if re.match(r"[\w.]+: ", line) else f"{place}: {line}"
