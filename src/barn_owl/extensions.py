"""Objects that installed packages offer under an entry point group."""

import logging
from functools import cache
from importlib.metadata import entry_points
from typing import Any

logger = logging.getLogger(__name__)


@cache
def installed(group: str) -> dict[str, Any]:
    """Return the objects of an entry point group by name; objects that cannot be imported are logged and skipped."""
    found = {}
    for entry in entry_points(group=group):
        try:
            found[entry.name] = entry.load()
        except (ImportError, AttributeError) as error:
            logger.warning("%s of %s (entry points %s) cannot be loaded: %s", entry.name, entry.value, group, error)
    return found
