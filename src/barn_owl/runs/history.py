"""Diagnosis of learning curves: best epoch, overfitting, no progress."""

from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

RISE, GAP, MIN_GAIN = 0.05, 0.1, 1.3
"""Limits: rise of the validation loss beyond its fluctuation; gap between training and validation beyond chance for a
hundred clips; accuracy of a useful classifier relative to chance."""


@dataclass(frozen=True, kw_only=True)
class TrainingHistory:
    """Course of a training.

    best_epoch : whose weights the model has. least_epoch : of the least validation loss. rise : relative rise of the
    validation loss from there to the end. gap : balanced accuracy on training clips minus that on unseen clips; NaN
    if unknown. reached, chance : balanced accuracy on the validation clips, and at chance. never : labels without a
    correct validation clip. by_epoch : whether the curves are over epochs; otherwise each row is a candidate.
    ended_early : whether training ended before the last epoch of the plan, since the losses no longer improved.
    """

    best_epoch: int
    least_epoch: int
    epochs: int
    rise: float
    gap: float
    chance: float = 0.0
    reached: float = 1.0
    never: tuple[str, ...] = ()
    by_epoch: bool = True
    ended_early: bool = False

    @property
    def overfits(self) -> bool:
        """Whether the validation loss rose while the training loss continued falling."""
        return self.rise > RISE

    @property
    def warnings(self) -> list[str]:
        """Reasons for caution about the training: overfitting, or learning nothing."""
        found = []
        if self.gap > GAP:
            found.append(f"Overfitting: balanced accuracy is {self.gap:.2f} higher on training clips than on others.")
        if self.reached < MIN_GAIN * self.chance:
            found.append(f"Hardly better than chance on the validation clips: {self.reached:.2f}.")
        return found

    @property
    def words(self) -> list[str]:
        """The diagnosis, as sentences."""
        sentences = []
        if self.reached < MIN_GAIN * self.chance:
            sentences = [
                f"Hardly better than chance (balanced accuracy {self.reached:.2f}, chance {self.chance:.2f}): "
                "labels may be wrong, or there are too few clips; look at them, and check the clips."
            ]
        elif self.never:
            sentences = [f"No validation clip of {', '.join(map(repr, self.never))} is classified correctly."]
        if not self.by_epoch:
            pass  # candidates have no order
        elif self.least_epoch == self.epochs and not self.ended_early:
            sentences += [f"Still improving at the last epoch, {self.epochs}: more epochs may help."]
        else:
            early = "; training ended early, as the losses no longer improved" if self.ended_early else ""
            sentences += [f"The model has the weights of epoch {self.best_epoch} of {self.epochs}{early}."]
        if self.by_epoch and self.overfits:
            sentences.append(
                f"After epoch {self.least_epoch} the validation loss rose by {self.rise:.0%} while the training loss "
                "fell: overfitting."
            )
        if self.gap > GAP:
            sentences.append(
                f"Balanced accuracy is {self.gap:.2f} higher on training clips than on others: more clips, more "
                "recorders or more augmentation would help, a larger network would not."
            )
        return sentences


def read_training_history(
    curves: pd.DataFrame, scores: dict[str, dict[str, Any] | None], *, by_epoch: bool = True, refitted: bool = False
) -> TrainingHistory:
    """Judge the curves of a run and the scores of each side.

    refitted : the model has trained on the validation clips, too, whose scores are those of the model before.
    """
    best = curves[curves["best"].astype(bool)].iloc[-1]
    losses = curves["validation_loss"]
    least = curves.loc[losses.idxmin()] if by_epoch and losses.notna().any() else best
    after = curves[curves["epoch"] > least["epoch"]]
    falls = len(after) > 0 and after["train_loss"].iloc[-1] <= least["train_loss"]
    end = float(after["validation_loss"].tail(5).mean()) if falls else float(least["validation_loss"])
    others = "test" if refitted else "validation"
    splits = [(scores.get(split) or {}).get("balanced_accuracy", np.nan) for split in ("train", others)]
    validation = scores.get("validation") or {}
    by_label = {name: row["recall"] for name, row in validation.get("labels", {}).items() if row["count"]}
    return TrainingHistory(
        by_epoch=by_epoch,
        chance=0.5 if "exact" in validation else 1 / max(len(by_label), 1) if by_label else 0.0,
        reached=validation.get("balanced_accuracy", 1.0),
        never=tuple(name for name, recall in by_label.items() if recall == 0),
        best_epoch=int(best["epoch"]),
        least_epoch=int(least["epoch"]),
        epochs=int(curves["epoch"].iloc[-1]),
        ended_early=bool(curves["epochs"].iloc[-1] < curves["epochs"].max()),
        rise=end / float(least["validation_loss"]) - 1 if least["validation_loss"] else 0.0,
        gap=float(splits[0] - splits[1]),
    )
