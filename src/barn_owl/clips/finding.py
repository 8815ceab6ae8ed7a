"""A finding: one problem, or possible problem, of a clip table."""

from dataclasses import dataclass


@dataclass(frozen=True, kw_only=True)
class Finding:
    """One of them: how bad it is, what it is, where, and what to do about it."""

    severity: str
    finding: str
    detail: str
    action: str
    row: int | None = None
    label: str = ""
    drop: bool = False
    """Whether a repaired table leaves the row out."""
