"""The review page: a self-contained file, or served locally."""

import hashlib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from barn_owl.annotation import Estimate, ReviewAnswer, item_keys
from barn_owl.annotation.items import STRETCH
from barn_owl.audio import audio_info, read_audio
from barn_owl.errors import AudioError
from barn_owl.features import FrontEnd
from barn_owl.files import atomic_write
from barn_owl.show.page import HIGHEST_RATE_HZ, data_address, filled, flac_of, picture_of
from barn_owl.show.sound import mel_places

CONTEXT_S = 1.5
"""Sound shown before and after an item."""
MAX_DURATION_S = 20.0
"""Maximum sound shown of an item, from its start."""
NEARBY_S, MAX_NEARBY = 10.0, 12
"""Largest distance and number of nearby events that are listed."""
BUDGET = 60_000_000
"""Bytes of sound and pictures per page, which browsers open without delay."""
WIDEST = 720
SERVED = "img-src 'self' data:; media-src blob:; connect-src 'self'"
ALONE = "img-src data:; media-src data:"
STRIP = 0.12
"""Share of a picture, at its lower edge, that events nearby are named in."""


class Review:
    """Items with everything that a page shows of them; see `barn_owl.annotation.review_items`.

    Parameters
    ----------
    items : pd.DataFrame
        Items of `review_items`.
    labels : Sequence[str]
        Labels to offer. Default: those of the events.
    front_end : FrontEnd | None
        Front end of the pictures. Default: log-mel.

    Examples
    --------
    >>> items = barn_owl.annotation.review_items(barn_owl.read_events("events.csv"), ["night.wav"], stretches=1)
    >>> review = barn_owl.show.Review(items)
    >>> review.sound(0)[:4]
    b'fLaC'
    """

    def __init__(self, items: pd.DataFrame, *, labels: Sequence[str] = (), front_end: FrontEnd | None = None) -> None:
        self.items = items.reset_index(drop=True)
        own = self.items["label"].value_counts()
        self.labels = list(labels) or [str(label) for label in own.index if label]
        self._front_end = (front_end or FrontEnd()).but(features=["log-mel"], bands=64, pad_short=True)
        self._places = list(self.items[["file", "start_s", "end_s"]].itertuples(index=False, name=None))
        self._lengths = {file: audio_info(file).duration_s for file in self.items["file"].unique()}

    def span(self, number: int) -> tuple[float, float]:
        """Start and end of the shown stretch of an item, in seconds.

        Parameters
        ----------
        number : int
            Number of the item.
        """
        file, start_s, end_s = self._places[number]
        until_s = min(end_s + CONTEXT_S, start_s + MAX_DURATION_S, self._lengths[file])
        return max(start_s - CONTEXT_S, 0.0), float(until_s)

    def sound(self, number: int) -> bytes:
        """The sound of an item with its context, as FLAC.

        Parameters
        ----------
        number : int
            Number of the item.

        Raises
        ------
        AudioError
            If it cannot be read.
        """
        return flac_of(*self._read(number, min(audio_info(self._places[number][0]).rate_hz, HIGHEST_RATE_HZ)))

    def picture(self, number: int) -> bytes:
        """Its log-mel spectrogram as JPEG.

        Parameters
        ----------
        number : int
            Number of the item.

        Raises
        ------
        AudioError
            If it cannot be read.
        """
        samples, _ = self._read(number, self._front_end.rate_hz)
        return picture_of(self._front_end.frames(samples), widest=WIDEST, kind="JPEG")

    def _read(self, number: int, rate_hz: int) -> tuple[np.ndarray, int]:
        start_s, end_s = self.span(number)
        return read_audio(self._places[number][0], start_s=start_s, end_s=end_s, rate_hz=rate_hz)

    def marks(self) -> list[dict[str, Any]]:
        """Round frequencies, and how far up in a picture they lie, 0 to 1."""
        places = {
            hertz: (place + 0.5) / self._front_end.bands for hertz, place in mel_places(self._front_end).items()
        }
        return [{"hz": hertz, "up": up} for hertz, up in places.items() if up > STRIP]

    def content(self) -> list[dict[str, Any]]:
        """Return the facts about each item for a page."""
        items = self.items.to_dict("records")
        starts, rows, keys = {}, {}, item_keys(self.items)
        events = self.items[self.items["kind"] != STRETCH].sort_values("start_s")
        for file, own in events.groupby("file"):
            starts[file], rows[file] = own["start_s"].to_numpy(), own.index.to_numpy()
        listed = []
        for number, item in enumerate(items):
            begin, end = self.span(number)
            shown = {name: item[name] for name in ("kind", "why", "stratum")} | _shown(item)
            shown |= {"id": number, "key": keys[number], "file": Path(item["file"]).name, "from": begin, "to": end}
            shown |= {"informativeness": float(item["informativeness"]), "draw": int(item["draw"])}
            low, high = np.searchsorted(
                starts.get(item["file"], []), [item["start_s"] - NEARBY_S, item["end_s"] + NEARBY_S]
            )
            beside = [row for row in rows.get(item["file"], [])[low:high] if row != number]
            beside = sorted(beside, key=lambda row: abs(items[row]["start_s"] - item["start_s"]))[:MAX_NEARBY]
            listed.append(shown | {"near": [_shown(items[row]) for row in sorted(beside)]})
        return listed


