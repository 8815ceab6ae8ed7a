"""Transformers and a classifier with scikit-learn's conventions, for its pipelines, searches and folds."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
