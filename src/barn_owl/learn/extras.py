"""Encoding further columns of a clip table."""

import pandas as pd

from barn_owl.errors import TableError
from barn_owl.model.extras import ExtraColumn, ExtraColumns

MAX_WORDS = 30
"""More different words than this are names or remarks: each would be seen too rarely to be trained on."""


def learn_columns(table: pd.DataFrame, names: list[str]) -> ExtraColumns:
    """Determine the content of table columns: numbers, or a few words.

    Raises TableError for a missing column, a copy of the label, or too many different words.
    """
    columns = []
    for name in names:
        if name not in table:
            raise TableError(f"columns: the clip table has no column {name!r}; it has {', '.join(table.columns)}")
        if name in ("label", "file", "split", "score"):
            raise TableError(f"columns: {name!r} cannot be trained on")
        values = table[name]
        if pd.to_numeric(values, errors="coerce").notna().mean() > 0.5:
            columns.append(ExtraColumn(name=name, words=[]))
            continue
        words = sorted(word for word in values.astype(str).unique() if word not in ("", "nan"))
        if not 1 <= len(words) <= MAX_WORDS:
            raise TableError(f"columns: {name!r} has {len(words)} different words; the limit is {MAX_WORDS}")
        columns.append(ExtraColumn(name=name, words=words))
    return ExtraColumns(columns=columns)
