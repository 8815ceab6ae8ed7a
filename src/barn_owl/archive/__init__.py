"""Archives: tagging of many recordings, in pieces and on many workers, and stores of their events."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
