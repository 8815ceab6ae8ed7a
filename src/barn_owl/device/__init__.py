"""Small devices: cost, pruning, quantization, search and export of models."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
