"""Names of the classifiers, without loading any of them: what the help of a command needs."""

from importlib.metadata import entry_points
from typing import Any

TRAINED = ("majority", "nearest", "logistic", "kernel", "trees", "mlp", "cnn")
"""Modules of this package with a kind that a plan can name, from the simplest up."""
BUILT_IN = (*TRAINED, "int8", "ensemble")
"""All modules of this package with a kind."""
GROUP = "barn_owl.classifiers"
"""Entry point group of classifiers of other packages."""
registered: dict[str, Any] = {}
"""Kinds that have been loaded or registered, by name."""


def trained_names() -> list[str]:
    """Return the names that a plan can have: built-in ones, then those of programs and packages."""
    others = [*registered, *(entry.name for entry in entry_points(group=GROUP))]
    return [*TRAINED, *(name for name in dict.fromkeys(others) if name not in BUILT_IN)]
