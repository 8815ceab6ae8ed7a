"""A model's numbers and what they mean, for whatever other program: NumPy's archive or JSON."""

import json
from pathlib import Path
from typing import Any

import numpy as np

from barn_owl.files import checked_target, whole_file, write_json
from barn_owl.model import Model


def write_weights(model: Model, path: str | Path, *, force: bool = False) -> None:
    """Write all arrays of a model of any family, and what is needed to use them, as ``.npz`` or ``.json``.

    In the archive the description is a JSON text under ``description``; in JSON, arrays are nested lists with their
    shapes. Raises OutputError for another ending, or a file that is there already.

    >>> barn_owl.compact.write_weights(barn_owl.load_model("first"), "weights.json", force=True)
    """
    path = Path(path)
    checked_target(path, force=force, endings=(".npz", ".json"))
    arrays: dict[str, Any] = {**model.family.arrays(), "mean": model.mean, "deviation": model.deviation}
    if path.suffix == ".json":
        listed = {
            name: {"shape": list(array.shape), "type": str(array.dtype), "values": array.tolist()}
            for name, array in arrays.items()
        }
        write_json(path, {"description": _described(model), "arrays": listed})
        return
    with whole_file(path) as beside, Path(beside).open("wb") as file:
        np.savez_compressed(file, description=json.dumps(_described(model)), **arrays)


def _described(model: Model) -> dict[str, Any]:
    return {
        "labels": model.labels,
        "background": model.background,
        "unreported": model.unreported,
        "front_end": model.front_end.model_dump(),
        "decision": model.decision.model_dump(),
        "family": model.family.name,
        "shape": model.family.shape(),
        "window_frames": model.family.window,
        "step_frames": model.family.step,
        "temperature": model.temperature,
    }
