"""Which models can be exported, and the stages they consist of."""

from barn_owl.classifiers.cnn import Convolutional
from barn_owl.classifiers.int8 import Quantized, graph_in, stages_in
from barn_owl.classifiers.stages import Stage
from barn_owl.errors import ModelError
from barn_owl.model import Model


def classifier_of(model: Model) -> Convolutional | Quantized:
    """Return the classifier of a model that can be exported; raises ModelError for a different kind."""
    classifier = graph_in(model.classifier)
    if classifier is None:
        raise ModelError(
            f"a {model.classifier.name} classifier cannot be exported as a graph; a cnn can, also in int8"
        )
    return classifier


def graph_of(model: Model) -> list[list[Stage]]:
    """Return the stages of each network of a model over log-mel.

    Raises ModelError for an unsupported classifier or front end.
    """
    classifier = classifier_of(model)
    if not model.front_end.is_log_mel:
        raise ModelError(
            "only a model over log-mel can be handed over, this one looks at "
            f'{", ".join(model.front_end.features)}; train with front_end.features = ["log-mel"]'
        )
    return stages_in(classifier)
