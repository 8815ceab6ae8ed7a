"""Events of a live source."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np


@dataclass(frozen=True)
class LiveEvent:
    """An event in a live source.

    Attributes
    ----------
    start_s, end_s : float
        Onset and offset, seconds since listening began.
    label : str
        Label of the model.
    score : float
        0 to 1.
    begins : datetime
        Time of day of the onset.
    excerpt : np.ndarray | None
        Samples of the event with some before and after, float32, ``(samples,)``, at the rate of the source; None
        unless excerpts were requested.
    """

    start_s: float
    end_s: float
    label: str
    score: float
    begins: datetime
    excerpt: np.ndarray | None = None

    def record(self) -> dict[str, Any]:
        """Return the event as JSON fields: times in seconds, label, score, ``begins`` as ISO 8601."""
        return {
            "start_s": self.start_s,
            "end_s": self.end_s,
            "label": self.label,
            "score": round(self.score, 4),
            "begins": self.begins.isoformat(timespec="milliseconds"),
        }

    @classmethod
    def from_record(cls, record: Mapping[str, Any]) -> "LiveEvent":
        """Create an event from `record`; KeyError, TypeError, ValueError or OverflowError for invalid fields.

        Parameters
        ----------
        record : Mapping[str, Any]
            JSON fields of `record`.
        """
        start_s, end_s, score = (float(record[name]) for name in ("start_s", "end_s", "score"))
        return cls(start_s, end_s, str(record["label"]), score, datetime.fromisoformat(record["begins"]))
