"""From samples to a (frames, features) array: framing, spectrum, mel, activity, pooling."""

from barn_owl.features.front_end import FrameStream, FrontEnd
from barn_owl.features.mel import hertz_from_mel, mel_bank, mel_from_hertz
from barn_owl.features.pooling import pool

__all__ = ["FrameStream", "FrontEnd", "hertz_from_mel", "mel_bank", "mel_from_hertz", "pool"]
