"""Audio input and output: file facts, reading, streaming, writing, resampling, level, loudness, silence."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
