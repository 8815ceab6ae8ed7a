"""Audio input and output: file facts, reading, streaming, writing, resampling, level, loudness, silence."""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
