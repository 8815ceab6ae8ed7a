"""Archives: tagging of many recordings, in pieces and on many workers, and stores of their events."""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
