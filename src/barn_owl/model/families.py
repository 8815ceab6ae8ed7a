"""The families by name: building a trained one again from a file."""

from typing import Any

import numpy as np

from barn_owl.model.convolutional import Convolutional
from barn_owl.model.ensemble import Ensemble
from barn_owl.model.family import Family
from barn_owl.model.mlp import Mlp
from barn_owl.model.pooled import CLASSIFIERS, Pooled
from barn_owl.model.quantised import Quantised
from barn_owl.model.settings import LevelSettings, MlpSettings
from barn_owl.network.architecture import NetworkSettings


def rebuild(name: str, shape: dict[str, Any], arrays: dict[str, np.ndarray], features: int, labels: int) -> Family:
    """Build a trained family again from what its ``shape`` and ``arrays`` gave, for frames of `features`.

    Raises KeyError or ValueError when the name is not known or the arrays do not fit.
    """
    if name == "ensemble":
        return _ensemble(shape, arrays, features, labels)
    if name == "int8":
        return Quantised.rebuilt(shape, arrays)
    level = LevelSettings(**shape["level"])
    if name == "cnn":
        made = Convolutional(features, labels, NetworkSettings(**shape["settings"]), level, np.random.default_rng(0))
        made.load(arrays)
        return made
    centre, spread = arrays["centre"], arrays["spread"]
    least = features * len(shape["statistics"])
    if centre.shape != spread.shape or len(centre) < least:
        raise ValueError(f"rows are standardised with {len(centre)} numbers, expected {least} or more")
    classifier: Any
    if name == "mlp":
        classifier = Mlp(len(centre), labels, MlpSettings(**shape["settings"]), np.random.default_rng(0))
        classifier.network.load(arrays)
    else:
        classifier = CLASSIFIERS[name](arrays)
    family = Pooled(name, shape["frames"], shape["statistics"], level, classifier, centre, spread)
    given = classifier.logits(np.zeros((1, len(centre)), dtype=np.float32)).shape
    if given != (1, labels):
        raise ValueError(f"the classifier gives {given[1]} scores for {labels} labels")
    return family


def _ensemble(shape: dict[str, Any], arrays: dict[str, np.ndarray], features: int, labels: int) -> Ensemble:
    members = []
    for number, member in enumerate(shape["members"]):
        prefix = f"{number}."
        own = {name[len(prefix) :]: array for name, array in arrays.items() if name.startswith(prefix)}
        standard = own.pop("mean_"), own.pop("deviation_")
        its_shape = dict(member)
        members.append((rebuild(its_shape.pop("name"), its_shape, own, features, labels), *standard))
    return Ensemble(members)
