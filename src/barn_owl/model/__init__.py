"""A model in use: the classifiers, what they decide by, the model file. Nothing here can train."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
