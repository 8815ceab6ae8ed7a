"""Shared sentences of messages."""

from collections.abc import Iterable, Mapping
from html import escape
from pathlib import Path


def nearest_to(unknown: str, known: Iterable[str], *, else_say: str = "there are ") -> str:
    """Return the names in `known` that resemble an unknown name, or else all of them, in words.

    >>> nearest_to("train", ["trees", "cnn"])
    'there are trees, cnn'
    >>> nearest_to("cnm", ["trees", "cnn"])
    'did you mean cnn?'
    """
    import difflib  # here, as few names are wrong

    known = list(known)
    close = difflib.get_close_matches(unknown, known, n=1)
    return f"did you mean {close[0]}?" if close else f"{else_say}{', '.join(known)}"


def nearest_path(path: str | Path) -> str:
    """Return what a path that does not exist may be meant to be, ``; did you mean first?``, or a blank."""
    import difflib

    path = Path(path)
    try:
        beside = [] if path.exists() else [other.name for other in path.parent.iterdir()]
    except OSError:  # there is nothing to suggest where nothing can be listed
        return ""
    close = difflib.get_close_matches(path.name, beside, n=1)
    return f"; did you mean {path.parent / close[0]}?" if close else ""


def how_to_install(extra: str) -> str:
    """Return how to install extras, from an index and from a clone of the repository."""
    return f'pip install "barn-owl-audio[{extra}]", or in a clone of it pip install -e ".[{extra}]"'


def facts_in_html(facts: Mapping[str, str]) -> str:
    """Return facts as an HTML table for notebooks."""
    rows = "".join(f"<tr><th>{escape(name)}</th><td>{escape(fact)}</td></tr>" for name, fact in facts.items())
    return f"<table>{rows}</table>"
