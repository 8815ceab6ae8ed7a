"""Training runs: split, fit, evaluate and write a folder; several side by side; reading them back."""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
