"""Checkpoints after each epoch, to resume training."""

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from safetensors import SafetensorError, safe_open
from safetensors.numpy import save_file

from barn_owl.errors import ModelError
from barn_owl.files import atomic_write


@dataclass(frozen=True, kw_only=True)
class Checkpoint:
    """Arrays (weights, averages, moments, the current best), numbers (steps, random state) and the curves until
    now."""

    arrays: dict[str, np.ndarray]
    numbers: dict[str, Any]
    curves: list[dict[str, Any]]

    def save(self, path: str | Path) -> None:
        """Write the checkpoint, whole or not at all. Raises OutputError when that fails."""
        arrays = {name: np.ascontiguousarray(array) for name, array in self.arrays.items()}
        header = json.dumps({"numbers": self.numbers, "curves": self.curves})
        with atomic_write(path) as beside:
            try:
                save_file(arrays, beside, metadata={"barn_owl_checkpoint": header})
            except SafetensorError as error:  # how the writer reports a full disk
                raise OSError(str(error)) from error


def read_checkpoint(path: str | Path) -> Checkpoint:
    """Read a checkpoint. Raises ModelError when it is damaged."""
    try:
        with safe_open(path, framework="numpy") as file:
            header = json.loads((file.metadata() or {})["barn_owl_checkpoint"])
            arrays = {name: file.get_tensor(name) for name in file.keys()}  # noqa: SIM118 - not a mapping
        return Checkpoint(arrays=arrays, numbers=header["numbers"], curves=header["curves"])
    except (SafetensorError, OSError, KeyError, ValueError, TypeError, RecursionError) as error:
        raise ModelError(f"{path} is damaged ({error}); train again from the start") from error
