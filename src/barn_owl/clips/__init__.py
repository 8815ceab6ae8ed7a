"""Clip tables: reading, checking, gathering, cutting and splitting."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
