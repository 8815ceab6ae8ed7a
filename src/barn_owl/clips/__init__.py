"""Clip tables: reading, checking, gathering, cutting and splitting."""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
