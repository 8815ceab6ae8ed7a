"""Ensembles of trained classifiers, whose scores are averaged."""

from typing import Any

import numpy as np
from pydantic import Field, field_validator

from barn_owl.classifiers.base import Classifier, Cost, FrameScores, WholeClipClassifier
from barn_owl.classifiers.kind import ClassifierKind, read_config, rebuild
from barn_owl.settings import Settings


class Ensemble:
    """Classifiers with the same labels and steps, each with the standardization it was trained with.

    Mean of the log-odds of several classifiers.
    """

    name = "ensemble"

    def __init__(self, members: list[tuple[Classifier, np.ndarray, np.ndarray]]) -> None:
        self.members = members
        first = members[0][0]
        if any((one.window, one.step) != (first.window, first.step) for one, _, _ in members):
            raise ValueError("the members look at windows of different lengths")
        if any(one.has_onsets != first.has_onsets for one, _, _ in members):
            raise ValueError("some members tell where sounds begin, others do not")
        self.window, self.step = first.window, first.step
        self.has_onsets = first.has_onsets
        if all(isinstance(one, WholeClipClassifier) for one, _, _ in members):
            self.whole = self._whole

    def frame_scores(self, frames: np.ndarray, extras: np.ndarray | None = None) -> FrameScores:
        """Return mean log-odds, and the embeddings of the members side by side; see `Classifier`.

        The frames are not standardized: each member does that itself.
        """
        outputs = [
            classifier.frame_scores((frames - mean) / deviation, extras)
            for classifier, mean, deviation in self.members
        ]
        activity, onsets, label_logits = (np.mean(parts, axis=0) for parts in list(zip(*outputs, strict=True))[:3])
        return FrameScores(activity, onsets, label_logits, np.concatenate([one.embedding for one in outputs], axis=1))

    def _whole(self, frames: np.ndarray, extras: np.ndarray | None = None) -> np.ndarray:
        """Mean log-odds for a clip as a whole; see `Pooled.whole`."""
        outputs = [
            classifier.whole((frames - mean) / deviation, extras)
            for classifier, mean, deviation in self.members
            if isinstance(classifier, WholeClipClassifier)
        ]
        return np.asarray(np.mean(outputs, axis=0), dtype=np.float32)

    def state(self) -> dict[str, np.ndarray]:
        """All that the members learned, with their numbers in front."""
        return {
            f"{number}.{name}": array
            for number, (classifier, mean, deviation) in enumerate(self.members)
            for name, array in {**classifier.state(), "mean_": mean, "deviation_": deviation}.items()
        }

    def config(self) -> dict[str, Any]:
        """Shapes of the members."""
        return {"members": [{"name": classifier.name, **classifier.config()} for classifier, _, _ in self.members]}

    def cost(self, hop_s: float) -> Cost:
        """Sum over the members."""
        costs = [classifier.cost(hop_s) for classifier, _, _ in self.members]
        return Cost(
            weights=sum(cost.weights for cost in costs), multiply_adds=sum(cost.multiply_adds for cost in costs)
        )


class EnsembleConfig(Settings):
    """Entry of an ensemble in a model file: the entries of its members."""

    name: str
    members: list[Any] = Field(min_length=1, max_length=64)

    @field_validator("members")
    @classmethod
    def _known(cls, members: list[Any]) -> list[Any]:
        found = [read_config(member) for member in members]
        if any(isinstance(member, EnsembleConfig) for member in found):
            raise ValueError("members of an ensemble are no ensembles")
        return found


def _rebuild(
    config: EnsembleConfig, arrays: dict[str, np.ndarray], features: int, labels: int, multilabel: bool
) -> Ensemble:
    members = []
    for number, member in enumerate(config.members):
        prefix = f"{number}."
        own = {name[len(prefix) :]: array for name, array in arrays.items() if name.startswith(prefix)}
        standard = own.pop("mean_"), own.pop("deviation_")
        for array in standard:
            if array.shape != (features,):
                raise ValueError(f"the standardization of member {number} has shape {array.shape}")
        members.append((rebuild(member, own, features, labels, multilabel=multilabel), *standard))
    return Ensemble(members)


KIND = ClassifierKind(name="ensemble", settings=None, config=EnsembleConfig, rebuild=_rebuild)
