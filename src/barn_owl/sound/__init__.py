"""Changes to sound: made alike, varied, and sounds that are made up."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
