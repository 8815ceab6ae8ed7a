"""Barn Owl: from labeled clips to timestamped events in long recordings.

The public names are loaded when first used, so that importing the package costs next to nothing.
"""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
