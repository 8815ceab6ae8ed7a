"""Classifiers: the built-in ones, and the parts to add another. Loads no trainer, and a classifier only when used."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
