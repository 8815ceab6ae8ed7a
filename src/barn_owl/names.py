"""Names of files and labels as text, and as a terminal can print them.

A file name that is not UTF-8 is text in memory and in tables (`as_text`), and becomes the name of the system when the
file is opened (`from_text`). Workers look up relative names in the folder in which the command was called
(`relative_to`).
"""

import os
import re
import unicodedata
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

ESCAPED = re.compile(r"\\udc([89a-f][0-9a-f])")

URL = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*://")
CLOSED_URL = re.compile(r"(?:\./)?([A-Za-z][A-Za-z0-9+.-]+):/+")

MAX_LABEL = 200
"""Characters of a label, at most."""

_folder: ContextVar[str] = ContextVar("folder", default="")


@contextmanager
def relative_to(folder: str) -> Iterator[None]:
    """Look relative names up in `folder` within the block, in this thread."""
    token = _folder.set(folder)
    try:
        yield
    finally:
        _folder.reset(token)


def as_text(name: str) -> str:
    r"""Write a name as UTF-8: an invalid byte becomes ``\udc`` and its number, as in
    ``caf\udce9.wav``.

    Python represents such a byte as half a surrogate pair (PEP 383), which text files cannot contain.

    >>> as_text("caf\udce9.wav")
    'caf\\udce9.wav'
    """
    return name.encode("utf-8", "backslashreplace").decode("utf-8")


def from_text(text: str) -> str:
    r"""Return the name that `as_text` wrote, below the folder of `relative_to` if it is relative.

    >>> from_text("caf\\udce9.wav") == "caf\udce9.wav"
    True
    """
    name = ESCAPED.sub(lambda found: chr(int("dc" + found[1], 16)), text) if "\\udc" in text else text
    folder = _folder.get()
    return os.path.join(folder, name) if folder else name  # noqa: PTH118 - thousands of times


def is_url(name: str) -> bool:
    """Return whether a name is a URL."""
    return URL.match(name) is not None


def closed_url(url: str) -> str:
    """Return a path that stands for a URL which must not be opened, since it comes from a table.

    All readers take it for the path of a missing file; `table_name` returns the URL again.

    >>> closed_url("https://host/night.wav")
    './https://host/night.wav'
    """
    return f"./{url}"


def is_closed_url(path: str) -> bool:
    """Return whether a path stands for a URL that must not be opened."""
    return not is_url(path) and CLOSED_URL.match(path) is not None


def table_name(path: str) -> str:
    """Return the name of a file for a table: a URL for a path of `closed_url`, further paths unchanged.

    >>> table_name("./https://host/night.wav"), table_name("night.wav")
    ('https://host/night.wav', 'night.wav')
    """
    return CLOSED_URL.sub(r"\1://", path, count=1) if is_closed_url(path) else path


def label_fault(label: str) -> str:
    """Return why a text cannot be a label, which is limited in length and has no control characters; "" if it can.

    >>> label_fault("bell"), label_fault("bell\\0")
    ('', "label must not hold control characters or line breaks, got 'bell\\\\x00'")
    """
    if len(label) > MAX_LABEL:
        return f"label must have at most {MAX_LABEL} characters, got {len(label)}: {shortened(label)!r}"
    # Python represents a byte that is not UTF-8 as a surrogate, which files cannot contain.
    if not label.isprintable() and any(unicodedata.category(c) in ("Cc", "Cs", "Zl", "Zp") for c in label):
        return f"label must not hold control characters or line breaks, got {shortened(label)!r}"
    return ""


def shortened(text: str, length: int = 60) -> str:
    """Return text of at most `length` characters; a cut is marked.

    >>> shortened("a" * 100, 10)
    'aaaaaaaaa…'
    """
    return text if len(text) <= length else text[: length - 1] + "…"


def printable(text: str) -> str:
    r"""Return text for a terminal, with control characters escaped.

    >>> printable("a\x1b[31mred\n")
    'a\\x1b[31mred\n'
    """
    if text.isprintable():
        return text
    return "".join(_shown(character) for character in text)


def _shown(character: str) -> str:
    harmless = character in "\n\t" or unicodedata.category(character) not in ("Cc", "Cf", "Cs", "Co")
    return character if harmless else character.encode("unicode_escape").decode("ascii")
