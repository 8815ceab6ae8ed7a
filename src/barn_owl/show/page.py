"""Pages: self-contained HTML files with sounds and pictures."""

import base64
import io
from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any

import jinja2
import numpy as np
import pandas as pd
import soundfile
from markupsafe import Markup, escape
from matplotlib import rc_context
from matplotlib.figure import Figure
from PIL import Image

from barn_owl.audio import read_audio
from barn_owl.errors import AudioError
from barn_owl.features import FrontEnd
from barn_owl.files import atomic_write
from barn_owl.show.style import DUSK

MAX_DURATION_S = 10.0
HIGHEST_RATE_HZ = 22_050
RANGE_DB = 70.0
PICTURE_HEIGHT = 96


class Shelf:
    """Sounds and pictures of clips for a page, each clip once, until `budget` bytes are used."""

    def __init__(self, front_end: FrontEnd, budget: int) -> None:
        bands = max(front_end.bands, 40)
        self.front_end = front_end.but(features=["log-mel"], bands=bands, pad_short=True)
        self.left = budget
        self.sounds: dict[str, str] = {}
        self._keys: dict[tuple[str, str, str], str] = {}

    def sound(self, row: pd.Series) -> str:
        """Put the sound of a row of a clip table on the page; the key it has there, or "" when there is no room."""
        place = str(row["file"]), str(row.get("start_s")), str(row.get("end_s"))
        if place in self._keys:
            return self._keys[place]
        if self.left <= 0:
            return ""
        try:
            samples, rate_hz = _excerpt(row)
        except AudioError:  # listed among unusable clips; here it only lacks a player
            return ""
        text = data_address("audio/flac", flac_of(samples, rate_hz))
        self.left -= len(text)
        key = f"s{len(self.sounds)}"
        self.sounds[key] = text
        self._keys[place] = key
        return key

    def picture(self, row: pd.Series) -> dict[str, Any] | None:
        """Log-mel spectrogram of a row of a clip table as a picture, its length and frequencies; None if unread."""
        if self.left <= 0:
            return None
        try:
            samples, _ = _excerpt(row, self.front_end.rate_hz)
            frames = self.front_end.frames(samples)
        except AudioError:
            return None
        text = data_address("image/png", picture_of(frames))
        self.left -= len(text)
        return {
            "image": text,
            "seconds": len(samples) / self.front_end.rate_hz,
            "low_hz": self.front_end.low_hz,
            "high_hz": self.front_end.high_hz or self.front_end.rate_hz / 2,
        }


def _excerpt(row: pd.Series, rate_hz: int | None = None) -> tuple[np.ndarray, int]:
    """Samples of a clip, ten seconds at most."""
    start = None if pd.isna(row.get("start_s")) else float(row["start_s"])
    end = None if pd.isna(row.get("end_s")) else float(row["end_s"])
    if end is not None and end - (start or 0) > MAX_DURATION_S:
        end = (start or 0) + MAX_DURATION_S
    samples, rate = read_audio(row["file"], start_s=start, end_s=end, rate_hz=rate_hz)
    if rate_hz is None and rate > HIGHEST_RATE_HZ:
        samples, rate = read_audio(row["file"], start_s=start, end_s=end, rate_hz=HIGHEST_RATE_HZ)
    return samples[: round(MAX_DURATION_S * rate)], rate


def flac_of(samples: np.ndarray, rate_hz: int) -> bytes:
    """Samples as a FLAC file of 16 bits."""
    data = io.BytesIO()
    soundfile.write(data, samples, rate_hz, format="FLAC", subtype="PCM_16")
    return data.getvalue()


def picture_of(frames: np.ndarray, *, widest: int = 480, kind: str = "PNG") -> bytes:
    """Frames, ``(frames, bands)`` in dB, as a colored picture with low bands at the bottom.

    kind : ``PNG``, or ``JPEG``, which takes a quarter of the room where there is noise.
    """
    top = float(frames.max())
    shade = np.clip((frames.T[::-1] - (top - RANGE_DB)) / RANGE_DB, 0, 1)
    picture = Image.fromarray((255 * DUSK(shade)[..., :3]).astype(np.uint8))
    width = int(np.clip(frames.shape[0] * 3, 160, widest))
    picture = picture.resize((width, PICTURE_HEIGHT), Image.Resampling.BILINEAR)
    data = io.BytesIO()
    if kind == "JPEG":
        picture.save(data, "JPEG", quality=80)
    else:
        picture.quantize(64).save(data, "PNG", optimize=False)
    return data.getvalue()


def data_address(kind: str, content: bytes) -> str:
    """Return a data URL."""
    return f"data:{kind};base64,{base64.b64encode(content).decode('ascii')}"


def drawing(figure: Figure) -> str:
    """Return a figure as SVG for the address of an image on a page."""
    data = io.BytesIO()
    with rc_context({"svg.fonttype": "none", "svg.hashsalt": "barn-owl"}):
        figure.savefig(data, format="svg", metadata={"Date": None})
    return data_address("image/svg+xml", data.getvalue())


@lru_cache(maxsize=1)
def _templates() -> jinja2.Environment:
    # All template values are escaped, since file names and labels come from strangers.
    made = jinja2.Environment(
        loader=jinja2.PackageLoader("barn_owl.show", "pages"), autoescape=True, undefined=jinja2.StrictUndefined,
        trim_blocks=True, lstrip_blocks=True,
    )  # fmt: skip
    made.filters["two"] = _two
    made.filters["breakable"] = _breakable
    made.filters["value"] = lambda value: (
        "" if value is None or (not isinstance(value, str) and pd.isna(value)) else value
    )
    return made


def _breakable(name: str) -> Markup:
    """A file name that may wrap only between its parts."""
    text = str(escape(name))
    for end in "/_":
        text = text.replace(end, f"{end}<wbr>")
    return Markup(text)  # noqa: S704 - escaped above


def _two(value: Any) -> str:
    """Return numbers with two decimals, integers unchanged, unknown values as a dash."""
    if value is None or (not isinstance(value, str) and pd.isna(value)):
        return "–"
    if isinstance(value, float | np.floating):
        return f"{value:.2f}"
    return str(value)


def filled(template: str, **content: Any) -> str:
    """Fill a template."""
    return _templates().get_template(template).render(**content)


def write_page(path: str | Path, template: str, *, force: bool, **content: Any) -> None:
    """Fill a template and write the page, whole or not at all."""
    text = filled(template, **content)
    with atomic_write(path, force=force) as beside:
        beside.write_text(text, encoding="utf-8", errors="backslashreplace")


def rows(table: pd.DataFrame) -> Sequence[dict[str, Any]]:
    """Rows of a table as dictionaries, the index under its name."""
    return [{str(key): value for key, value in row.items()} for row in table.reset_index().to_dict("records")]
