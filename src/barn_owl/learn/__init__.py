"""Training: plan, mixtures, fitting of classifiers, checkpoints, rehearsal."""

from barn_owl.arguments import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
