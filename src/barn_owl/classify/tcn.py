"""The tcn family: a temporal convolutional network, and how it is trained."""

import time
from concurrent.futures import Executor, ThreadPoolExecutor
from typing import Any

import numpy as np

from barn_owl.audio import read_ahead
from barn_owl.classify.augment import augment, mix_windows
from barn_owl.classify.dataset import WindowDrawer
from barn_owl.classify.fitted import (
    Examples,
    Fitted,
    Progress,
    Watcher,
    background_clips,
    balanced_order,
    judge_logits,
    label_weights,
    standardisation,
    window_frames,
)
from barn_owl.classify.network import (
    AdamW,
    BatchNorm,
    Convolution,
    Dense,
    Dropout,
    MeanOverTime,
    Network,
    Relu,
    Residual,
    warm_cosine,
)
from barn_owl.classify.network.layers import Arrays, Layer
from barn_owl.classify.network.loss import smoothed
from barn_owl.classify.network.optimiser import clip_norm
from barn_owl.classify.plan import Plan, TcnSettings
from barn_owl.classify.variants import Variants
from barn_owl.errors import PlanError, TrainingError

LONGEST_GRADIENT = 5.0
JUDGED_AT_ONCE = 64
MIN_BATCHES = 8
"""Batches of an epoch at least: with few clips, each is seen several times, changed anew."""


