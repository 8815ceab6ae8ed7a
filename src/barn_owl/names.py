"""Names of files and labels, which may hold anything: as text, and as a terminal can show them.

A name of a file that is no UTF-8 is text everywhere in memory and in tables (`as_text`); only where a file is opened
it becomes the name that the system knows (`from_text`).
"""

import re
import unicodedata

ESCAPED = re.compile(r"\\udc([89a-f][0-9a-f])")


def as_text(name: str) -> str:
    r"""Write a name so that it is UTF-8: a byte that is none becomes ``\udc`` and its number, as in
    ``caf\udce9.wav``.

    Python holds such a byte as half a surrogate pair (PEP 383), which no text file can.

    >>> as_text("caf\udce9.wav")
    'caf\\udce9.wav'
    """
    return name.encode("utf-8", "backslashreplace").decode("utf-8")


def from_text(text: str) -> str:
    r"""Return the name that `as_text` wrote.

    >>> from_text("caf\\udce9.wav") == "caf\udce9.wav"
    True
    """
    return ESCAPED.sub(lambda found: chr(int("dc" + found[1], 16)), text) if "\\udc" in text else text


def printable(text: str) -> str:
    r"""Text as a terminal may show it: what would move its cursor or change its colour is written out.

    >>> printable("a\x1b[31mred\n")
    'a\\x1b[31mred\n'
    """
    if text.isprintable():
        return text
    return "".join(_shown(character) for character in text)


def _shown(character: str) -> str:
    harmless = character in "\n\t" or unicodedata.category(character) not in ("Cc", "Cf", "Cs", "Co")
    return character if harmless else character.encode("unicode_escape").decode("ascii")
