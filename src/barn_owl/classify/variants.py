"""Training clips whose sound is changed anew from epoch to epoch, made beside the training."""

import tempfile
from concurrent.futures import Future, ThreadPoolExecutor

import numpy as np

from barn_owl.classify.plan import Plan
from barn_owl.clips.augment import change_sound
from barn_owl.clips.uniform import read_uniform
from barn_owl.features.cache import Excerpt

STREAM = 11
"""Keeps the random numbers of changes apart from those of the training itself."""


class SampleStore:
    """Samples of clips, decoded once and then kept in a temporary file, so that memory stays free."""

    def __init__(self, sources: list[Excerpt], plan: Plan) -> None:
        self._sources, self._plan = sources, plan
        self._file = tempfile.TemporaryFile()  # noqa: SIM115 - lives as long as the store, and is gone with it
        self._places: dict[int, tuple[int, int]] = {}

    def read(self, clip: int) -> np.ndarray:
        """Return the samples of a clip at the front end's rate, made uniform."""
        if clip not in self._places:
            samples = read_uniform(self._sources[clip], self._plan.front_end.rate_hz, self._plan.clips)
            self._places[clip] = (self._file.seek(0, 2), len(samples))
            self._file.write(np.ascontiguousarray(samples, dtype=np.float32).tobytes())
            return samples
        at, count = self._places[clip]
        self._file.seek(at)
        return np.frombuffer(self._file.read(4 * count), dtype=np.float32)

    def close(self) -> None:
        """Give the disk space back."""
        self._file.close()


class Variants:
    """Makes the changed clips of the next epoch in a thread, while the network learns from those of this one.

    Which clips are changed, and how, follows from the plan's seed and the epoch alone, so it does not matter
    how fast the thread is.
    """

    def __init__(self, sources: list[Excerpt], background: np.ndarray, plan: Plan) -> None:
        self._store, self._background, self._plan = SampleStore(sources, plan), background, plan
        self._count = round(plan.sound.renew * len(sources)) or 1
        self._clips = len(sources)
        self._thread = ThreadPoolExecutor(1)
        self._next: Future[dict[int, np.ndarray]] | None = None

    def start(self, epoch: int) -> None:
        """Begin to make the variants of an epoch."""
        self._next = self._thread.submit(self._make, epoch)

    def take(self) -> dict[int, np.ndarray]:
        """Wait for the variants begun last; frames by the number of the clip."""
        return {} if self._next is None else self._next.result()

    def close(self) -> None:
        """Stop, and drop what is not taken."""
        self._thread.shutdown(cancel_futures=True)
        self._store.close()

    def _make(self, epoch: int) -> dict[int, np.ndarray]:
        rng = np.random.default_rng([self._plan.seed, STREAM, epoch])
        chosen = rng.permutation(self._clips)[: self._count]
        return {int(clip): self._variant(int(clip), rng) for clip in chosen}

    def _variant(self, clip: int, rng: np.random.Generator) -> np.ndarray:
        front_end = self._plan.front_end
        other = None
        if len(self._background):
            other = lambda: self._store.read(int(rng.choice(self._background)))  # noqa: E731
        samples, _ = change_sound(self._store.read(clip), front_end.rate_hz, self._plan.sound, rng, background=other)
        if len(samples) < front_end.frame:  # played faster than it can bear
            samples = self._store.read(clip)
        return front_end.frames(samples)
