"""From samples to (frames, features): spectra, mel, cepstra, descriptors, pitch; pooling, ranking, cache, export."""

from barn_owl.features.cache import FrameCache
from barn_owl.features.export import frame_table, read_features, write_features
from barn_owl.features.front_end import FrontEnd
from barn_owl.features.mel import hertz_from_mel, mel_bank, mel_from_hertz
from barn_owl.features.pooling import pool, pooled_names
from barn_owl.features.ranking import principal_map, rank_features
from barn_owl.features.stream import FrameStream

__all__ = [
    "FrameCache",
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
]
