"""Annotation: review of events, active learning, harvesting of clips, and search for similar sounds."""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
