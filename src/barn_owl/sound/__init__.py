"""Changes to sound: normalization, augmentation, and synthetic sounds."""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
