"""A night at Saltmarsh Harbor: a synthetic harbor, synthesized from a seed, to try everything on."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
