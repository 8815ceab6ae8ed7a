"""The model file: a JSON header and arrays, in the safetensors format."""

import json
from pathlib import Path
from typing import Any

import numpy as np
from safetensors import SafetensorError, safe_open
from safetensors.numpy import save_file

from barn_owl.errors import BarnOwlError, ModelError
from barn_owl.files import atomic_write
from barn_owl.model.header import Header, parsed

FORMAT = 12
"""Version of the header; raised when an older Barn Owl could misread it."""
OLDEST = 11
"""Oldest format that is read."""


def write_model_file(path: str | Path, header: dict[str, Any], arrays: dict[str, np.ndarray], *, force: bool) -> None:
    """Write header and arrays, whole or not at all."""
    arrays = {name: np.ascontiguousarray(array) for name, array in arrays.items()}
    with atomic_write(path, force=force) as beside:
        save_file(arrays, beside, metadata={"barn_owl": json.dumps({"format": FORMAT, **header}, ensure_ascii=False)})


def read_model_file(path: Path) -> tuple[Header, dict[str, np.ndarray]]:
    """Read header and arrays. Raises ModelError when the file is damaged, no model or of another version."""
    try:
        with safe_open(path, framework="numpy") as file:
            metadata = file.metadata() or {}
            arrays = {name: file.get_tensor(name) for name in file.keys()}  # noqa: SIM118 - not a mapping
    except (SafetensorError, OSError, ValueError, TypeError, AttributeError) as error:  # of types NumPy lacks
        raise ModelError(f"{path} is not a model file, or is damaged: {error}") from error
    if "barn_owl" not in metadata:
        raise ModelError(f"{path} holds weights, but they are not those of a Barn Owl model")
    try:
        header = parsed(metadata["barn_owl"])
        version = header.get("format")
        if isinstance(version, int) and version > FORMAT:
            raise ModelError(
                f"{path} was written by a newer Barn Owl (model format {version}, this one reads {FORMAT}); update"
            )
        if isinstance(version, int) and version < OLDEST:
            raise ModelError(f"{path} was written by an older Barn Owl (model format {version}); train it again")
        return Header(**header), arrays
    except ModelError:
        raise
    except (ValueError, TypeError, RecursionError, BarnOwlError) as error:
        raise ModelError(f"{path} is damaged: {error}") from error
