"""A night at Saltmarsh Quay: a made-up harbour, synthesised from a seed, to try everything on."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
