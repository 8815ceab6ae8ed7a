"""The clip table: its shape, where it comes from, how it is split."""

from barn_owl.clips.check import Check, check_clips
from barn_owl.clips.gather import Gathered, gather_folder, gather_table, gather_together
from barn_owl.clips.labels import limit_clips, other_label, read_label_map, relabel
from barn_owl.clips.split import Shares, split_clips
from barn_owl.clips.table import check_clip_table, read_clip_table, write_clip_table

__all__ = [
    "Check",
    "Gathered",
    "Shares",
    "check_clip_table",
    "check_clips",
    "gather_folder",
    "gather_table",
    "gather_together",
    "limit_clips",
    "other_label",
    "read_clip_table",
    "read_label_map",
    "relabel",
    "split_clips",
    "write_clip_table",
]
