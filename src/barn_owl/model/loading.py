"""Loading and checking a model file."""

from pathlib import Path
from typing import Protocol, TypeAlias

import numpy as np

from barn_owl.audio.remote import AUDIO_ENDINGS, UNREADABLE_ENDINGS
from barn_owl.classifiers.kind import rebuild
from barn_owl.errors import BarnOwlError, ModelError, PlanError
from barn_owl.features.custom import custom_feature
from barn_owl.files import is_file, is_folder, not_a_file
from barn_owl.model.exemplars import Exemplar, unpacked
from barn_owl.model.extras import ExtraColumn, ExtraColumns
from barn_owl.model.file import read_model_file
from barn_owl.model.header import Header, check_arrays
from barn_owl.model.model import Model
from barn_owl.names import from_text
from barn_owl.wording import nearest_path


def load_model(path: str | Path) -> Model:
    """Load a model from its file, or from the folder of a run.

    Parameters
    ----------
    path : str | Path
        Model file, or folder of a run.

    Raises
    ------
    ModelError
        If the file is missing, damaged, not a Barn Owl model or from a newer version.

    Examples
    --------
    >>> barn_owl.load_model("first").background
    ['still']
    """
    path = Path(from_text(str(path)))
    if is_folder(path):
        if not is_file(path / "model.safetensors"):
            raise ModelError(f"{path} is not a finished run: it holds no model.safetensors")
        path = path / "model.safetensors"
    if why := not_a_file(path):
        raise ModelError(f"{path} {why}{nearest_path(path)}")
    if path.suffix.lower() in (AUDIO_ENDINGS | UNREADABLE_ENDINGS):
        raise ModelError(f"{path} is a sound file, not a model")
    header, arrays = read_model_file(path)
    _find_custom_features(header, path)
    try:
        return _made(header, arrays)
    except (KeyError, ValueError, BarnOwlError) as error:
        output = str(error) if isinstance(error, ValueError | BarnOwlError) else f"it lacks {error}"
        raise ModelError(f"{path} is damaged: {output}") from error


class HasModel(Protocol):
    """An object with a model, such as a run."""

    @property
    def model(self) -> Model:
        """The model."""


ModelLike: TypeAlias = Model | HasModel | str | Path
"""Type of arguments that are models: see `as_model`."""


def as_model(model: ModelLike, name: str = "model") -> Model:
    """Return an argument of a public function as a model: a model, a run, or the path of either.

    Raises ModelError if the model cannot be loaded, and TypeError for another type; `name` is the argument's.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model, run, or the path of either.
    name : str
        Name of the argument in messages.
    """
    if isinstance(model, str | Path):
        return load_model(model)
    found = model if isinstance(model, Model) else getattr(model, "model", None)
    if not isinstance(found, Model):
        raise TypeError(f"{name} must be a model, a run, or the path of either, got {type(model).__name__}")
    return found


def _made(header: Header, arrays: dict[str, np.ndarray]) -> Model:
    """Create a model from its file, and verify that it can be used."""
    check_arrays(arrays)
    weights = {name[8:]: array for name, array in arrays.items() if name.startswith("weights.")}
    front_end = header.build_front_end()
    deviation = _fitting(arrays["deviation"], front_end.width)
    if not (deviation > 0).all():
        raise ValueError("a deviation of the standardization is not above 0")
    columns = [ExtraColumn(name=column.name, words=column.words) for column in header.extra_columns]
    model = Model(
        labels=header.labels,
        background=header.background,
        ignored=header.ignored,
        front_end=front_end,
        clips=header.build_clips(),
        decoding=header.decoding,
        previous_decoding=header.previous_decoding,
        mean=_fitting(arrays["mean"], front_end.width),
        deviation=deviation,
        classifier=rebuild(
            header.classifier, weights, front_end.width, len(header.labels), multilabel=header.multilabel
        ),
        multilabel=header.multilabel,
        temperature=header.temperature,
        thresholds=header.thresholds,
        extra_columns=ExtraColumns(columns=columns),
        provenance=header.provenance,
        exemplars=[
            Exemplar(
                str(label),
                unpacked(arrays[f"exemplars.{number}"], front_end.floor_db, front_end.width),
                held_out=number in header.held_out_exemplars,
            )
            for number, label in enumerate(header.exemplars)
        ],
    )
    _prove(model)
    return model


def _prove(model: Model) -> None:
    """Score silence, since arrays of wrong shapes or types would fail here as in use."""
    classifier = model.classifier
    try:
        with np.errstate(all="ignore"):
            frames = np.zeros((classifier.window + classifier.step, model.front_end.width), dtype=np.float32)
            output = model.frame_scores(frames + np.float32(model.front_end.floor_db / 2))
    except BarnOwlError:
        raise
    except Exception as error:
        raise ValueError(f"its arrays do not fit together ({type(error).__name__}: {error})") from error
    followed, named_by = (2, 1 if model.classifies_segments else len(model.labels)), (2, len(model.labels) + 2)
    shapes = output.activity.shape, output.onsets.shape, output.label_logits.shape
    if shapes != (followed, followed, named_by):
        raise ValueError(f"it gives scores of shapes {shapes}, expected {(followed, followed, named_by)}")
    if not all(np.isfinite(part).all() for part in output[:3]):
        raise ValueError("it gives scores that are no numbers")


def _find_custom_features(header: Header, path: Path) -> None:
    """Raise ModelError, with its name, for a custom feature that is missing or has changed since training.

    A missing graph is searched for in the folder of the model.
    """
    embedding = header.front_end.get("embedding")
    if isinstance(embedding, dict) and not is_file(graph := Path(str(embedding.get("graph")))):
        if not is_file(beside := path.absolute().parent / graph.name):
            raise ModelError(
                f"{path} needs {graph}, which does not exist; put it there, or into the folder of the model"
            )
        embedding["graph"] = str(beside)
    for wanted in header.custom_features:
        if wanted.name != "embedding" and custom_feature(wanted.name) is None:
            raise ModelError(
                f"{path} needs the feature {wanted.name!r} (version {wanted.version}), which is not registered: call "
                "barn_owl.features.register_feature before loading the model, or install the package that offers it"
            )
    if not header.custom_features:
        return
    try:
        custom = header.build_front_end().custom
    except PlanError as error:
        raise ModelError(f"{path} cannot be used: {error}") from error
    for wanted in header.custom_features:
        found = custom.get(wanted.name)
        if found is None or found.identity() != wanted.model_dump():
            raise ModelError(
                f"{path} was trained with another version of the feature {wanted.name!r}: {wanted.version} with "
                f"{len(wanted.columns)} columns, here is {found.version if found else 'none'}"
            )


def _fitting(array: np.ndarray, width: int) -> np.ndarray:
    if array.shape != (width,):
        raise ValueError(f"the standardization has shape {array.shape}, expected ({width},)")
    return array
