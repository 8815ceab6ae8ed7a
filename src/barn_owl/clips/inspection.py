"""Inspection of each clip for the checks, in a single pass."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache, partial

import numpy as np
import pandas as pd

from barn_owl.audio import Excerpt, FileFacts, audio_info, excerpts, file_facts, resample
from barn_owl.errors import AudioError
from barn_owl.features import FrontEnd
from barn_owl.features.activity import activity
from barn_owl.parallel import each
from barn_owl.sound.samples import SampleFile

RATE_HZ = 8_000
"""Rate at which clips are compared: differences between recordings are below 4 kHz, and phones preserve them."""
MAX_DURATION_S = 30.0
"""Of longer clips the beginning is compared."""
PRINT_STEPS, PRINT_RANGE_DB = 32, 40.0
"""A fingerprint has the loudest half second in 32 steps, within 40 dB of its loudest cell."""
LEVEL_RANGE_DB, LOUD_DB = 60.0, 40.0
"""Range of levels below the loudest band that counts, and range of the loudest bands of frames that are described."""
COEFFICIENTS = 13
"""As many cepstral coefficients as are usual for the color of a sound."""
CEPSTRAL = 3 * COEFFICIENTS
"""Values of a clip's description that are of cepstral coefficients; the others are of levels."""


@dataclass(frozen=True, kw_only=True)
class ClipInspection:
    """Inspection of a clip: facts, faults of its samples, fingerprint, and summary of its sound.

    fingerprint : float32, ``(PRINT_STEPS * 32,)``, length 1, of the loudest half second; zeros for silence.
    sound : description of the active frames by cepstral coefficients and by levels; see `_sound`.
    skipped : why the clip cannot be used; then every other field is None or empty.
    """

    facts: FileFacts | None = None
    flaws: tuple[str, ...] = ()
    fingerprint: np.ndarray | None = None
    sound: np.ndarray | None = None
    skipped: str = ""


def inspect_clips(
    clips: pd.DataFrame,
    *,
    kept: SampleFile | None = None,
    workers: int = 2,
    progress: Callable[[int, int], None] | None = None,
) -> list[ClipInspection]:
    """Measure each clip of a table, `workers` at a time; their samples at 8 kHz are put into `kept`."""
    requested = excerpts(clips["file"], clips["start_s"], clips["end_s"])
    measured = []
    results = each(partial(_measure, wanted=kept is not None), requested, workers)
    for done, (result, samples) in enumerate(results, start=1):
        if kept is not None and samples is not None:
            kept.keep(done - 1, samples)
        measured.append(result)
        if progress:
            progress(done, len(requested))
    return measured


def _measure(excerpt: Excerpt, *, wanted: bool) -> tuple[ClipInspection, np.ndarray | None]:
    """Inspect a clip, and return its samples if `wanted`; ``skipped`` has the reason for an unreadable clip."""
    flaws: list[str] = []
    try:
        most = round(MAX_DURATION_S * audio_info(excerpt.file).rate_hz)
        beginning = _Beginning(most)
        facts = file_facts(
            excerpt.file,
            start_s=excerpt.start_s,
            end_s=excerpt.end_s,
            on_block=beginning.on_block,
            flaws=flaws,
            thorough=False,
        )
    except AudioError as error:
        return ClipInspection(skipped=str(error)), None
    samples = resample(beginning.samples(), facts.rate_hz, RATE_HZ)
    frames = front_end().frames(samples)
    found = ClipInspection(facts=facts, flaws=tuple(flaws), fingerprint=_fingerprint(frames), sound=_sound(frames))
    return found, samples if wanted else None


class _Beginning:
    """The first samples of a stream of blocks, mixed to mono, and no more however long it is."""

    def __init__(self, most: int) -> None:
        self._most, self._blocks, self._count = most, list[np.ndarray](), 0

    def on_block(self, block: np.ndarray) -> None:
        if self._count < self._most:
            self._blocks.append(block.mean(axis=1, dtype=np.float32))
            self._count += len(block)

    def samples(self) -> np.ndarray:
        return np.concatenate(self._blocks)[: self._most]


@lru_cache(maxsize=1)
def front_end() -> FrontEnd:
    """How clips are compared: 32 bands of log-mel up to 3.8 kHz every 8 ms."""
    return FrontEnd(rate_hz=RATE_HZ, hop_ms=8, bands=32, low_hz=60, high_hz=3800, pad_short=True)


def _fingerprint(frames: np.ndarray) -> np.ndarray:
    """Shape of the spectrogram around its loudest moment, so that an offset of the whole does not matter."""
    top = frames.max()
    shape = np.maximum(frames - (top - np.float32(PRINT_RANGE_DB)), 0)
    weight = np.convolve(shape.sum(axis=1), np.hanning(11), mode="same")
    middle = int(np.argmax(weight))
    window = np.zeros((2 * PRINT_STEPS, shape.shape[1]), dtype=np.float32)
    first = middle - PRINT_STEPS
    source = shape[max(first, 0) : first + len(window)]
    window[max(-first, 0) : max(-first, 0) + len(source)] = source
    steps = window.reshape(PRINT_STEPS, 2, -1).mean(axis=1).ravel()
    length = float(np.linalg.norm(steps))
    silent = top <= front_end().floor_db + 1
    return np.zeros_like(steps) if silent or not length else steps / np.float32(length)


def _sound(frames: np.ndarray) -> np.ndarray:
    """Describe the active frames of a clip, independently of level: cepstral coefficients and log-mel levels.

    Mean, deviation and mean change of both; of the levels also the course in three steps, and the duration. The first
    `CEPSTRAL` values are of the coefficients.
    """
    # Without a margin: a faint sound should still count as active.
    stands_out = activity(frames, front_end().hop_s, margin_db=0)
    lively = frames[stands_out >= 0.3 * stands_out.max()]
    bands = np.arange(frames.shape[1]) + 0.5
    cosines = np.cos(np.pi * np.arange(1, COEFFICIENTS + 1)[:, None] * bands / frames.shape[1]).T
    cepstra = lively @ cosines
    cepstral = [cepstra.mean(axis=0), cepstra.std(axis=0), _change(frames @ cosines)]
    levels = np.maximum(frames - frames.max(), -LEVEL_RANGE_DB)
    loud = levels[levels.max(axis=1) > -LOUD_DB]
    steps = [part.mean(axis=0) if len(part) else loud.mean(axis=0) for part in np.array_split(loud, 3)]
    spectral = [loud.mean(axis=0), loud.std(axis=0), _change(loud), *steps, np.log([len(loud)])]
    return np.concatenate([*cepstral, *spectral])


def _change(rows: np.ndarray) -> np.ndarray:
    """Mean absolute difference of neighboring rows."""
    return np.asarray(np.abs(np.diff(rows, axis=0)).mean(axis=0) if len(rows) > 1 else np.zeros(rows.shape[1]))
