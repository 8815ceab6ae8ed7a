"""Players of clips in notebooks."""

import html

import pandas as pd

from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.features import FrontEnd
from barn_owl.show.page import Shelf

BUDGET = 20_000_000
"""Bytes of sound and pictures per output, which a notebook stores in its file."""


class Listening:
    """Clips of a table with spectrogram and player, as HTML; see `listen`."""

    def __init__(self, clips: pd.DataFrame, front_end: FrontEnd) -> None:
        self._clips, self._front_end = clips, front_end

    def _repr_html_(self) -> str:
        shelf, rows = Shelf(self._front_end, BUDGET), []
        for _, row in self._clips.iterrows():
            picture, key = shelf.picture(row), shelf.sound(row)
            seen = f'<img src="{picture["image"]}" alt="spectrogram">' if picture else "cannot be read"
            player = f'<audio controls preload="none" src="{shelf.sounds[key]}"></audio>' if key else ""
            named = row.drop(["file"]).dropna()
            facts = "<br>".join(
                f"{html.escape(str(name))}: {html.escape(str(value))}" for name, value in named.items()
            )
            file = html.escape(str(row["file"]))
            rows.append(f"<tr><td>{seen}</td><td>{player}</td><td>{facts}</td><td>{file}</td></tr>")
        return f"<table><tbody>{''.join(rows)}</tbody></table>"


def listen(clips: TableOrPath, *, most: int = 12, front_end: FrontEnd | None = None) -> Listening:
    """Return the first clips of a table as an object that notebooks display: spectrogram, player, columns.

    Parameters
    ----------
    clips : pd.DataFrame
        A clip table, or some of its rows, such as the mistakes of an evaluation.
    most : int
        Clips at most.
    front_end : FrontEnd | None
        Whose mel bands the spectrograms have; default: the default's.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> players = barn_owl.show.listen(clips, most=3)
    >>> "audio" in players._repr_html_()
    True
    """
    clips = as_clip_table(clips, "clips")
    return Listening(clips.head(most), front_end or FrontEnd())
