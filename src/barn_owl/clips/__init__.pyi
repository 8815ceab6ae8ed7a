from .annotated import clips_of_events as clips_of_events, clips_of_false_alarms as clips_of_false_alarms
from .check import Check as Check, check_clips as check_clips
from .completeness import complete_stretches as complete_stretches
from .corrections import correct_labels as correct_labels, read_corrections as read_corrections
from .cut import cut_windows as cut_windows, draw_background as draw_background, find_takes as find_takes
from .frames import ClipFrames as ClipFrames, load_frames as load_frames
from .gather import (
    Gathered as Gathered,
    gather_folder as gather_folder,
    gather_table as gather_table,
    gather_together as gather_together,
)
from .labels import (
    join_labels as join_labels,
    join_multilabel as join_multilabel,
    labels_in as labels_in,
    limit_clips as limit_clips,
    other_label as other_label,
    read_label_map as read_label_map,
    relabel as relabel,
)
from .split import (
    find_leaks as find_leaks,
    fold_clips as fold_clips,
    split_by_time as split_by_time,
    split_clips as split_clips,
    splits_of_fold as splits_of_fold,
)
from .splits import Shares as Shares
from .table import (
    TableOrPath as TableOrPath,
    as_clip_table as as_clip_table,
    check_clip_table as check_clip_table,
    read_clip_table as read_clip_table,
    write_clip_table as write_clip_table,
)
from .takes import TakeSettings as TakeSettings
from .writing import label_folder as label_folder, write_excerpts as write_excerpts, write_variants as write_variants
