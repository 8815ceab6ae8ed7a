"""Findings of a check, their severity and remedy."""

from dataclasses import dataclass
from typing import NamedTuple

from barn_owl.clips.split import MIN_CLIPS

SEVERITIES = ("error", "warning", "note")
RIGHT_LABEL = "listen, and correct the label if needed"
KEPT_TOGETHER = "column copy_of of the repaired table keeps both in one split"
DROPPED = "the repaired table drops them"


class Kind(NamedTuple):
    """Severity and remedy by finding."""

    severity: str
    action: str
    drops: bool = False
    """Whether a repaired table leaves the row out."""


KINDS = {
    "no file": Kind("error", "restore the file or delete the row; the repaired table drops it", drops=True),
    "moved": Kind("error", "put the table back, or gather it again with the folder of its sounds"),
    "files without a row": Kind("note", "gather them, or leave them"),
    "unreadable": Kind("error", f"find another copy; {DROPPED}", drops=True),
    "damaged": Kind("error", "find another copy, or make sure that the readable part is enough"),
    "silent": Kind("error", DROPPED, drops=True),
    "too short": Kind("error", DROPPED, drops=True),
    "clipped": Kind("warning", "record again at a lower gain, or keep them if recordings are clipped, too"),
    "beyond full scale": Kind("warning", "harmless here, but other programs may clip it: normalize the level"),
    "offset": Kind("note", "harmless above 20 Hz; check the recorder"),
    "lower rate": Kind("note", "set front_end.rate_hz to the lowest, or a classifier may use the rate as a cue"),
    "odd length": Kind("note", "listen: more than one sound, or a wrong cut?"),
    "odd level": Kind("note", "listen: does the clip contain the sound?"),
    "narrow band": Kind("note", "was it resampled, or transmitted over a phone line?"),
    "whole recordings": Kind("warning", "if they hold more, cut the events out, or give start_s and end_s"),
    "duplicate": Kind("warning", DROPPED, drops=True),
    "duplicate with another label": Kind(
        "error", "listen, and keep the right row; the repaired table drops all of them", drops=True
    ),
    "near duplicate": Kind("warning", KEPT_TOGETHER),
    "near duplicate with another label": Kind("error", RIGHT_LABEL),
    "similar": Kind("note", KEPT_TOGETHER),
    "similar with another label": Kind("warning", RIGHT_LABEL),
    "doubtful label": Kind("warning", "listen: is the label wrong, or the sound too faint?"),
    "spelling": Kind("warning", "the repaired table has the most frequent spelling"),
    "no folder name": Kind("warning", "rename the label"),
    "unlabeled": Kind("note", "training leaves them out"),
    "one label": Kind("error", "add clips of another label, or of background"),
    "few clips": Kind("error", f"add clips: at least {MIN_CLIPS}, one per split"),
    "imbalance": Kind("warning", "add clips, or limit the others"),
    "groups of one label": Kind("warning", "record several labels in each group, or it is a cue for the label"),
    "one group": Kind("warning", "record this label with another recorder, or in another place"),
    "leak": Kind("error", "keep all of it in one split, or blank the column split and split again"),
    "missing from a split": Kind("warning", "blank the column split and split again, or add groups first"),
}  # fmt: skip
"""All findings, by name."""


@dataclass(frozen=True)
class Finding:
    """A finding: name, details, and its row or label."""

    finding: str
    detail: str
    row: int | None = None
    label: str = ""

    @property
    def kind(self) -> Kind:
        """Return severity and remedy."""
        return KINDS[self.finding]
