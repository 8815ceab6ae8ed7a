"""The clip table: its shape, where it comes from, how it is split."""

from barn_owl.clips.gather import Gathered, gather_folder, gather_table
from barn_owl.clips.split import Shares, split_clips
from barn_owl.clips.table import check_clip_table, read_clip_table, write_clip_table

__all__ = [
    "Gathered",
    "Shares",
    "check_clip_table",
    "gather_folder",
    "gather_table",
    "read_clip_table",
    "split_clips",
    "write_clip_table",
]
