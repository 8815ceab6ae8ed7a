"""Names of files and labels as text, and as a terminal can print them.

A name of a file that is no UTF-8 is text everywhere in memory and in tables (`as_text`); only where a file is opened
it becomes the name that the system knows (`from_text`). On another machine relative names are looked up in the folder
that the command was given in (`relative_to`).
"""

import os
import re
import unicodedata
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

ESCAPED = re.compile(r"\\udc([89a-f][0-9a-f])")

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

    Python holds such a byte as half a surrogate pair (PEP 383), which no text file can.

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


def printable(text: str) -> str:
    r"""Text as a terminal may show it: what would move its cursor or change its color is written out.

    >>> printable("a\x1b[31mred\n")
    'a\\x1b[31mred\n'
    """
    if text.isprintable():
        return text
    return "".join(_shown(character) for character in text)


def _shown(character: str) -> str:
    harmless = character in "\n\t" or unicodedata.category(character) not in ("Cc", "Cf", "Cs", "Co")
    return character if harmless else character.encode("unicode_escape").decode("ascii")
