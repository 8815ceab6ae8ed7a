"""Onto a small device: what a model costs there, made smaller, in whole numbers, and handed over to other
programs."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
