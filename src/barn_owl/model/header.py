"""What the header of a model file may say, and how large what it asks for may be.

A model file may come from anybody. All that is computed from its header is bounded by the file itself or by the
limits here before memory is asked for.
"""

import json
from collections.abc import Mapping
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from barn_owl.features import FrontEnd
from barn_owl.model.settings import DecisionSettings, LevelSettings, MlpSettings
from barn_owl.network.architecture import NetworkSettings
from barn_owl.settings import Settings
from barn_owl.sound import UniformSettings

LONGEST_HEADER = 1 << 23
"""Characters of a header: a model of a thousand labels has a tenth of it."""
MOST_LABELS = 20_000
LARGEST_WINDOW = 1 << 20
"""Numbers that a step may look at: frames of its window times features. Usual are some ten thousand."""
Label = Annotated[str, Field(min_length=1, max_length=1000)]
Size = Annotated[int, Field(ge=1, le=1 << 16)]
Pair = Annotated[list[Size], Field(min_length=2, max_length=2)]


class CnnShape(Settings):
    """Shape of a `Convolutional`."""

    name: Literal["cnn"]
    settings: NetworkSettings
    level: LevelSettings


class PooledShape(Settings):
    """Shape of a `Pooled` family; `settings` of an mlp only."""

    name: Literal["majority", "nearest", "logistic", "kernel", "trees", "mlp"]
    frames: Size
    statistics: list[Annotated[str, Field(max_length=40)]] = Field(min_length=1, max_length=64)
    level: LevelSettings
    settings: MlpSettings | None = None


class StageShape(Settings):
    """Sizes of a stage of a network in whole numbers."""

    kind: Annotated[str, Field(max_length=40)]
    given: Pair
    out: Pair
    taps: Pair
    stride: Pair
    dilation: Size
    before: Annotated[int, Field(ge=0, le=1 << 16)]
    rectifies: bool
    inner: list["StageShape"] = Field(default=[], max_length=64)


Byte = Annotated[int, Field(ge=-128, le=127)]


class Int8Shape(Settings):
    """Shape of a `Quantised` family."""

    name: Literal["int8"]
    networks: list[Annotated[list[StageShape], Field(min_length=1, max_length=256)]] = Field(
        min_length=1, max_length=16
    )
    zeros: list[list[Annotated[list[Byte], Field(min_length=2, max_length=2)]]] = Field(min_length=1, max_length=16)
    level: LevelSettings
    input_scale: float = Field(gt=1e-12, lt=1e12)
    input_zero: Byte
    window: Size
    step: Size


class EnsembleShape(Settings):
    """Shapes of the members of an `Ensemble`."""

    name: Literal["ensemble"]
    members: list[Annotated[CnnShape | PooledShape | Int8Shape, Field(discriminator="name")]] = Field(
        min_length=1, max_length=64
    )


class ExtraColumnShape(Settings):
    """A further column of the clip table that a model looks at."""

    name: str = Field(min_length=1, max_length=1000)
    words: list[Annotated[str, Field(max_length=1000)]] = Field(max_length=10_000)


class Header(Settings):
    """The header of a model file."""

    format: int
    labels: list[Label] = Field(min_length=1, max_length=MOST_LABELS)
    background: list[Label]
    unreported: list[Label]
    front_end: dict[str, Any]
    clips: dict[str, Any]
    decision: DecisionSettings
    overlapping: bool
    temperature: float = Field(ge=1e-3, le=1e3)
    thresholds: dict[str, Annotated[float, Field(ge=0, le=1)]]
    extra_columns: list[ExtraColumnShape] = Field(max_length=1000)
    family: Annotated[CnnShape | PooledShape | Int8Shape | EnsembleShape, Field(discriminator="name")]
    provenance: dict[str, Any]
    kept: list[str] = Field(default=[], max_length=100_000)

    @model_validator(mode="after")
    def _names_hang_together(self) -> "Header":
        if len(set(self.labels)) < len(self.labels):
            raise ValueError("labels: one is there twice")
        for name in ("background", "unreported", "thresholds"):
            unknown = sorted(set(getattr(self, name)) - set(self.labels))
            if unknown:
                raise ValueError(f"{name}: {unknown[0]!r} is no label of the model")
        return self

    def made_front_end(self) -> FrontEnd:
        """Return the front end; raises PlanError when it cannot be."""
        return FrontEnd(**self.front_end)

    def made_clips(self) -> UniformSettings:
        """Return how clips are made uniform; raises PlanError when that cannot be."""
        return UniformSettings(**self.clips)


def parsed(text: str) -> dict[str, Any]:
    """Parse the JSON of a header; raises ValueError for what is no object, too long or nested too deep."""
    if len(text) > LONGEST_HEADER:
        raise ValueError(f"its header is {len(text)} characters long")
    try:
        header = json.loads(text, parse_constant=_no_constant)
    except RecursionError:
        raise ValueError("its header is nested too deep") from None
    if not isinstance(header, dict):
        raise ValueError("its header is no object")  # noqa: TRY004 - it is a file that is wrong, not a call
    return header


def _no_constant(name: str) -> float:
    raise ValueError(f"its header holds {name}, which is no number")


def check_arrays(arrays: Mapping[str, np.ndarray]) -> None:
    """Raise ValueError when an array holds something that is no number."""
    for name, array in arrays.items():
        if array.dtype.kind not in "fiub":
            raise ValueError(f"{name} holds no numbers, but {array.dtype}")
        # Where a tree does not branch, its cut is infinite.
        wrong = np.isnan(array) if name.endswith("cuts") else ~np.isfinite(array)
        if wrong.any():
            raise ValueError(f"{name} holds numbers that are not finite")


def check_window(frames: int, features: int) -> None:
    """Raise ValueError when steps would look at more than is sensible."""
    if frames * features > LARGEST_WINDOW:
        raise ValueError(f"a step would look at {frames} frames of {features} features")


def check_size(asked: int, arrays: Mapping[str, np.ndarray]) -> None:
    """Raise ValueError when a network would have more weights than the file holds numbers."""
    held = sum(array.size for array in arrays.values())
    if asked > held:
        raise ValueError(f"the network that it describes has {asked} weights, the file holds {held} numbers")
