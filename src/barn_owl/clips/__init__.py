"""The clip table: its shape, where it comes from, how it is split."""

from barn_owl.clips.annotated import clips_of_events, clips_of_false_alarms
from barn_owl.clips.augment import SoundSettings, change_sound
from barn_owl.clips.check import Check, check_clips
from barn_owl.clips.corrections import correct_labels, read_corrections
from barn_owl.clips.cut import TakeSettings, cut_windows, draw_background, find_takes
from barn_owl.clips.gather import Gathered, gather_folder, gather_table, gather_together
from barn_owl.clips.labels import (
    join_labels,
    join_overlapping,
    labels_in,
    limit_clips,
    other_label,
    read_label_map,
    relabel,
)
from barn_owl.clips.split import Shares, find_leaks, fold_clips, sides_of_fold, split_by_time, split_clips
from barn_owl.clips.table import check_clip_table, read_clip_table, write_clip_table
from barn_owl.clips.uniform import UniformSettings, make_uniform
from barn_owl.clips.writing import label_folder, write_excerpts, write_variants

__all__ = [
    "Check",
    "Gathered",
    "Shares",
    "SoundSettings",
    "TakeSettings",
    "UniformSettings",
    "change_sound",
    "check_clip_table",
    "check_clips",
    "clips_of_events",
    "clips_of_false_alarms",
    "correct_labels",
    "cut_windows",
    "draw_background",
    "find_leaks",
    "find_takes",
    "fold_clips",
    "gather_folder",
    "gather_table",
    "gather_together",
    "join_labels",
    "join_overlapping",
    "label_folder",
    "labels_in",
    "limit_clips",
    "make_uniform",
    "other_label",
    "read_clip_table",
    "read_corrections",
    "read_label_map",
    "relabel",
    "sides_of_fold",
    "split_by_time",
    "split_clips",
    "write_clip_table",
    "write_excerpts",
    "write_variants",
]
