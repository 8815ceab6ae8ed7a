"""From samples to a (frames, features) array: framing, spectrum, mel, cepstrum, descriptors, pitch, pooling."""

from barn_owl.features.front_end import FrontEnd
from barn_owl.features.mel import hertz_from_mel, mel_bank, mel_from_hertz
from barn_owl.features.pooling import pool, pooled_names
from barn_owl.features.stream import FrameStream

__all__ = ["FrameStream", "FrontEnd", "hertz_from_mel", "mel_bank", "mel_from_hertz", "pool", "pooled_names"]
