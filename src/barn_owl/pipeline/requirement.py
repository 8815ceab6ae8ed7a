"""The optional package that this package needs."""

from barn_owl.wording import how_to_install

try:
    import sklearn  # noqa: F401
except ImportError as error:
    raise ImportError(f"barn_owl.pipeline needs scikit-learn; {how_to_install('pipeline')}") from error
