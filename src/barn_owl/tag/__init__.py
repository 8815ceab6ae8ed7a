"""Tagging: from samples to a score trace, and from the trace to events."""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
