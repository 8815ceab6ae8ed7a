"""Fine-tuning from a model: requirements, and what is reused."""

import numpy as np

from barn_owl.classifiers.cnn import Convolutional, networks_in, split_outputs
from barn_owl.clips import labels_in
from barn_owl.errors import PlanError
from barn_owl.learn import Fitted, Plan
from barn_owl.model import Model, load_model


def plan_from_model(plan: Plan, model: Model, path: str) -> Plan:
    """Return the plan with the front end, clip settings, classifier and network of the model to start from.

    Parameters
    ----------
    plan : Plan
        Plan.
    model : Model
        Model to start from.
    path : str
        Its path, for the plan.
    """
    classifier = _network_classifier(model, path)
    return plan.but(
        classifier=classifier.name,
        front_end=model.front_end.model_dump(),
        clips=model.clips.model_dump(),
        multilabel=model.multilabel,
        level={"span_s": classifier.level.frames * model.front_end.hop_s, "range_db": classifier.level.range_db},
        start={"model": path},
        cnn=classifier.settings.model_dump(),
        decoding=model.decoding.model_dump(),
        # Labels without a kept part are dropped, and their settings with them.
        background=plan.background or [label for label in model.background if label in _exemplar_labels(model)],
        ignored=plan.ignored or [label for label in model.ignored if label in _exemplar_labels(model)],
    )


def starting_point(plan: Plan, labels: list[str]) -> Fitted | None:
    """Load the model that the plan starts from, with a last layer for `labels`; None when it starts from nothing.

    Labels of the model keep their weights; new labels begin near zero. Raises PlanError when front end, window,
    classifier or network differ, since weights depend on their features.
    """
    if not plan.start.model:
        return None
    model = load_model(plan.start.model)
    classifier = _network_classifier(model, plan.start.model)
    adopted = plan_from_model(plan, model, plan.start.model)
    for key in ("classifier", "front_end", "clips", "multilabel", "levels", "cnn"):
        if getattr(adopted, key) != getattr(plan, key):
            raise PlanError(
                f"start.model: {plan.start.model} was trained with another {key}; use the settings "
                "of the model, or train from nothing"
            )
    rng = np.random.default_rng(plan.seed)
    made = Convolutional(
        plan.front_end.width, len(labels), classifier.settings, classifier.level, rng, multilabel=plan.multilabel
    )
    layers = [len(network.layers) for network in made.networks]
    if plan.start.frozen >= min(layers):
        raise PlanError(f"start.frozen must be less than {min(layers)}, the layers of the network")
    arrays = {name: array.copy() for name, array in made.state().items()}
    for name, array in classifier.state().items():
        network, layer = map(int, name.split(".")[:2])
        if layer < layers[network] - 1:
            arrays[name] = array
        else:
            _take_over(array, model.labels, arrays[name], labels)
    made.load_state(arrays)
    return Fitted(classifier=made, mean=model.mean, deviation=model.deviation)


def _take_over(its: np.ndarray, its_labels: list[str], ours: np.ndarray, labels: list[str]) -> None:
    """Copy the last layer's weights of the label-independent outputs and of the labels that both models have."""
    common = [label for label in labels if label in its_labels]
    from_, to = ([own.index(label) for label in common] for own in (its_labels, labels))
    sounds, begins, naming = zip(split_outputs(its, len(its_labels)), split_outputs(ours, len(labels)), strict=True)
    for before, now in (sounds, begins):
        is_of_any = before.shape[-1] != len(its_labels)
        now[..., slice(None) if is_of_any else to] = before[..., slice(None) if is_of_any else from_]
    before, now = naming
    now[..., [*to, -2, -1]] = before[..., [*from_, -2, -1]]  # with none of the labels, and attention


def _exemplar_labels(model: Model) -> set[str]:
    return {label for one in model.exemplars for label in labels_in(one.label)}


def _network_classifier(model: Model, path: str) -> Convolutional:
    classifier = networks_in(model.classifier)
    if classifier is None:
        raise PlanError(f"start.model: {path} is a {model.classifier.name}; only a cnn can be trained further")
    return classifier
