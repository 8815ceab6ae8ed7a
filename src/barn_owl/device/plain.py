"""Export of plain numbers with their meaning: NumPy archive or JSON."""

import json
from pathlib import Path
from typing import Any

import numpy as np

from barn_owl.files import atomic_write, checked_target, write_json
from barn_owl.model import Model
from barn_owl.model.loading import ModelLike, as_model


def write_weights(model: ModelLike, path: str | Path, *, force: bool = False) -> None:
    """Write all arrays of a model, with the facts needed to use them, as ``.npz`` or ``.json``.

    In the archive the description is a JSON text under ``description``; in JSON, arrays are nested lists with their
    shapes.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model, run, or the path of either.
    path : str | Path
        File: ``.npz``.
    force : bool
        Whether existing files are overwritten.

    Raises
    ------
    OutputError
        For another ending, or a file that is there already.

    Examples
    --------
    >>> barn_owl.device.write_weights(barn_owl.load_model("first"), "weights.json", force=True)
    """
    model = as_model(model)
    path = Path(path)
    checked_target(path, force=force, endings=(".npz", ".json"))
    arrays: dict[str, Any] = {**model.classifier.state(), "mean": model.mean, "deviation": model.deviation}
    if path.suffix == ".json":
        listed = {
            name: {"shape": list(array.shape), "type": str(array.dtype), "values": array.tolist()}
            for name, array in arrays.items()
        }
        write_json(path, {"description": _described(model), "arrays": listed})
        return
    with atomic_write(path) as beside, Path(beside).open("wb") as file:
        np.savez_compressed(file, description=json.dumps(_described(model)), **arrays)


def _described(model: Model) -> dict[str, Any]:
    return model.described() | {
        "classifier": model.classifier.name,
        "shape": model.classifier.config(),
        "window_frames": model.classifier.window,
        "step_frames": model.classifier.step,
        "temperature": model.temperature,
    }