def _shown(item: Mapping[str, Any]) -> dict[str, Any]:
    score = None if pd.isna(item["score"]) else float(item["score"])
    return {"label": item["label"], "start": float(item["start_s"]), "end": float(item["end_s"]), "score": score}


def estimate_rows(estimate: Estimate) -> list[dict[str, Any]]:
    """Return the table of an estimate as rows for a page, with None for unknown values; empty without counted
    answers."""
    if not estimate.table["reviewed"].sum() and not estimate.stretches:
        return []
    table = estimate.table.astype(object).where(estimate.table.notna(), None)
    return [{str(key): value for key, value in row.items()} for row in table.reset_index().to_dict("records")]


def review_page(
    review: Review, answers: dict[str, ReviewAnswer], *, title: str, estimate: list[dict[str, Any]]
) -> str:
    """The page as it is served; sounds and pictures are requested item by item."""
    data = _data(review, answers) | {"served": True, "estimate": estimate}
    return filled("review.html", title=title, served=True, policy=SERVED, data=data, use="")


def write_review_page(
    review: Review,
    path: str | Path,
    *,
    answers: dict[str, ReviewAnswer] | None = None,
    title: str = "Events to review",
    download: str = "answers.jsonl",
    use: str = "",
    budget: int = BUDGET,
    force: bool = False,
) -> int:
    """Write a self-contained review page, which keeps the answers in the browser and saves them as a file.

    Parameters
    ----------
    review : Review
        Items with what the page shows of them.
    path : str | Path
        File: HTML.
    answers : dict[str, ReviewAnswer] | None
        Earlier answers.
    title : str
        Title of the page.
    download : str
        Name of the file to save.
    use : str
        A sentence with the next step.
    budget : int
        Largest size of the sounds on the page, in bytes.
    force : bool
        Whether existing files are overwritten.

    Returns
    -------
    int
        Number of items with sound within `budget` bytes; the rest is only listed.

    Raises
    ------
    OutputError
        If the output cannot be written.

    Examples
    --------
    >>> items = barn_owl.annotation.review_items(barn_owl.read_events("events.csv"), stretches=0)
    >>> barn_owl.show.write_review_page(barn_owl.show.Review(items), "review.html", force=True) == len(items)
    True
    """
    sounds: dict[int, str] = {}
    pictures: dict[int, str] = {}
    used = 0
    for number in np.argsort(-review.items["informativeness"].to_numpy(), kind="stable"):
        try:
            sound = data_address("audio/flac", review.sound(int(number)))
            picture = data_address("image/jpeg", review.picture(int(number)))
        except AudioError:  # the item is listed all the same, without its sound
            continue
        used += len(sound) + len(picture)
        if used > budget:
            break
        sounds[int(number)], pictures[int(number)] = sound, picture
    data = _data(review, answers or {})
    data |= {"served": False, "sounds": sounds, "pictures": pictures, "download": download}
    text = filled("review.html", title=title, served=False, policy=ALONE, data=data, use=use)
    with atomic_write(path, force=force) as beside:
        beside.write_text(text, encoding="utf-8", errors="backslashreplace")
    return len(sounds)


def _data(review: Review, answers: dict[str, ReviewAnswer]) -> dict[str, Any]:
    # Answers in the browser are stored by item, so that they are found when the page is served again at the same
    # port.
    keys = " ".join(item_keys(review.items))
    store = f"review {hashlib.sha256(keys.encode()).hexdigest()[:16]}"
    counts = {
        key: {"item": key, "verdict": answer.verdict, "sounds": [list(sound) for sound in answer.sounds]}
        for key, answer in answers.items()
    }
    return {
        "items": review.content(),
        "marks": review.marks(),
        "labels": review.labels,
        "answers": counts,
        "store": store,
    }
