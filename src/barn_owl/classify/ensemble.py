"""Several trained classifiers as one: the mean of what they say."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from barn_owl.classify.family import Cost, Family, Judged
from barn_owl.classify.network import log_softmax


class Ensemble:
    """Families with the same labels and windows, each with the standardisation it was trained with.

    The logits of the whole are the mean over the members of the logarithms of their scores: no member counts for more
    because its logits are larger.
    """

    name = "ensemble"

    def __init__(self, members: list[tuple[Family, np.ndarray, np.ndarray]], overlapping: bool) -> None:
        self.members, self.overlapping = members, overlapping
        first = members[0][0]
        if any((one.window, one.step, one.reach) != (first.window, first.step, first.reach) for one, _, _ in members):
            raise ValueError("the members look at windows of different lengths")
        self.window, self.step, self.reach = first.window, first.step, first.reach

    def logits(self, frames: np.ndarray, extras: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
        """Return the mean logits; see `Family`. The frames are not standardised: each member does that itself."""
        said = [family.logits((frames - mean) / deviation, extras) for family, mean, deviation in self.members]
        return self._mean(said)

    def _mean(self, said: Sequence[tuple[np.ndarray, ...]]) -> tuple[np.ndarray, np.ndarray]:
        alike = (lambda logits: logits) if self.overlapping else log_softmax
        windows, local = (np.mean([alike(one[part]) for one in said], axis=0) for part in (0, 1))
        return windows, local

    def judge(self, frames: np.ndarray, extras: np.ndarray | None = None) -> Judged:
        """Return the mean logits, and what all members decide by, side by side; see `Family`."""
        said = [family.judge((frames - mean) / deviation, extras) for family, mean, deviation in self.members]
        return Judged(*self._mean(said), np.concatenate([one.hidden for one in said], axis=1))

    def arrays(self) -> dict[str, np.ndarray]:
        """All that the members learnt, with their numbers in front."""
        return {
            f"{number}.{name}": array
            for number, (family, mean, deviation) in enumerate(self.members)
            for name, array in {**family.arrays(), "mean_": mean, "deviation_": deviation}.items()
        }

    def shape(self) -> dict[str, Any]:
        """Shapes of the members."""
        return {
            "overlapping": self.overlapping,
            "members": [{"name": family.name, **family.shape()} for family, _, _ in self.members],
        }

    def cost(self) -> Cost:
        """Sum over the members."""
        costs = [family.cost() for family, _, _ in self.members]
        return Cost(
            weights=sum(cost.weights for cost in costs), multiply_adds=sum(cost.multiply_adds for cost in costs)
        )
