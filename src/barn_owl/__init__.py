"""Barn Owl: from labelled clips to timestamped events in long recordings.

The public names are loaded when first used, so that importing the package costs next to nothing.
"""

import importlib
from typing import TYPE_CHECKING

if TYPE_CHECKING:  # the same names again, for type checkers and editors; a test compares the two
    from barn_owl.audio import (
        AudioInfo as AudioInfo,
        FileFacts as FileFacts,
        Gate as Gate,
        audio_info as audio_info,
        facts_table as facts_table,
        file_facts as file_facts,
        find_activity as find_activity,
        integrated_loudness as integrated_loudness,
        read_audio as read_audio,
        remove_silence as remove_silence,
        resample as resample,
        set_level as set_level,
        stream_audio as stream_audio,
        stream_raw as stream_raw,
        write_audio as write_audio,
    )
    from barn_owl.classify import (
        DecisionSettings as DecisionSettings,
        Model as Model,
        Plan as Plan,
        Progress as Progress,
        load_frames as load_frames,
        load_model as load_model,
        read_plan as read_plan,
        write_plan as write_plan,
    )
    from barn_owl.clips import (
        Check as Check,
        Gathered as Gathered,
        Shares as Shares,
        SoundSettings as SoundSettings,
        TakeSettings as TakeSettings,
        UniformSettings as UniformSettings,
        change_sound as change_sound,
        check_clip_table as check_clip_table,
        check_clips as check_clips,
        cut_windows as cut_windows,
        draw_background as draw_background,
        find_leaks as find_leaks,
        find_takes as find_takes,
        fold_clips as fold_clips,
        gather_folder as gather_folder,
        gather_table as gather_table,
        gather_together as gather_together,
        limit_clips as limit_clips,
        make_uniform as make_uniform,
        other_label as other_label,
        read_clip_table as read_clip_table,
        read_label_map as read_label_map,
        relabel as relabel,
        sides_of_fold as sides_of_fold,
        split_by_time as split_by_time,
        split_clips as split_clips,
        write_clip_table as write_clip_table,
        write_excerpts as write_excerpts,
    )
    from barn_owl.demo import write_quay as write_quay
    from barn_owl.errors import (
        AudioError as AudioError,
        BarnOwlError as BarnOwlError,
        ModelError as ModelError,
        OutputError as OutputError,
        PlanError as PlanError,
        TableError as TableError,
        TrainingError as TrainingError,
    )
    from barn_owl.evaluate import (
        EventScores as EventScores,
        Scores as Scores,
        confusion_table as confusion_table,
        score_events as score_events,
        score_labels as score_labels,
    )
    from barn_owl.features import (
        FrameStream as FrameStream,
        FrontEnd as FrontEnd,
        frame_table as frame_table,
        hertz_from_mel as hertz_from_mel,
        mel_bank as mel_bank,
        mel_from_hertz as mel_from_hertz,
        pool as pool,
        pooled_names as pooled_names,
        principal_map as principal_map,
        rank_features as rank_features,
        read_features as read_features,
        write_features as write_features,
    )
    from barn_owl.runs import Evaluation as Evaluation, Run as Run, open_run as open_run, train as train
    from barn_owl.show import (
        check_figure as check_figure,
        clip_figure as clip_figure,
        confusion_figure as confusion_figure,
        cuts_figure as cuts_figure,
        distributions_figure as distributions_figure,
        filter_bank_figure as filter_bank_figure,
        gallery_figure as gallery_figure,
        map_figure as map_figure,
        overview_figure as overview_figure,
        save_figure as save_figure,
        scatter_figure as scatter_figure,
        spectra_figure as spectra_figure,
        tagging_figure as tagging_figure,
        tracks_figure as tracks_figure,
        variants_figure as variants_figure,
    )
    from barn_owl.tag import (
        Tagger as Tagger,
        tag_recording as tag_recording,
        tag_samples as tag_samples,
        trace_recording as trace_recording,
    )

_HOMES = {
    "barn_owl.audio": (
        "AudioInfo",
        "FileFacts",
        "Gate",
        "audio_info",
        "facts_table",
        "file_facts",
        "find_activity",
        "integrated_loudness",
        "read_audio",
        "remove_silence",
        "resample",
        "set_level",
        "stream_audio",
        "stream_raw",
        "write_audio",
    ),
    "barn_owl.classify": (
        "DecisionSettings",
        "Model",
        "Plan",
        "Progress",
        "load_frames",
        "load_model",
        "read_plan",
        "write_plan",
    ),
    "barn_owl.clips": (
        "Check",
        "Gathered",
        "Shares",
        "SoundSettings",
        "TakeSettings",
        "UniformSettings",
        "change_sound",
        "check_clip_table",
        "check_clips",
        "cut_windows",
        "draw_background",
        "find_leaks",
        "find_takes",
        "fold_clips",
        "gather_folder",
        "gather_table",
        "gather_together",
        "limit_clips",
        "make_uniform",
        "other_label",
        "read_clip_table",
        "read_label_map",
        "relabel",
        "sides_of_fold",
        "split_by_time",
        "split_clips",
        "write_clip_table",
        "write_excerpts",
    ),
    "barn_owl.demo": ("write_quay",),
    "barn_owl.errors": (
        "AudioError",
        "BarnOwlError",
        "ModelError",
        "OutputError",
        "PlanError",
        "TableError",
        "TrainingError",
    ),
    "barn_owl.evaluate": (
        "EventScores",
        "Scores",
        "confusion_table",
        "score_events",
        "score_labels",
    ),
    "barn_owl.features": (
        "FrameStream",
        "FrontEnd",
        "frame_table",
        "hertz_from_mel",
        "mel_bank",
        "mel_from_hertz",
        "pool",
        "pooled_names",
        "principal_map",
        "rank_features",
        "read_features",
        "write_features",
    ),
    "barn_owl.runs": (
        "Evaluation",
        "Run",
        "open_run",
        "train",
    ),
    "barn_owl.show": (
        "check_figure",
        "clip_figure",
        "confusion_figure",
        "cuts_figure",
        "distributions_figure",
        "filter_bank_figure",
        "gallery_figure",
        "map_figure",
        "overview_figure",
        "save_figure",
        "scatter_figure",
        "spectra_figure",
        "tagging_figure",
        "tracks_figure",
        "variants_figure",
    ),
    "barn_owl.tag": (
        "Tagger",
        "tag_recording",
        "tag_samples",
        "trace_recording",
    ),
}
_HOME = {name: home for home, names in _HOMES.items() for name in names}

__all__ = sorted(_HOME)


def __getattr__(name: str) -> object:
    if name not in _HOME:
        raise AttributeError(f"module 'barn_owl' has no attribute {name!r}")
    return getattr(importlib.import_module(_HOME[name]), name)


def __dir__() -> list[str]:
    return sorted([*globals(), *_HOME])
