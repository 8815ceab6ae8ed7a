"""Paths and URLs of sound files; URLs are read through fsspec in ranges of bytes."""

import hashlib
import importlib
import io
import logging
import os
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

from barn_owl.errors import AudioError
from barn_owl.files import not_a_file
from barn_owl.names import as_text, from_text, is_url
from barn_owl.wording import how_to_install

logger = logging.getLogger(__name__)

Result = TypeVar("Result")
AUDIO_ENDINGS = frozenset(
    [".wav", ".flac", ".ogg", ".oga", ".opus", ".mp3", ".aif", ".aiff", ".aifc", ".caf", ".w64", ".rf64", ".au"]
)
"""File endings, in lower case, that are treated as sound when a folder is searched."""
UNREADABLE_ENDINGS = frozenset([".m4a", ".aac", ".wma", ".mp4", ".webm", ".mka", ".amr", ".3gp", ".ape", ".wv"])
"""Endings of sound that cannot be decoded, reported when a folder is searched."""
SMALL_BLOCK, LARGE_BLOCK = 1 << 16, 1 << 21
"""Bytes requested at once: for a header or an excerpt, and for a whole recording, which is read ahead."""
RETRY_DELAYS_S = (0.5, 1.0, 2.0, 4.0)
"""Delays before each retry after a temporary error."""
STALL_S = 30.0
"""Longest silence of a server in each attempt."""
PROTOCOLS = ("https", "http", "s3", "gs", "az", "file")
"""Protocols of URLs that are read; further protocols may run code, write to caches, or chain to further URLs."""
PERMANENT_ERRORS = (FileNotFoundError, PermissionError, IsADirectoryError, NotImplementedError)
"""Errors after which no retry is made."""


def is_remote(name: str | Path) -> bool:
    """Return whether a name is a URL rather than a path: ``s3://bucket/night.flac``, ``https://host/night.wav``."""
    return is_url(str(name))


def place(name: str | Path) -> Path | str:
    """Return a path as it is opened, or a URL unchanged."""
    return str(name) if is_remote(name) else Path(from_text(str(name)))


def sound_files_below(folder: str | Path) -> list[Path]:
    """List the sound files below a folder, in order.

    Entries that are not files, and audio formats that cannot be read, are reported and skipped.

    Parameters
    ----------
    folder : str | Path
        Folder, or URL of one.
    """
    found: list[Path] = []
    unreadable: Counter[str] = Counter()
    for where, _, names in os.walk(from_text(str(folder)), onerror=_report_unlisted):
        for name in names:
            path = Path(as_text(where)) / as_text(name)
            if path.suffix.lower() in AUDIO_ENDINGS:
                why = not_a_file(path)
                if why:
                    logger.warning("%s %s; skipped", path, why)
                else:
                    found.append(path)
            elif path.suffix.lower() in UNREADABLE_ENDINGS and not path.name.startswith("."):
                unreadable[path.suffix.lower()] += 1
    if unreadable:
        kinds = ", ".join(f"{count} {ending}" for ending, count in sorted(unreadable.items()))
        logger.warning("%s holds sound that cannot be read, skipped: %s; make FLAC or WAV of it", folder, kinds)
    return sorted(found)


def _report_unlisted(error: OSError) -> None:
    logger.warning("%s cannot be listed: %s; skipped", error.filename, error.strerror or error)


def files_below(url: str) -> list[str]:
    """List all files below a folder that a URL names, in order. Raises AudioError when it cannot be read."""
    system, path = _system(url)
    try:
        return [system.unstrip_protocol(name) for name in sorted(_with_retries(lambda: system.find(path)))]
    except Exception as error:
        raise AudioError(f"{url} cannot be listed: {_reason(error)}") from error


def remote_stamp(url: str) -> tuple[str, int, int]:
    """Return the identity of a remote file: its URL, its size, and a hash of the facts from its store."""
    system, path = _system(url)
    try:
        facts = _with_retries(lambda: system.info(path))
    except Exception as error:
        raise AudioError(f"{url} cannot be read: {_reason(error)}") from error
    identity = [
        str(facts[key]) for key in ("ETag", "etag", "md5Hash", "LastModified", "mtime", "created") if key in facts
    ]
    number = int.from_bytes(hashlib.sha256("|".join(identity).encode()).digest()[:7])
    return url, int(facts.get("size") or 0), number


