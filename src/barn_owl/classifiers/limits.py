"""Size limits for model files: files are untrusted, so sizes are checked before memory is allocated."""

from collections.abc import Mapping
from typing import Annotated

import numpy as np
from pydantic import Field

LARGEST_WINDOW = 1 << 20
"""Numbers that a step may look at: frames of its window times features. Usual are some ten thousand."""
Size = Annotated[int, Field(ge=1, le=1 << 16)]
Pair = Annotated[list[Size], Field(min_length=2, max_length=2)]


def check_window(frames: int, features: int) -> None:
    """Raise ValueError when steps would look at more than is sensible."""
    if frames * features > LARGEST_WINDOW:
        raise ValueError(f"a step would look at {frames} frames of {features} features")


def check_size(requested: int, arrays: Mapping[str, np.ndarray]) -> None:
    """Raise ValueError when a network would have more weights than the file has numbers."""
    held = sum(array.size for array in arrays.values())
    if requested > held:
        raise ValueError(f"the network that it describes has {requested} weights, the file holds {held} numbers")
