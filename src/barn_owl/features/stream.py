"""Frames of features from blocks of samples of any size."""

from concurrent.futures import ThreadPoolExecutor
from queue import SimpleQueue

import numpy as np

from barn_owl.audio.loudness import BLOCK_S, OFFSET, KWeighting
from barn_owl.audio.samples import NOT_FINITE, as_mono
from barn_owl.errors import AudioError
from barn_owl.features.cepstrum import deltas
from barn_owl.features.chunk import COMPUTED, Chunks, Workspace
from barn_owl.features.custom import CustomStream
from barn_owl.features.framing import frame_view
from barn_owl.features.matrices import FrontEndMatrices
from barn_owl.features.products import CHUNK


class FrameStream:
    """Turns blocks of samples of any size into the frames of the continuous signal.

    ``push`` returns frames as soon as they are complete; deltas need later frames, so the last frames come with
    ``finish``. Before the first and after the last frame, deltas repeat that frame.

    Parameters
    ----------
    front_end : FrontEndMatrices
        Front end.
    buffered : bool
        Whether frames may wait for a whole chunk of `CHUNK` frames, or for ``finish``. Without it, each small block
        costs as much as a chunk.
    workers : int
        Threads for long blocks.

    Examples
    --------
    >>> front_end = barn_owl.FrontEnd()
    >>> stream = barn_owl.features.FrameStream(front_end)
    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> parts = [stream.push(samples[:5000]), stream.push(samples[5000:]), stream.finish()]
    >>> sum(map(len, parts)), len(front_end.frames(samples))
    (874, 874)
    """

    def __init__(self, front_end: FrontEndMatrices, *, buffered: bool = False, workers: int = 1) -> None:
        self.front_end, self._patient = front_end, buffered
        self.given = 0
        """Frames returned already."""
        self._computed = 0  # frames computed already
        self._kept = np.empty(0, dtype=np.float32)  # samples from the first frame of the open chunk on
        self._bases = list(dict.fromkeys(base for base, _, _, _ in front_end.layout))
        # Flux needs the previous frame, so chunks are computed in sequence.
        self._spaces = [Workspace(front_end) for _ in range(1 if "flux" in self._bases else workers)]
        self._before: np.ndarray | None = None  # last magnitudes of the chunk before
        self._loudness = MomentaryLoudness(front_end) if "loudness" in self._bases else None
        self._custom = {name: CustomStream(feature, front_end) for name, feature in front_end.custom.items()}
        self._computed_names = [name for name in self._bases if name in COMPUTED]
        if "log-mel" not in self._bases and any(one.feature.takes == "log-mel" for one in self._custom.values()):
            self._computed_names.append("log-mel")
        self._waiting: list[np.ndarray] = []  # per base: frames whose custom features are not computed yet
        # Frames that deltas need on either side.
        self._margin = front_end.delta_frames * max(times for _, times, _, _ in front_end.layout)
        self._context: list[np.ndarray] = []  # per base: frames that deltas still need

    @property
    def wait_s(self) -> float:
        """Longest wait of a complete frame."""
        custom_s = max((stream.wait_s for stream in self._custom.values()), default=0.0)
        return custom_s + ((CHUNK - 1) * self.front_end.hop_s if self._patient else 0.0)

    def push(self, samples: np.ndarray) -> np.ndarray:
        """Take samples as `FrontEnd.frames` and return the frames that became whole; float32, ``(frames, width)``.

        Parameters
        ----------
        samples : np.ndarray
            Next samples, ``(samples,)`` or ``(samples, channels)``.

        Raises
        ------
        AudioError
            If the samples have an unsupported type or shape, or are not finite.
        """
        front_end = self.front_end
        samples = as_mono(samples)
        kept = np.concatenate([self._kept, samples]) if len(self._kept) else samples
        skip = self._computed % CHUNK  # rows of the open chunk that were computed already
        available = front_end.count(len(kept))
        if self._patient:
            available -= available % CHUNK
        if self._loudness:
            self._loudness.push(samples)
        if self._custom and not np.isfinite(samples).all():
            raise AudioError(NOT_FINITE)
        for stream in self._custom.values():
            if stream.feature.takes == "samples":
                stream.push(samples)
        if available <= skip:
            self._kept = kept.copy()
            return np.empty((0, front_end.width), dtype=np.float32)
        bases = self._base_frames(frame_view(kept, front_end.frame, front_end.hop)[:available], skip)
        # NaN or infinity in a sample spreads to its frames, and to their maximum.
        if not all(np.isfinite(base.max(initial=0.0)) for base in bases):
            raise AudioError(NOT_FINITE)
        self._computed += available - skip
        self._kept = kept[available // CHUNK * CHUNK * front_end.hop :].copy()
        return self._assembled(bases, last=False)

    def finish(self) -> np.ndarray:
        """Return the frames still waiting for later samples; float32, ``(frames, width)``."""
        waited, self._patient, lacking = self._patient, False, 0
        if self.front_end.pad_short and not self._computed and len(self._kept):
            lacking = max(self.front_end.frame - len(self._kept), 0)
        if waited or lacking:
            rest = self.push(np.zeros(lacking, dtype=np.float32))
        else:
            rest = np.empty((0, self.front_end.width), dtype=np.float32)
        if self._custom and self._waiting:
            for stream in self._custom.values():
                stream.finish()
            bases = self._with_custom([base[:0] for base in self._waiting])
            rest = np.concatenate([rest, self._assembled(bases, last=False)])
        if not self._margin or not self._computed:
            return rest
        nothing = [np.empty((0, base.shape[1]), dtype=np.float32) for base in self._context]
        return np.concatenate([rest, self._assembled(nothing, last=True)])

    def _base_frames(self, view: np.ndarray, skip: int) -> list[np.ndarray]:
        """Compute each base feature for framed samples (the first begins a chunk), without the first `skip` rows."""
        count, names = len(view) - skip, self._computed_names
        widths = {"log-mel": self.front_end.bands, **self.front_end.widths}
        out = {name: np.empty((count, widths[name]), dtype=np.float32) for name in names}
        free = SimpleQueue[Workspace]()
        for space in self._spaces:
            free.put(space)

        def compute(first: int) -> None:
            space, begin = free.get(), max(skip - first, 0)
            chunks = Chunks(self.front_end, view[first : first + space.rows], space, self._before)
            for name, whole in out.items():
                rows = COMPUTED[name](chunks)[begin : chunks.rows]
                whole[first + begin - skip : first + chunks.rows - skip] = rows if rows.ndim == 2 else rows[:, None]
            if chunks.rows >= CHUNK and "flux" in names:
                self._before = chunks.magnitude[chunks.rows // CHUNK * CHUNK - 1].copy()
            free.put(space)

        firsts = range(0, len(view) if names else 0, self._spaces[0].rows)
        if len(firsts) < 2 or len(self._spaces) == 1:
            for first in firsts:
                compute(first)
        else:
            with ThreadPoolExecutor(len(self._spaces)) as threads:
                list(threads.map(compute, firsts))
        if self._loudness:
            out["loudness"] = self._loudness.take(count)
        for stream in self._custom.values():
            if stream.feature.takes == "log-mel":
                stream.push(out["log-mel"])
        return self._with_custom([out.get(name, np.empty((count, 0), dtype=np.float32)) for name in self._bases])

    def _with_custom(self, bases: list[np.ndarray]) -> list[np.ndarray]:
        """Return the frames whose custom features are complete; the rest waits."""
        if not self._custom:
            return bases
        if self._waiting:
            bases = [np.concatenate(pair) for pair in zip(self._waiting, bases, strict=True)]
        count = min(stream.ready(len(bases[0])) for stream in self._custom.values())
        self._waiting = [base[count:] for base in bases]
        return [
            self._custom[name].take(count) if name in self._custom else base[:count]
            for name, base in zip(self._bases, bases, strict=True)
        ]

    def _assembled(self, bases: list[np.ndarray], *, last: bool) -> np.ndarray:
        """Put the columns together, with deltas where they are requested."""
        margin = self._margin
        if margin and not self._context and not len(bases[0]):
            return np.empty((0, self.front_end.width), dtype=np.float32)
        if margin:
            if not self._context:
                self._context = [np.repeat(base[:1], margin, axis=0) for base in bases]
            bases = [np.concatenate([kept, base]) for kept, base in zip(self._context, bases, strict=True)]
            if last:
                bases = [np.concatenate([base, np.repeat(base[-1:], margin, axis=0)]) for base in bases]
            self._context = [base[-2 * margin :] for base in bases]
        count = len(bases[0]) - 2 * margin
        if count <= 0:
            return np.empty((0, self.front_end.width), dtype=np.float32)
        parts = []
        for base, times, _, _ in self.front_end.layout:
            reach = self.front_end.delta_frames
            columns = bases[self._bases.index(base)]
            columns = columns[margin - times * reach : len(columns) - margin + times * reach]
            for _ in range(times):
                columns = deltas(columns, reach)
            parts.append(columns)
        self.given += count
        return np.concatenate(parts, axis=1) if len(parts) > 1 else parts[0]


class MomentaryLoudness:
    """K-weighted level over the 0.4 s that end with each frame, in LUFS; less at the very start.

    Source: ITU-R BS.1770-4 with the 400 ms window of EBU Tech 3341, stepped by the hop of the frames.
    """

    LOWEST = -100.0

    def __init__(self, front_end: FrontEndMatrices) -> None:
        self._hop, self._frame = front_end.hop, front_end.frame
        self._weighting = KWeighting(front_end.rate_hz)
        self._rest = np.empty(0)
        self._frames = 0
        self._hops = max(1, round(BLOCK_S * front_end.rate_hz / front_end.hop))
        self._steps = np.zeros(self._hops)  # mean squares of hops; silence before the start
        self._first = -self._hops  # number of the first hop that is kept

    def push(self, samples: np.ndarray) -> None:
        """Take mono samples."""
        weighted = np.concatenate([self._rest, self._weighting.push(samples[:, None])[:, 0]])
        whole = len(weighted) // self._hop * self._hop
        steps = weighted[:whole].reshape(-1, self._hop)
        self._steps = np.concatenate([self._steps, (steps * steps).sum(axis=1) / self._hop])
        self._rest = weighted[whole:]

    def take(self, frames: int) -> np.ndarray:
        """Return the loudness of the next frames; float32, ``(frames, 1)``."""
        end = self._frames + self._frame // self._hop  # whole hops inside the first of these frames
        begin = end - self._hops - self._first
        power = np.zeros(frames)
        for hop in range(self._hops):  # added up in the same order for every frame
            power += self._steps[begin + hop : begin + hop + frames]
        power /= np.minimum(end + np.arange(frames), self._hops)
        self._frames += frames
        drop = self._frames + self._frame // self._hop - self._hops - self._first
        self._steps, self._first = self._steps[drop:], self._first + drop
        return np.maximum(OFFSET + 10 * np.log10(power + 1e-12), self.LOWEST).astype(np.float32)[:, None]
