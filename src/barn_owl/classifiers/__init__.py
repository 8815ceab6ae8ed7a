"""Built-in classifiers, and the parts of custom classifiers. Loads no trainer, and a classifier only when used."""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
