"""Trained models: classifier, decoding settings, model file. Contains no training code."""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
