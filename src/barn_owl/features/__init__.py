"""From samples to (frames, features): spectra, mel, cepstra, descriptors, pitch; pooling, ranking, cache, export."""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
