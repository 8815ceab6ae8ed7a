"""Several trained classifiers as one: the mean of what they say."""

from typing import Any

import numpy as np

from barn_owl.model.family import Cost, Family, Steps, label_scores
from barn_owl.network import sigmoid

LEAST = np.float32(1e-6)
"""Scores nearer to 0 or 1 have the log-odds of this."""


class Ensemble:
    """Families with the same labels and steps, each with the standardisation it was trained with.

    The log-odds of the whole are the mean of those of the members.
    """

    name = "ensemble"

    def __init__(self, members: list[tuple[Family, np.ndarray, np.ndarray]]) -> None:
        self.members = members
        first = members[0][0]
        if any((one.window, one.step) != (first.window, first.step) for one, _, _ in members):
            raise ValueError("the members look at windows of different lengths")
        self.window, self.step = first.window, first.step
        self.onsets = all(family.onsets for family, _, _ in members)

    def steps(self, frames: np.ndarray, extras: np.ndarray | None = None) -> Steps:
        """Return the mean log-odds, and what the members decide by, side by side; see `Family`.

        The frames are not standardised: each member does that itself.
        """
        said = [family.steps((frames - mean) / deviation, extras) for family, mean, deviation in self.members]
        if len({one.sounds.shape for one in said}) > 1:
            said = [_by_label(one) for one in said]
        sounds, begins, naming = (np.mean(parts, axis=0) for parts in list(zip(*said, strict=True))[:3])
        return Steps(sounds, begins, naming, np.concatenate([one.embedding for one in said], axis=1))

    def arrays(self) -> dict[str, np.ndarray]:
        """All that the members learnt, with their numbers in front."""
        return {
            f"{number}.{name}": array
            for number, (family, mean, deviation) in enumerate(self.members)
            for name, array in {**family.arrays(), "mean_": mean, "deviation_": deviation}.items()
        }

    def shape(self) -> dict[str, Any]:
        """Shapes of the members."""
        return {"members": [{"name": family.name, **family.shape()} for family, _, _ in self.members]}

    def cost(self, hop_s: float) -> Cost:
        """Sum over the members."""
        costs = [family.cost(hop_s) for family, _, _ in self.members]
        return Cost(
            weights=sum(cost.weights for cost in costs), multiply_adds=sum(cost.multiply_adds for cost in costs)
        )


def _by_label(said: Steps) -> Steps:
    """The same with log-odds of each label, whether or not they were of any of them together."""
    sounds, begins = (label_scores(sigmoid(one), said.naming) for one in (said.sounds, said.begins))
    return said._replace(sounds=_log_odds(sounds), begins=_log_odds(begins))


def _log_odds(scores: np.ndarray) -> np.ndarray:
    inside = np.clip(scores, LEAST, 1 - LEAST)
    return np.asarray(np.log(inside / (1 - inside)), dtype=np.float32)
