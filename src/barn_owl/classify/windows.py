"""The windows that a family learns from: drawn from the clips, changed, standardised."""

import time

import numpy as np

from barn_owl.classify.augment import augment, mix_windows
from barn_owl.classify.dataset import WindowDrawer
from barn_owl.classify.fitted import Examples, background_clips, standardisation
from barn_owl.classify.plan import Plan
from barn_owl.classify.variants import Variants


class TrainingWindows:
    """Draws windows of `length` frames from the training clips, changed anew each time as the plan says.

    mean, deviation : what frames are standardised with; left out, those of the training clips.
    """

    def __init__(
        self,
        plan: Plan,
        labels: list[str],
        train: Examples,
        length: int,
        standard: tuple[np.ndarray, np.ndarray] | None = None,
    ) -> None:
        self._plan = plan
        self.mean, self.deviation = standard or standardisation(train.clips)
        self.drawer = WindowDrawer(train.clips.take(range(len(train.clips))), length, plan.clips, plan.front_end)
        self._background = background_clips(plan, labels, train)
        self._variants = None
        if plan.sound.any and train.sources:
            self._variants = Variants(train.sources, self._background, plan)

    def standard(self, windows: np.ndarray) -> np.ndarray:
        """Frames less their mean, in deviations."""
        return np.asarray((windows - self.mean) / self.deviation)

    def begin(self, epoch: int, epochs: int) -> float:
        """Put the clips whose sound was changed for this epoch in place; return the seconds waited for them."""
        if self._variants is None:
            return 0.0
        begin = time.perf_counter()
        for clip, frames in self._variants.take(epoch).items():
            self.drawer.replace(clip, frames)
        if epoch < epochs:
            self._variants.start(epoch + 1)
        return time.perf_counter() - begin

    def resume(self, epoch: int) -> None:
        """Put in place what the epochs up to this one, already over, had changed last."""
        if self._variants is not None:
            for clip, frames in self._variants.after(epoch).items():
                self.drawer.replace(clip, frames)

    def change_all(self, turn: int, workers: int) -> None:
        """Put another variant of every clip in place, if the plan changes sound."""
        if self._variants is not None:
            for clip, frames in enumerate(self._variants.of_all(turn, workers)):
                self.drawer.replace(clip, frames)

    def draw(self, clips: np.ndarray, targets: np.ndarray, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
        """Draw a standardised window of each of `clips` (numbers), changed if the frames are log-mel; its targets."""
        windows, noise = self.drawer.draw(clips, rng), None
        if not self._plan.front_end.is_log_mel:
            return self.standard(windows), targets
        if self._plan.augment.mixing:
            windows, targets = mix_windows(windows, targets, self._plan.augment.mixing, rng)
        if len(self._background):
            noise = self.drawer.draw(rng.choice(self._background, size=len(clips)), rng)
        floor_db = self._plan.front_end.floor_db
        changed = augment(windows, self._plan.augment, rng, background=noise, floor_db=floor_db)
        return self.standard(changed), targets

    def close(self) -> None:
        """Stop what goes on beside the training."""
        if self._variants is not None:
            self._variants.close()


def central_windows(plan: Plan, examples: Examples, length: int) -> np.ndarray:
    """One window of each clip, as it is, not standardised; ``(clips, length, features)``."""
    return WindowDrawer(examples.clips, length, plan.clips, plan.front_end).central()
