"""From samples to (frames, features): spectra, mel, cepstra, descriptors, pitch; pooling, ranking, cache, export."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
