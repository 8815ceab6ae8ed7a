from .cache import FrameCache as FrameCache
from .custom import CustomFeature as CustomFeature, register_feature as register_feature
from .embedding import EmbeddingSettings as EmbeddingSettings
from .export import (
    frame_table as frame_table,
    read_features as read_features,
    write_features as write_features,
    write_frames as write_frames,
)
from .front_end import FrontEnd as FrontEnd
from .mel import hertz_from_mel as hertz_from_mel, mel_bank as mel_bank, mel_from_hertz as mel_from_hertz
from .pooling import pool as pool, pooled_names as pooled_names
from .ranking import principal_map as principal_map, rank_features as rank_features
from .stream import FrameStream as FrameStream
