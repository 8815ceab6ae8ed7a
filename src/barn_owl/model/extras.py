"""Further columns of a clip table as numbers, for the pooled classifiers."""

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, kw_only=True)
class ExtraColumn:
    """A column of numbers (no `words`), or of words, one-hot encoded."""

    name: str
    words: list[str]

    def rows(self, table: "pd.DataFrame") -> np.ndarray:
        """Return the values of rows of a table, float32, ``(rows, width)``; NaN where missing or not a number."""
        if self.name not in table:
            return np.full((len(table), max(1, len(self.words))), np.nan, dtype=np.float32)
        values = table[self.name]
        if not self.words:
            import pandas as pd  # here, as a model that only listens to sound needs no tables

            return pd.to_numeric(values, errors="coerce").to_numpy(np.float32)[:, None]
        text = values.astype(str).to_numpy()
        return np.stack([text == word for word in self.words], axis=1).astype(np.float32)


@dataclass(frozen=True, kw_only=True)
class ExtraColumns:
    """Several columns side by side."""

    columns: list[ExtraColumn]

    @property
    def names(self) -> list[str]:
        """Names of the columns."""
        return [column.name for column in self.columns]

    def rows(self, table: "pd.DataFrame") -> np.ndarray:
        """Return the values of rows of a table, float32, ``(rows, width)``; NaN where missing."""
        parts = [column.rows(table) for column in self.columns]
        return np.concatenate(parts, axis=1) if parts else np.empty((len(table), 0), dtype=np.float32)

    def as_list(self) -> list[dict[str, Any]]:
        """Plain content for a file's header."""
        return [{"name": column.name, "words": column.words} for column in self.columns]
