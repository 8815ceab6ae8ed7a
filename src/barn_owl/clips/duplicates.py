"""Duplicate clips: identical content, or the same recording at another level, offset or encoding."""

from collections.abc import Iterable
from contextlib import suppress
from functools import lru_cache
from pathlib import Path

import numpy as np
import pandas as pd
import scipy

from barn_owl.audio import Excerpt, excerpts, read_audio
from barn_owl.clips.inspection import MAX_DURATION_S, RATE_HZ, ClipInspection
from barn_owl.files import is_file
from barn_owl.names import from_text
from barn_owl.parallel import each
from barn_owl.sound.samples import SampleFile

NEIGHBORS = 3
"""Number of clips with the nearest fingerprints that a clip is compared with sample by sample."""
MIN_SIMILARITY = 0.55
MIN_FINGERPRINTS = 20
"""Number of fingerprints from which the common part is estimated."""
SIMILAR, SAME = 0.8, 0.95
"""Correlation from which two clips may be the same recording, and from which they are. Copies are above 0.9; repeated
hits of a drum between 0.5 and 0.98, takes of most sounds below 0.3, the same synthetic click in different noise about
0.65."""
FLATTENING = 0.3
"""Exponent by which spectra are flattened before correlation, so that a common hum is not enough."""
LARGEST_SHIFT_S = 0.5
BLOCK_VALUES = 1 << 24
"""Numbers in the largest array that compares all clips with some."""


def same_content(inspections: list[ClipInspection]) -> np.ndarray:
    """Return the number of the first clip with identical samples, for each clip; itself without a copy."""
    first: dict[str, int] = {}
    return np.array(
        [first.setdefault(m.facts.fingerprint, n) if m.facts else n for n, m in enumerate(inspections)], dtype=int
    )


def near_duplicates(
    clips: pd.DataFrame, inspections: list[ClipInspection], *, kept: SampleFile | None = None, workers: int = 2
) -> pd.DataFrame:
    """Find pairs of clips that may be the same recording though not the same samples.

    Returns the columns ``first`` and ``second`` (row numbers, first < second) and ``similarity``, `SIMILAR` to 1.
    Candidates have the nearest fingerprints; their samples are taken from `kept`, or read again, and correlated.
    Excerpts of a file, which may overlap, are not compared.
    """
    requested = excerpts(clips["file"], clips["start_s"], clips["end_s"])
    same = same_content(inspections)
    candidates = [
        (a, b) for a, b in _candidates(inspections) if same[a] != same[b] and requested[a].file != requested[b].file
    ]

    @lru_cache(maxsize=512)
    def read(clip: int) -> np.ndarray:
        samples = kept.read(clip) if kept is not None and clip in kept else _samples(requested[clip])
        return samples - samples.mean()

    similar = each(lambda pair: similarity(read(pair[0]), read(pair[1])), candidates, workers, here=True)
    found = [(*pair, value) for pair, value in zip(candidates, similar, strict=True)]
    table = pd.DataFrame(found, columns=["first", "second", "similarity"])
    return table[table["similarity"] >= SIMILAR].reset_index(drop=True)


def _candidates(inspections: list[ClipInspection]) -> list[tuple[int, int]]:
    """Return pairs of clips with the nearest fingerprints, in order."""
    known = [
        (n, m.fingerprint) for n, m in enumerate(inspections) if m.fingerprint is not None and m.fingerprint.any()
    ]
    if len(known) < 2:
        return []
    rows, prints = [n for n, _ in known], np.stack([fingerprint for _, fingerprint in known]).astype(np.float32)
    if len(prints) >= MIN_FINGERPRINTS:  # the common part is no evidence
        prints -= prints.mean(axis=0)
    prints /= np.maximum(np.linalg.norm(prints, axis=1, keepdims=True), 1e-9)
    number, most, pairs = np.array(rows), min(NEIGHBORS, len(rows) - 1), set[tuple[int, int]]()
    block = max(1, BLOCK_VALUES // len(prints))
    for first in range(0, len(prints), block):
        nearness = prints[first : first + block] @ prints.T
        rows_of_block = np.arange(len(nearness))
        nearness[rows_of_block, first + rows_of_block] = -1  # a clip is no copy of itself
        best = np.argpartition(-nearness, most - 1, axis=1)[:, :most]
        for row, others in enumerate(best):
            near = others[nearness[row, others] >= MIN_SIMILARITY]
            here = int(number[first + row])
            pairs |= {(min(here, there), max(here, there)) for there in number[near].tolist()}
    return sorted(pairs)


def _samples(excerpt: Excerpt) -> np.ndarray:
    samples, _ = read_audio(excerpt.file, rate_hz=RATE_HZ, start_s=excerpt.start_s, end_s=excerpt.end_s)
    return samples[: round(MAX_DURATION_S * RATE_HZ)]


def similarity(a: np.ndarray, b: np.ndarray) -> float:
    """Largest correlation of two mono sounds at 8 kHz shifted by up to half a second; 0 to 1.

    Spectra are flattened first: divided by their magnitude to the power of `FLATTENING`.
    """
    shift = min(round(LARGEST_SHIFT_S * RATE_HZ), len(a) - 1, len(b) - 1)
    if shift < 0:
        return 0.0
    size = scipy.fft.next_fast_len(max(len(a), len(b)) + shift, real=True)
    spectra = []
    for sound in (a, b):
        spectrum = scipy.fft.rfft(sound, size)
        spectra.append(spectrum / np.maximum(np.abs(spectrum), 1e-9) ** FLATTENING)
    # Energy by Parseval's theorem; all bins but the first and, of an even length, the last stand for two.
    twice = np.full(len(spectra[0]), 2.0, dtype=np.float32)
    twice[0] = 1
    twice[-1] = 2 - (size + 1) % 2
    energy = np.prod([np.sqrt(float(np.square(np.abs(s)) @ twice) / size) for s in spectra])
    correlation = np.abs(scipy.fft.irfft(spectra[0].conj() * spectra[1], size))
    best = max(correlation[: shift + 1].max(), correlation[size - shift :].max(initial=0))
    return float(min(best / energy, 1.0)) if energy > 0 else 0.0


def file_copies(clips: pd.DataFrame) -> np.ndarray:
    """Number the files so that files with the same bytes have the same number; a number per row, ``(clips,)``.

    Only files of the same size are read; unreadable files count as unique.
    """
    requested = excerpts(clips["file"], clips["start_s"], clips["end_s"])
    keys: list[str] = [repr(excerpt) for excerpt in requested]
    whole = [row for row, excerpt in enumerate(requested) if excerpt.start_s is None and excerpt.end_s is None]
    sizes = pd.Series(
        {row: Path(from_text(requested[row].file)).stat().st_size for row in whole if is_file(requested[row].file)}
    )
    for row in sizes.index[sizes.duplicated(keep=False)]:
        with suppress(OSError):  # reported when it is read as sound
            keys[row] = requested[row].content()
    return np.asarray(pd.factorize(np.array(keys, dtype=object))[0])


def linked(clips: int, pairs: Iterable[tuple[int, int]]) -> np.ndarray:
    """Number the clips so that clips linked by `pairs`, directly or not, have the same number; ``(clips,)``."""
    links = np.array(list(pairs), dtype=int).reshape(-1, 2)
    graph = scipy.sparse.coo_array((np.ones(len(links)), (links[:, 0], links[:, 1])), shape=(clips, clips))
    return np.asarray(scipy.sparse.csgraph.connected_components(graph, directed=False)[1])
