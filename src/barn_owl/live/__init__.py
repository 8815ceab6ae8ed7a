"""Listening without end: what comes in, what is found in it, and what is done about it. It loads no trainer."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
