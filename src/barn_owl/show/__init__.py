"""Figures and pages of the results. Each call returns a Matplotlib figure; `save_figure` writes it.

Each call returns a Matplotlib figure; `save_figure` writes it.
"""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
