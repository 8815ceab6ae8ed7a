from . import (
    annotation as annotation,
    archive as archive,
    audio as audio,
    classifiers as classifiers,
    clips as clips,
    device as device,
    errors as errors,
    evaluate as evaluate,
    features as features,
    learn as learn,
    live as live,
    model as model,
    pipeline as pipeline,
    runs as runs,
    show as show,
    sound as sound,
    tag as tag,
)
from .annotation import harvest as harvest
from .archive import (
    find_recordings as find_recordings,
    read_events as read_events,
    tag_archive as tag_archive,
    write_events as write_events,
)
from .audio import audio_info as audio_info, read_audio as read_audio, write_audio as write_audio
from .classifiers import register_classifier as register_classifier
from .clips import (
    check_clips as check_clips,
    gather_folder as gather_folder,
    load_frames as load_frames,
    read_clip_table as read_clip_table,
    split_clips as split_clips,
    write_clip_table as write_clip_table,
)
from .device import shrink as shrink, write_c as write_c, write_onnx as write_onnx
from .errors import BarnOwlError as BarnOwlError
from .evaluate import predict as predict, score_events as score_events
from .features import FrontEnd as FrontEnd
from .learn import Plan as Plan, read_plan as read_plan, write_plan as write_plan
from .live import Listener as Listener
from .model import DecodingSettings as DecodingSettings, Model as Model, load_model as load_model
from .parallel import engine as engine
from .runs import (
    Run as Run,
    Work as Work,
    adapt as adapt,
    compare_runs as compare_runs,
    open_run as open_run,
    suggest_plan as suggest_plan,
    train as train,
    train_classifiers as train_classifiers,
    train_several as train_several,
)
from .show import save_figure as save_figure
from .tag import adjust as adjust, tag_recording as tag_recording, tag_samples as tag_samples
