"""Training runs: split, fit, evaluate and write a folder; several side by side; reading them back."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
