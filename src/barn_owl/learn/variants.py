"""Augmented copies of the training clips, computed during training."""

import tempfile
from concurrent.futures import Future, ThreadPoolExecutor

import numpy as np

from barn_owl.audio import Excerpt
from barn_owl.learn.plan import Plan
from barn_owl.parallel import each
from barn_owl.sound import change_sound, read_preprocessed
from barn_owl.sound.samples import SampleFile

STREAM = 11
"""Separates the random numbers of augmentation from the random numbers of the training."""


class Variants:
    """Augments the clips of the next epoch in a thread during the training of this epoch.

    Which clips are changed, and how, follows from the plan's seed and the epoch alone, so it does not matter
    how fast the thread is.
    """

    def __init__(self, sources: list[Excerpt], background: np.ndarray, plan: Plan) -> None:
        self._sources, self._background, self._plan = sources, background, plan
        self._kept = SampleFile()
        self._count = round(plan.sound.renew * len(sources)) or 1
        self._clips = len(sources)
        self._thread = ThreadPoolExecutor(1)
        self._next: Future[dict[int, np.ndarray]] | None = None

    def start(self, epoch: int) -> None:
        """Start to create the variants of an epoch."""
        self._next = self._thread.submit(self._make, epoch)

    def take(self, epoch: int) -> dict[int, np.ndarray]:
        """Wait for the variants of an epoch, begun now if not before; frames by the number of the clip."""
        if self._next is None:
            self.start(epoch)
        waiting, self._next = self._next, None
        return {} if waiting is None else waiting.result()

    def after(self, epochs: int) -> dict[int, np.ndarray]:
        """Recreate the last variants of the epochs up to this epoch."""
        last = {int(clip): epoch for epoch in range(1, epochs + 1) for clip in self._chosen(epoch)}
        return _on_disk({clip: self._variant(clip, epoch) for clip, epoch in last.items()}) if last else {}

    def close(self) -> None:
        """Stop, and drop unused variants."""
        self._thread.shutdown(cancel_futures=True)
        self._kept.close()

    def _samples(self, clip: int) -> np.ndarray:
        """Return the preprocessed samples of a clip at the front end's rate; decoded once."""
        if clip not in self._kept:
            self._kept.keep(
                clip, read_preprocessed(self._sources[clip], self._plan.front_end.rate_hz, self._plan.clips)
            )
        return self._kept.read(clip)

    def of_all(self, turn: int, workers: int) -> list[np.ndarray]:
        """Create a variant of every clip at once, different for each `turn`."""
        return list(each(lambda clip: self._variant(clip, turn), range(self._clips), workers, here=True))

    def _chosen(self, epoch: int) -> np.ndarray:
        """Numbers of the clips that are changed in an epoch."""
        return np.random.default_rng([self._plan.seed, STREAM, epoch]).permutation(self._clips)[: self._count]

    def _make(self, epoch: int) -> dict[int, np.ndarray]:
        return _on_disk({int(clip): self._variant(int(clip), epoch) for clip in self._chosen(epoch)})

    def _variant(self, clip: int, turn: int) -> np.ndarray:
        front_end, rng = self._plan.front_end, np.random.default_rng([self._plan.seed, STREAM, turn, clip])
        other = None
        if len(self._background):
            other = lambda: self._samples(int(rng.choice(self._background)))  # noqa: E731
        samples, _ = change_sound(self._samples(clip), front_end.rate_hz, self._plan.sound, rng, background=other)
        if len(samples) < front_end.frame:  # played faster than it can bear
            samples = self._samples(clip)
        return front_end.frames(samples)


def _on_disk(frames: dict[int, np.ndarray]) -> dict[int, np.ndarray]:
    """Write the frames of clips into a temporary file and map it, since memory would fill up after many epochs.

    The file has no name, and is gone when the last of them is replaced.
    """
    parts = list(frames.values())
    ends = np.cumsum([len(part) for part in parts])
    with tempfile.TemporaryFile() as file:
        for part in parts:
            file.write(np.ascontiguousarray(part, dtype=np.float32).tobytes())
        file.flush()
        whole = np.memmap(file, dtype=np.float32, mode="r", shape=(int(ends[-1]), parts[0].shape[1]))
    return {clip: whole[end - len(part) : end] for (clip, part), end in zip(frames.items(), ends, strict=True)}
