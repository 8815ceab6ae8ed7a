"""Live tagging: input, detection, and notification. Loads no trainer."""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
