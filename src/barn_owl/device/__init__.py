"""Small devices: cost, pruning, quantization, search and export of models."""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
