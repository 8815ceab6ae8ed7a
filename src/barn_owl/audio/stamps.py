"""Start times of recordings from the broadcast chunks that field recorders write."""

import struct
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import IO
from xml.etree import ElementTree as ET

from barn_owl.files import not_a_file
from barn_owl.names import from_text

LARGEST = 1 << 20
"""Bytes of a chunk that are looked at; a time stamp is at its beginning."""
DATE_OFFSET = 320
"""Offset of the date in ``bext``, ``2026-03-14``, and then of the time, ``22:15:00``: EBU Tech 3285, section 2.3."""


def broadcast_start(path: str | Path) -> datetime | None:
    """Read the start time of a recording from its ``bext`` (EBU Tech 3285) or ``iXML`` chunk, without a time zone.

    None where the file is no WAV, cannot be read or has no such time.

    Parameters
    ----------
    path : str | Path
        WAV file.
    """
    try:
        if not_a_file(path):
            return None
        with Path(from_text(str(path))).open("rb") as file:
            for name, content in _chunks(file):
                text = (
                    content[DATE_OFFSET : DATE_OFFSET + 18].decode("latin-1") if name == b"bext" else _of_xml(content)
                )
                found = _parsed(text)
                if found is not None:
                    return found
    except OSError:
        return None  # errors are reported by the reader of the sound
    return None


def _chunks(file: IO[bytes]) -> Iterator[tuple[bytes, bytes]]:
    """The chunks of a RIFF or RF64 file that may tell the time, as far as `LARGEST`."""
    head = file.read(12)
    if head[:4] not in (b"RIFF", b"RF64") or head[8:] != b"WAVE":
        return
    while len(header := file.read(8)) == 8:
        name, size = struct.unpack("<4sI", header)
        begin = file.tell()
        if name in (b"bext", b"iXML"):
            yield name, file.read(min(size, LARGEST))
        if size == 0xFFFFFFFF:  # samples of an RF64 file: their size is in a different chunk
            return
        file.seek(begin + size + size % 2)


def _of_xml(content: bytes) -> str:
    text = content.rstrip(b"\0")
    if b"<!" in text.replace(b"<!--", b""):
        return ""  # a definition could blow up to any size
    try:
        bext = ET.fromstring(text).find("BEXT")  # noqa: S314 - without definitions there is nothing to blow up
    except ET.ParseError:
        return ""
    if bext is None:
        return ""
    return f"{bext.findtext('BWF_ORIGINATION_DATE', '')}{bext.findtext('BWF_ORIGINATION_TIME', '')}"


def _parsed(text: str) -> datetime | None:
    """Return date and time from a text with any separators, which differ between writers."""
    digits = "".join(character for character in text if character.isascii() and character.isdigit())
    try:
        return datetime.strptime(digits, "%Y%m%d%H%M%S")
    except ValueError:
        return None
