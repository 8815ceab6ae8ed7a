"""Check of times beyond the end of a recording, for all readers of excerpts."""

from collections.abc import Mapping

import numpy as np
import pandas as pd

from barn_owl.audio.reading import PAST_END_S
from barn_owl.errors import TableError

SHOWN = 3
MAX_SHARE = 0.5
"""Times in milliseconds begin beyond the end in more than this share of the rows; fewer are another mistake."""


def check_within(table: pd.DataFrame, seconds: Mapping[str, float], *, where: str) -> None:
    """Raise TableError, with the likely reason, when rows of a table lie beyond the end of their recording.

    seconds : length of each recording; rows of others are not looked at. A rounded time may be over by 50 ms.
    """
    ends = pd.Series([seconds.get(file, np.nan) for file in table["file"]], index=table.index, dtype=float)
    last = table["end_s"].fillna(table["start_s"]).astype(float)
    start = table["start_s"].astype(float)
    wrong = table[(last > ends + PAST_END_S) | (start >= ends + PAST_END_S)]
    if not len(wrong):
        return
    rows = [
        f"{where}, row {int(str(row)) + 1}: {file} is {seconds[file]:.2f} s long, the row is from "
        f"{first:g} to {end:g} s"
        for row, file, first, end in wrong[["file", "start_s", "end_s"]].head(SHOWN).itertuples()
    ]
    if len(wrong) > SHOWN:
        rows.append(f"... and {len(wrong) - SHOWN} more rows like this")
    known = ends.notna()
    if bool((last / 1000 <= ends + PAST_END_S)[known].all() and (start > ends)[known].mean() > MAX_SHARE):
        rows.append("the times look like milliseconds: divide them by 1000")
    raise TableError("\n".join(rows))
