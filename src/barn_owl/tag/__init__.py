"""Tagging: from samples to a score trace, and from the trace to events."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
