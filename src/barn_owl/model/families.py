"""The families by name: building a trained one again from a file."""

import itertools
from typing import Any

import numpy as np

from barn_owl.model.convolutional import Convolutional, body_of, outputs_of, receptive_field
from barn_owl.model.ensemble import Ensemble
from barn_owl.model.family import Family
from barn_owl.model.header import CnnShape, EnsembleShape, Int8Shape, PooledShape, check_size, check_window
from barn_owl.model.mlp import Mlp
from barn_owl.model.pooled import CLASSIFIERS, Pooled
from barn_owl.model.quantised import Quantised
from barn_owl.model.settings import MlpSettings
from barn_owl.model.trees import Trees
from barn_owl.network.architecture import with_head
from barn_owl.network.network import count_kernels


def rebuild(
    shape: CnnShape | PooledShape | Int8Shape | EnsembleShape,
    arrays: dict[str, np.ndarray],
    features: int,
    labels: int,
    *,
    multilabel: bool,
) -> Family:
    """Build a trained family again from what its ``shape`` and ``arrays`` gave, for frames of `features`.

    Raises KeyError, ValueError or PlanError when the arrays do not fit, before memory is asked for that the file does
    not justify.
    """
    if isinstance(shape, EnsembleShape):
        return _ensemble(shape, arrays, features, labels, multilabel)
    if isinstance(shape, Int8Shape):
        check_window(shape.window, features)
        return Quantised.rebuilt(shape.model_dump(exclude={"name"}), arrays, labels)
    if isinstance(shape, CnnShape):
        return _cnn(shape, arrays, features, labels, multilabel)
    return _pooled(shape, arrays, features, labels)


def _cnn(
    shape: CnnShape, arrays: dict[str, np.ndarray], features: int, labels: int, multilabel: bool
) -> Convolutional:
    count = 0
    for number in range(shape.settings.count):
        body = body_of(shape.settings, shape.level, number)
        window, _ = receptive_field(body)
        check_window(window, features)
        outputs = outputs_of(labels, multilabel=multilabel)
        whole = with_head(body, (window, features, 1), outputs, shape.settings.dropout)
        count += count_kernels(whole, (window, features, 1))
    check_size(count, arrays)
    rng = np.random.default_rng(0)
    made = Convolutional(features, labels, shape.settings, shape.level, rng, multilabel=multilabel)
    made.load(arrays)
    return made


def _pooled(shape: PooledShape, arrays: dict[str, np.ndarray], features: int, labels: int) -> Pooled:
    check_window(shape.frames, features)
    centre, spread = arrays["centre"], arrays["spread"]
    least = features * len(shape.statistics)
    if centre.ndim != 1 or centre.shape != spread.shape or len(centre) < least:
        raise ValueError(f"rows are standardised with {centre.shape} numbers, expected {least} or more")
    if not (spread > 0).all():
        raise ValueError("rows are standardised with a spread that is not above 0")
    classifier: Any
    if shape.name == "mlp":
        settings = shape.settings or MlpSettings()
        sizes = [len(centre), *settings.hidden, labels]
        check_size(sum(a * b for a, b in itertools.pairwise(sizes)), arrays)
        classifier = Mlp(len(centre), labels, settings, np.random.default_rng(0))
        classifier.network.load(arrays)
    else:
        classifier = CLASSIFIERS[shape.name](arrays)
    if isinstance(classifier, Trees) and classifier.features.max(initial=0) >= len(centre):
        raise ValueError(f"a tree looks at feature {classifier.features.max()} of {len(centre)}")
    family = Pooled(shape.name, shape.frames, shape.statistics, shape.level, classifier, centre, spread)
    given = classifier.logits(np.zeros((1, len(centre)), dtype=np.float32)).shape
    if given != (1, labels):
        raise ValueError(f"the classifier gives scores of shape {given} for {labels} labels")
    return family


def _ensemble(
    shape: EnsembleShape, arrays: dict[str, np.ndarray], features: int, labels: int, multilabel: bool
) -> Ensemble:
    members = []
    for number, member in enumerate(shape.members):
        prefix = f"{number}."
        own = {name[len(prefix) :]: array for name, array in arrays.items() if name.startswith(prefix)}
        standard = own.pop("mean_"), own.pop("deviation_")
        for array in standard:
            if array.shape != (features,):
                raise ValueError(f"the standardisation of member {number} has shape {array.shape}")
        members.append((rebuild(member, own, features, labels, multilabel=multilabel), *standard))
    return Ensemble(members)