@contextmanager
def opened_elsewhere(url: str, *, all_of_it: bool = False) -> Iterator["RemoteFile"]:
    """Open the file at a URL; all_of_it : whether it is read from start to end.

    Raises AudioError, with the reason, when it cannot be opened.
    """
    system, path = _system(url)
    try:
        size, cache = (LARGE_BLOCK, "background") if all_of_it else (SMALL_BLOCK, "readahead")
        file = _with_retries(lambda: system.open(path, "rb", block_size=size, cache_type=cache))
    except Exception as error:
        raise AudioError(f"{url} cannot be read: {_reason(error)}") from error
    with file:
        yield RemoteFile(url, file)


class RemoteFile(io.RawIOBase):
    """A remote file for a decoder; temporary failures are retried.

    Decoders in C cannot pass on Python errors, so a permanent failure is stored in ``failed``, the file ends, and the
    caller checks ``failed`` after decoding.
    """

    def __init__(self, url: str, file: Any) -> None:
        super().__init__()
        self._url, self._file = url, file
        self.failed: AudioError | None = None

    def readable(self) -> bool:
        """Return True."""
        return True

    def seekable(self) -> bool:
        """Return True."""
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Go to a byte."""
        return int(self._file.seek(offset, whence))

    def tell(self) -> int:
        """Return the position of the next byte."""
        return int(self._file.tell())

    def readinto(self, buffer: Any) -> int:
        """Fill a buffer; return the number of bytes read."""
        if self.failed is not None:
            return 0
        at, view = self.tell(), memoryview(buffer).cast("B")

        def read() -> bytes:
            self.seek(at)
            got: bytes = self._file.read(len(view))
            return got

        try:
            got = _with_retries(read)
        except Exception as error:
            self.failed = AudioError(f"{self._url} cannot be read on from byte {at}: {_reason(error)}")
            return 0
        view[: len(got)] = got
        return len(got)


def _system(url: str) -> tuple[Any, str]:
    try:
        fsspec = importlib.import_module("fsspec")
    except ImportError:
        raise AudioError(f"{url}: URLs need a package; {how_to_install('urls')}") from None
    protocol = url.partition("://")[0].lower()
    if protocol not in PROTOCOLS or "::" in url:
        raise AudioError(f"{url} cannot be read: URLs begin with {', '.join(PROTOCOLS)}:// and are not chained by ::")
    options: dict[str, Any] = {}
    if url.startswith(("http://", "https://")):
        silence = importlib.import_module("aiohttp").ClientTimeout(
            total=None, sock_connect=STALL_S, sock_read=STALL_S
        )
        options = {"client_kwargs": {"timeout": silence}}
    try:
        system, path = fsspec.core.url_to_fs(url, **options)
    except Exception as error:  # each protocol has its errors for an invalid address
        raise AudioError(f"{url} cannot be read: {error}") from error
    return system, path


def _with_retries(get: Callable[[], Result]) -> Result:
    """Call `get`; retry after temporary errors."""
    for wait_s in RETRY_DELAYS_S:
        try:
            return get()
        except Exception as error:
            if _is_permanent(error):
                raise
        time.sleep(wait_s)
    return get()


def _is_permanent(error: Exception) -> bool:
    """Return whether a retry is useless: the file is missing, or access is denied, as reported by the store."""
    status = _status(error)
    if status:
        return 400 <= status < 500 and status not in (408, 429)
    # An error with a different cause, such as a failed connection, may be temporary.
    return isinstance(error, PERMANENT_ERRORS) and error.__cause__ is None


def _status(error: BaseException | None) -> int:
    """Return the HTTP status in an error or its cause; 0 without a status."""
    while error is not None:
        status = getattr(error, "status", 0)
        if isinstance(status, int) and status:
            return status
        error = error.__cause__
    return 0


def _reason(error: Exception) -> str:
    if isinstance(error, PermissionError) or _status(error) in (401, 403):
        return "access is denied; give the rights as the store wants them, in its own settings or variables"
    if isinstance(error, FileNotFoundError) and (_status(error) or error.__cause__ is None):
        return "there is no such file"
    error = error.__cause__ if isinstance(error.__cause__, Exception) else error
    if isinstance(error, TimeoutError):
        return f"the server was silent for {STALL_S:g} s, {len(RETRY_DELAYS_S) + 1} times; is it overloaded?"
    text = str(error).splitlines()
    return text[0] if text and text[0] else type(error).__name__
