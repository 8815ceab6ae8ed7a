"""Figures and pages of the results. Each call returns a Matplotlib figure; `save_figure` writes it.

Each call returns a Matplotlib figure; `save_figure` writes it.
"""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
