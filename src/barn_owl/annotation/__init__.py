"""Annotation: review of events, active learning, harvesting of clips, and search for similar sounds."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
