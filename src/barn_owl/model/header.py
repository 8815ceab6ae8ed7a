"""The schema of a model header, with limits on sizes.

A model file may come from anybody. All that is computed from its header is bounded by the file itself or by the
limits here before memory is allocated.
"""

import json
from collections.abc import Mapping
from typing import Annotated, Any

import numpy as np
from pydantic import AfterValidator, Field, field_validator, model_validator

from barn_owl.classifiers.kind import read_config
from barn_owl.features import FrontEnd
from barn_owl.model.settings import DecodingSettings
from barn_owl.names import label_fault
from barn_owl.settings import Settings
from barn_owl.sound import UniformSettings

LONGEST_HEADER = 1 << 23
"""Characters of a header: a model of a thousand labels has a tenth of it."""
MAX_LABELS = 20_000


def _checked_label(label: str) -> str:
    if fault := label_fault(label):
        raise ValueError(fault)
    return label


Label = Annotated[str, Field(min_length=1), AfterValidator(_checked_label)]


class ExtraColumnShape(Settings):
    """A further column of the clip table that a model looks at."""

    name: str = Field(min_length=1, max_length=1000)
    words: list[Annotated[str, Field(max_length=1000)]] = Field(max_length=10_000)


class CustomIdentity(Settings):
    """A custom feature that a model was trained with."""

    name: str = Field(min_length=1, max_length=200)
    version: str = Field(max_length=1000)
    columns: list[Annotated[str, Field(max_length=1000)]] = Field(max_length=10_000)


class Header(Settings):
    """The header of a model file."""

    format: int
    labels: list[Label] = Field(min_length=1, max_length=MAX_LABELS)
    background: list[Label]
    ignored: list[Label]
    front_end: dict[str, Any]
    custom_features: list[CustomIdentity] = Field(default=[], max_length=64)
    clips: dict[str, Any]
    decoding: DecodingSettings
    previous_decoding: DecodingSettings | None = None
    multilabel: bool
    temperature: float = Field(ge=1e-3, le=1e3)
    thresholds: dict[str, Annotated[float, Field(ge=0, le=1)]]
    extra_columns: list[ExtraColumnShape] = Field(max_length=1000)
    classifier: Any
    provenance: dict[str, Any]
    exemplars: list[str] = Field(default=[], max_length=100_000)
    held_out_exemplars: list[int] = Field(default=[], max_length=100_000)

    @field_validator("classifier", mode="before")
    @classmethod
    def _checked_kind(cls, given: Any) -> Settings:
        return read_config(given)

    @model_validator(mode="after")
    def _check_labels_agree(self) -> "Header":
        if len(set(self.labels)) < len(self.labels):
            raise ValueError("labels: one is there twice")
        for name in ("background", "ignored", "thresholds"):
            unknown = sorted(set(getattr(self, name)) - set(self.labels))
            if unknown:
                raise ValueError(f"{name}: {unknown[0]!r} is not a label of the model")
        return self

    def build_front_end(self) -> FrontEnd:
        """Return the front end; raises PlanError when it cannot be."""
        return FrontEnd(**self.front_end)

    def build_clips(self) -> UniformSettings:
        """Return the preprocessing of clips; raises PlanError when it is invalid."""
        return UniformSettings(**self.clips)


def parsed(text: str) -> dict[str, Any]:
    """Parse the JSON object of a header; raises ValueError if it is invalid, too long or nested too deep."""
    if len(text) > LONGEST_HEADER:
        raise ValueError(f"its header is {len(text)} characters long")
    try:
        header = json.loads(text, parse_constant=_no_constant)
    except RecursionError:
        raise ValueError("its header is nested too deep") from None
    if not isinstance(header, dict):
        raise ValueError("its header is not an object")  # noqa: TRY004 - it is a file that is wrong, not a call
    return header


def _no_constant(name: str) -> float:
    raise ValueError(f"its header holds {name}, which is no number")


def check_arrays(arrays: Mapping[str, np.ndarray]) -> None:
    """Raise ValueError for an array with values that are not numbers."""
    for name, array in arrays.items():
        if array.dtype.kind not in "fiub":
            raise ValueError(f"{name} holds no numbers, but {array.dtype}")
        # Where a tree does not branch, its cut is infinite.
        wrong = np.isnan(array) if name.endswith("cuts") else ~np.isfinite(array)
        if wrong.any():
            raise ValueError(f"{name} holds numbers that are not finite")