class Tcn:
    """Convolutions along time with the bands as channels.

    Nothing is padded in time, and the mean over time and the dense layer after it are linear. So the logits
    of a window are the mean of the logits of its steps, windows share their convolutions, and a window scores
    what the same excerpt would as a clip.
    """

    name = "tcn"
    step = 4

    def __init__(self, frames: int, bands: int, labels: int, settings: TcnSettings, rng: np.random.Generator) -> None:
        self.settings = settings
        self.body = _body(settings.channels)
        self.dense = Dense(labels)
        self.network = Network([*self.body, MeanOverTime(), Dropout(settings.dropout), self.dense], bands, rng)
        self.reach = next(length for length in range(1, 1000) if self.network.steps(length) == 1)
        if frames < self.reach:
            raise PlanError(
                f"clips.length_s: the tcn needs windows of at least {self.reach} frames, this length gives {frames}"
            )
        self.steps = self.network.steps(frames)
        self.window = self.reach + (self.steps - 1) * self.step

    def logits(self, frames: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return the logits of all windows and of all steps; see `Family`."""
        x = frames[None]
        for layer in self.body:
            x, _ = layer.forward(x, None)
        local, _ = self.dense.forward(x[0], None)
        windows = np.lib.stride_tricks.sliding_window_view(local, self.steps, axis=0).mean(axis=-1)
        return windows, local

    def arrays(self) -> Arrays:
        """Weights and running statistics of the network."""
        return self.network.arrays()

    def shape(self) -> dict[str, Any]:
        """Length of the window and the settings."""
        return {"frames": self.window, "settings": self.settings.model_dump()}


def _body(channels: int) -> list[Layer]:
    """The layers up to the mean over time: six convolutions, two of them with stride 2, one residual block."""

    def unit(taps: int, stride: int = 1) -> list[Layer]:
        return [Convolution(channels, taps=taps, stride=stride), BatchNorm(), Relu()]

    residual = Residual([*unit(3), Convolution(channels, taps=3), BatchNorm()])
    return [*unit(5, stride=2), *unit(3), *unit(5, stride=2), residual, Relu(), *unit(3)]


def fit_tcn(
    plan: Plan, labels: list[str], train: Examples, validation: Examples, *, workers: int, watch: Watcher
) -> Fitted:
    """Train a network, keeping the weights that do best on the validation clips.

    On Ctrl-C after the first epoch the best so far are kept. Raises TrainingError when the loss stops being
    a number.
    """
    trainer = _Trainer(plan, labels, train, validation)
    fitted = Fitted(family=trainer.tcn, mean=trainer.mean, deviation=trainer.deviation)
    begin, best, best_loss, best_epoch = time.perf_counter(), None, np.inf, 0
    try:
        with ThreadPoolExecutor(workers) as threads:
            for epoch in range(1, plan.training.epochs + 1):
                started = time.perf_counter()
                train_loss = trainer.epoch(epoch, threads)
                learnt = time.perf_counter() - started
                loss, recall, arrays = trainer.judge()
                if loss < best_loss:
                    best, best_loss, best_epoch = arrays, loss, epoch
                line = Progress(
                    epoch=epoch,
                    epochs=plan.training.epochs,
                    train_loss=train_loss,
                    validation_loss=loss,
                    validation_recall=recall,
                    best=best_epoch == epoch,
                    seconds=time.perf_counter() - begin,
                    waiting=round(trainer.waited / max(learnt, 1e-9), 3),
                )
                fitted.curves.append(line)
                watch(line)
                if epoch - best_epoch >= plan.training.patience:
                    break
    except KeyboardInterrupt:
        if best is None:
            raise
        fitted.interrupted = True
    finally:
        trainer.close()
    if best is None:
        raise TrainingError("the validation loss was never a number; lower training.rate")
    trainer.tcn.network.load(best)
    return fitted


class _Trainer:
    """The network in training, with the optimiser and the running average of the weights."""

    def __init__(self, plan: Plan, labels: list[str], train: Examples, validation: Examples) -> None:
        self.plan, self.labels, self.train, self.validation = plan, len(labels), train, validation
        self.rng = np.random.default_rng(plan.seed)
        self.mean, self.deviation = standardisation(train.clips)
        self.tcn = Tcn(window_frames(plan), plan.front_end.width, len(labels), plan.tcn, self.rng)
        self.drawer = WindowDrawer(train.clips, self.tcn.window, plan.clips, plan.front_end)
        central = WindowDrawer(validation.clips, self.tcn.window, plan.clips, plan.front_end).central()
        self.watched = self._standard(central)
        self.background = background_clips(plan, labels, train)
        self.vector = self.tcn.network.vector
        self.averaged = self.vector.copy()
        self.optimiser = AdamW(self.vector, decay=plan.training.decay, decayed=self.tcn.network.kernels)
        self.variants = None
        if plan.sound.any and train.sources:
            self.variants = Variants(train.sources, self.background, plan)
            self.variants.start(1)
        self.waited = 0.0
        """Seconds of the last epoch spent waiting for the windows to learn from."""
        self.weights = label_weights(train.numbers, len(labels)) if plan.training.balance == "weight" else None
        self.batches = max(MIN_BATCHES, -(-len(train.numbers) // plan.training.batch))

    def _standard(self, windows: np.ndarray) -> np.ndarray:
        return (windows - self.mean) / self.deviation

    def epoch(self, epoch: int, threads: Executor) -> float:
        """Go once through all batches of an epoch; return the mean loss."""
        self.waited = 0.0
        if self.variants is not None:
            begin = time.perf_counter()
            for clip, frames in self.variants.take().items():
                self.drawer.replace(clip, frames)
            self.waited += time.perf_counter() - begin
            self.variants.start(epoch + 1)
        draws = max(len(self.train.numbers), self.batches * min(self.plan.training.batch, len(self.train.numbers)))
        if self.plan.training.balance == "draw":
            order = balanced_order(self.train.numbers, draws, self.rng)
        else:
            order = np.resize(self.rng.permutation(len(self.train.numbers)), draws)
        losses = []
        # The windows of the next batch are drawn while the network learns from this one.
        begin = time.perf_counter()
        for windows, targets in read_ahead(self._batch(clips) for clips in np.array_split(order, self.batches)):
            self.waited += time.perf_counter() - begin
            losses.append(self._step(windows, targets, epoch, threads))
            begin = time.perf_counter()
        return float(np.mean(losses))

    def _batch(self, clips: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Windows of `clips` and their targets."""
        targets = smoothed(self.train.numbers[clips], self.labels, self.plan.training.smoothing)
        windows, targets = self._windows(clips, targets)
        if self.weights is not None:
            targets = targets * self.weights[self.train.numbers[clips], None]
        return windows, targets

    def _step(self, windows: np.ndarray, targets: np.ndarray, epoch: int, threads: Executor) -> float:
        settings, step = self.plan.training, self.optimiser.count
        seed = (self.plan.seed, step)
        loss, gradient = self.tcn.network.learn(windows, targets, seed, threads)
        if not np.isfinite(loss) or not np.isfinite(gradient).all():
            raise TrainingError(
                f"the loss is not a number at epoch {epoch}, step {step + 1}; "
                f"lower training.rate (now {settings.rate:g})"
            )
        clip_norm(gradient, LONGEST_GRADIENT)
        self.optimiser.step(gradient, warm_cosine(step, settings.epochs * self.batches, settings.rate))
        # The average starts short and grows, or the first values would linger in it.
        keep = min(settings.averaging, step / (step + 10))
        self.averaged += np.float32(1 - keep) * (self.vector - self.averaged)
        return loss

    def _windows(self, clips: np.ndarray, targets: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Draw a window of each of `clips`, changed if the frames are log-mel, and standardised; and its targets."""
        windows, noise = self.drawer.draw(clips, self.rng), None
        if not self.plan.front_end.is_log_mel:
            return self._standard(windows), targets
        if self.plan.augment.mixing:
            windows, targets = mix_windows(windows, targets, self.plan.augment.mixing, self.rng)
        if len(self.background):
            noise = self.drawer.draw(self.rng.choice(self.background, size=len(clips)), self.rng)
        floor_db = self.plan.front_end.floor_db
        changed = augment(windows, self.plan.augment, self.rng, background=noise, floor_db=floor_db)
        return self._standard(changed), targets

    def close(self) -> None:
        """Stop what goes on beside the training."""
        if self.variants is not None:
            self.variants.close()

    def judge(self) -> tuple[float, float, Arrays]:
        """Loss and mean recall on the validation clips with the averaged weights, and a copy of those."""
        current = self.vector.copy()
        self.vector[:] = self.averaged
        parts = range(0, len(self.watched), JUDGED_AT_ONCE)
        logits = [self.tcn.network.forward(self.watched[at : at + JUDGED_AT_ONCE])[0] for at in parts]
        arrays = {name: array.copy() for name, array in self.tcn.arrays().items()}
        self.vector[:] = current
        return *judge_logits(np.concatenate(logits), self.validation.numbers), arrays
