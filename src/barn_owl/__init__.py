"""Barn Owl: from labeled clips to timestamped events in long recordings.

The public names are loaded when first used, so that importing the package costs next to nothing.
"""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
