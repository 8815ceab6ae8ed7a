"""The clip table: its shape, where it comes from, how it is split."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
