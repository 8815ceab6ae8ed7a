"""The annotation page: the spectrogram of a whole recording, with marks."""

import hashlib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from barn_owl.audio import audio_info, read_audio
from barn_owl.errors import AudioError
from barn_owl.show.page import filled, flac_of
from barn_owl.show.reviewing import SERVED
from barn_owl.show.style import DUSK
from barn_owl.show.tiles import COLUMNS, FLOOR_DB, LEVELS, OVERVIEW_ROWS, ROWS

MAX_EXCERPT_S = 120.0
"""Longest excerpt of sound that is sent at once."""
MAX_RATE_HZ = 48_000
"""Highest rate of sound that is sent: browsers play no more."""


def annotation_page(
    title: str, names: Sequence[str], facts: Sequence[Mapping[str, Any]], labels: Sequence[str], journal: Path
) -> str:
    """Return the annotation page; names : of the recordings. facts : see `Tiles.facts`."""
    palette = (255 * DUSK(np.linspace(0, 1, 256))[:, :3]).astype(int)
    data = {
        "recordings": [{"name": name, **fact} for name, fact in zip(names, facts, strict=True)],
        "labels": list(labels),
        "tile": {"columns": COLUMNS, "rows": ROWS, "levels": [min(LEVELS), max(LEVELS)], "floor_db": FLOOR_DB},
        "overview_rows": OVERVIEW_ROWS,
        "palette": palette.tolist(),
        # Marks that wait in the browser are found again when the page is served again.
        "store": f"marks {hashlib.sha256(str(journal.absolute()).encode()).hexdigest()[:16]}",
    }
    return filled("annotate.html", title=title, policy=SERVED, data=data)


def excerpt_sound(recording: str | Path, start_s: float, end_s: float) -> bytes:
    """Return an excerpt of a recording as FLAC; raises AudioError if there is no such excerpt."""
    if not 0 <= start_s < end_s <= start_s + MAX_EXCERPT_S:
        raise AudioError(f"an excerpt is at most {MAX_EXCERPT_S:g} s long; got {start_s:g} to {end_s:g} s")
    rate_hz = min(audio_info(recording).rate_hz, MAX_RATE_HZ)
    return flac_of(*read_audio(recording, start_s=start_s, end_s=end_s, rate_hz=rate_hz))
