"""Barn Owl: from labelled clips to timestamped events in long recordings.

The public names are loaded when first used, so that importing the package costs next to nothing.
"""

import importlib
from typing import TYPE_CHECKING

if TYPE_CHECKING:  # the same names again, for type checkers and editors; a test compares the two
    from barn_owl.audio import (
        AudioInfo as AudioInfo,
    )
    from barn_owl.audio import (
        FileFacts as FileFacts,
    )
    from barn_owl.audio import (
        Gate as Gate,
    )
    from barn_owl.audio import (
        audio_info as audio_info,
    )
    from barn_owl.audio import (
        facts_table as facts_table,
    )
    from barn_owl.audio import (
        file_facts as file_facts,
    )
    from barn_owl.audio import (
        find_activity as find_activity,
    )
    from barn_owl.audio import (
        integrated_loudness as integrated_loudness,
    )
    from barn_owl.audio import (
        read_audio as read_audio,
    )
    from barn_owl.audio import (
        remove_silence as remove_silence,
    )
    from barn_owl.audio import (
        resample as resample,
    )
    from barn_owl.audio import (
        set_level as set_level,
    )
    from barn_owl.audio import (
        stream_audio as stream_audio,
    )
    from barn_owl.audio import (
        stream_raw as stream_raw,
    )
    from barn_owl.audio import (
        write_audio as write_audio,
    )
    from barn_owl.classify import (
        DecisionSettings as DecisionSettings,
    )
    from barn_owl.classify import (
        Model as Model,
    )
    from barn_owl.classify import (
        Plan as Plan,
    )
    from barn_owl.classify import (
        Progress as Progress,
    )
    from barn_owl.classify import (
        load_frames as load_frames,
    )
    from barn_owl.classify import (
        load_model as load_model,
    )
    from barn_owl.classify import (
        read_plan as read_plan,
    )
    from barn_owl.classify import (
        write_plan as write_plan,
    )
    from barn_owl.clips import (
        Gathered as Gathered,
    )
    from barn_owl.clips import (
        Shares as Shares,
    )
    from barn_owl.clips import (
        check_clip_table as check_clip_table,
    )
    from barn_owl.clips import (
        gather_folder as gather_folder,
    )
    from barn_owl.clips import (
        gather_table as gather_table,
    )
    from barn_owl.clips import (
        read_clip_table as read_clip_table,
    )
    from barn_owl.clips import (
        split_clips as split_clips,
    )
    from barn_owl.clips import (
        write_clip_table as write_clip_table,
    )
    from barn_owl.demo import write_quay as write_quay
    from barn_owl.errors import (
        AudioError as AudioError,
    )
    from barn_owl.errors import (
        BarnOwlError as BarnOwlError,
    )
    from barn_owl.errors import (
        ModelError as ModelError,
    )
    from barn_owl.errors import (
        OutputError as OutputError,
    )
    from barn_owl.errors import (
        PlanError as PlanError,
    )
    from barn_owl.errors import (
        TableError as TableError,
    )
    from barn_owl.errors import (
        TrainingError as TrainingError,
    )
    from barn_owl.evaluate import (
        EventScores as EventScores,
    )
    from barn_owl.evaluate import (
        Scores as Scores,
    )
    from barn_owl.evaluate import (
        confusion_table as confusion_table,
    )
    from barn_owl.evaluate import (
        score_events as score_events,
    )
    from barn_owl.evaluate import (
        score_labels as score_labels,
    )
    from barn_owl.features import (
        FrameStream as FrameStream,
    )
    from barn_owl.features import (
        FrontEnd as FrontEnd,
    )
    from barn_owl.features import (
        frame_table as frame_table,
    )
    from barn_owl.features import (
        hertz_from_mel as hertz_from_mel,
    )
    from barn_owl.features import (
        mel_bank as mel_bank,
    )
    from barn_owl.features import (
        mel_from_hertz as mel_from_hertz,
    )
    from barn_owl.features import (
        pool as pool,
    )
    from barn_owl.features import (
        pooled_names as pooled_names,
    )
    from barn_owl.features import (
        principal_map as principal_map,
    )
    from barn_owl.features import (
        rank_features as rank_features,
    )
    from barn_owl.features import (
        read_features as read_features,
    )
    from barn_owl.features import (
        write_features as write_features,
    )
    from barn_owl.runs import Evaluation as Evaluation
    from barn_owl.runs import Run as Run
    from barn_owl.runs import open_run as open_run
    from barn_owl.runs import train as train
    from barn_owl.show import (
        clip_figure as clip_figure,
    )
    from barn_owl.show import (
        confusion_figure as confusion_figure,
    )
    from barn_owl.show import (
        distributions_figure as distributions_figure,
    )
    from barn_owl.show import (
        filter_bank_figure as filter_bank_figure,
    )
    from barn_owl.show import (
        gallery_figure as gallery_figure,
    )
    from barn_owl.show import (
        map_figure as map_figure,
    )
    from barn_owl.show import (
        overview_figure as overview_figure,
    )
    from barn_owl.show import (
        save_figure as save_figure,
    )
    from barn_owl.show import (
        scatter_figure as scatter_figure,
    )
    from barn_owl.show import (
        spectra_figure as spectra_figure,
    )
    from barn_owl.show import (
        tagging_figure as tagging_figure,
    )
    from barn_owl.show import (
        tracks_figure as tracks_figure,
    )
    from barn_owl.tag import (
        Tagger as Tagger,
    )
    from barn_owl.tag import (
        tag_recording as tag_recording,
    )
    from barn_owl.tag import (
        tag_samples as tag_samples,
    )
    from barn_owl.tag import (
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
        "Gathered",
        "Shares",
        "check_clip_table",
        "gather_folder",
        "gather_table",
        "read_clip_table",
        "split_clips",
        "write_clip_table",
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
        "clip_figure",
        "confusion_figure",
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
