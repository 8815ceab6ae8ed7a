"""What the learning curves of a run say, in words."""

from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

RISE, GAP, WORTH_IT = 0.05, 0.1, 1.3
"""What is stated: a rise of the loss beyond its wobble, a gap between known and unknown clips that is
more than chance on a hundred of them, and how many times better than guessing is worth having."""


@dataclass(frozen=True, kw_only=True)
class TrainingHistory:
    """How a training went: its best epoch, and how far it fits its own clips better than others.

    rise : of the validation loss from its best to the end, as a share. gap : balanced accuracy on the training clips
    less that on clips it has not trained on; NaN when one is not known. reached, chance : balanced accuracy on the
    validation clips, and that of guessing. never : labels of which no validation clip was found. by_epoch : the
    curves are those of a network; otherwise each line of them is a candidate.
    """

    best_epoch: int
    epochs: int
    rise: float
    gap: float
    chance: float = 0.0
    reached: float = 1.0
    never: tuple[str, ...] = ()
    by_epoch: bool = True

    @property
    def overfits(self) -> bool:
        """Whether the validation loss rose while the training loss continued falling."""
        return self.rise > RISE

    @property
    def warnings(self) -> list[str]:
        """Reasons for caution about the training: overfitting, or learning nothing."""
        found = []
        if self.gap > GAP:
            found.append(
                f"Overfit: its training clips are known better than others by {self.gap:.2f} of balanced accuracy."
            )
        if self.reached < WORTH_IT * self.chance:
            found.append(f"Training hardly beat guessing on the validation clips: {self.reached:.2f}.")
        return found

    @property
    def words(self) -> list[str]:
        """Say it, a sentence each."""
        said = []
        if self.reached < WORTH_IT * self.chance:
            said = [
                f"It hardly beats guessing ({self.reached:.2f}, by guessing {self.chance:.2f}): "
                "the labels may be wrong, the clips too few, or the sound outside of the windows; "
                "see barn-owl check and barn-owl look."
            ]
        elif self.never:
            said = [f"It never says {', '.join(map(repr, self.never))} where it should, on the validation clips."]
        if not self.by_epoch:
            pass  # candidates stand alongside each other: the last is no more learned than the first
        elif self.best_epoch == self.epochs:
            said += [f"Still getting better at its last epoch, {self.epochs}: more epochs may help."]
        else:
            said += [f"Best at epoch {self.best_epoch} of {self.epochs}, whose weights are kept."]
        if self.by_epoch and self.overfits:
            said.append(
                f"After epoch {self.best_epoch} the validation loss rose by {self.rise:.0%} while training continued: "
                "it is overfitting."
            )
        if self.gap > GAP:
            said.append(
                f"It knows its own training clips better than others by {self.gap:.2f} of balanced accuracy: "
                "more clips, more recorders or more augmentation would help, a larger network would not."
            )
        return said


def read_training_history(
    curves: pd.DataFrame, scores: dict[str, dict[str, Any] | None], *, by_epoch: bool = True, refitted: bool = False
) -> TrainingHistory:
    """Judge curves (``epoch``, ``train_loss``, ``validation_loss``, ``best``) and the scores of each side.

    refitted : the model has trained on the validation clips, too, whose scores are those of the model before.
    """
    best = curves[curves["best"].astype(bool)].iloc[-1]
    after = curves[curves["epoch"] > best["epoch"]]
    falls = len(after) > 0 and after["train_loss"].iloc[-1] <= best["train_loss"]
    end = float(after["validation_loss"].tail(5).mean()) if falls else float(best["validation_loss"])
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
        epochs=int(curves["epoch"].iloc[-1]),
        rise=end / float(best["validation_loss"]) - 1 if best["validation_loss"] else 0.0,
        gap=float(splits[0] - splits[1]),
    )
