"""Trained models: classifier, decoding settings, model file. Contains no training code.

Nothing here can train.
"""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
