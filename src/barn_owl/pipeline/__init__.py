"""Transformers and a classifier with scikit-learn's conventions, for its pipelines, searches and folds."""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
