"""Paths: checks before reading and writing, and atomic writes."""

import errno
import hashlib
import json
import os
import re
import secrets
import shutil
import socket
import stat
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import cache
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from barn_owl.errors import OutputError
from barn_owl.names import from_text, is_closed_url
from barn_owl.wording import how_to_install

FOLDER, MISSING = "is a folder, not a file", "does not exist"
CLOSED = "is a URL in a table; such URLs are opened only on request"
LOCK = ".lock"
"""Name of the lock file in a folder that a process writes a run to."""
FULL = 1 << 20
"""Free bytes of a disk that counts as full: writers in C do not report the reason of a failure."""
NUMBERS = "/proc/self/ns/pid"
"""Identifies the container, since process ids repeat across containers."""


def not_a_file(path: str | Path) -> str:
    """Return the reason why a path is no readable regular file; blank if it is.

    Pipes and devices are not: reading them would wait, or never end.
    """
    if is_closed_url(str(path)):
        return CLOSED
    try:
        mode = os.stat(from_text(str(path))).st_mode  # noqa: PTH116 - requested thousands of files
    except FileNotFoundError:
        return MISSING
    except (OSError, ValueError) as error:  # too long a name, a loop of links, a zero byte
        return f"cannot be read: {getattr(error, 'strerror', None) or error}"
    if stat.S_ISDIR(mode):
        return FOLDER
    return "" if stat.S_ISREG(mode) else "is a pipe or a device, not a file"


def is_file(path: str | Path) -> bool:
    """Return whether a path is a regular file; False for an invalid name."""
    return not not_a_file(path)


def is_folder(path: str | Path) -> bool:
    """Return whether a path is a folder."""
    return not_a_file(path) == FOLDER


def real_path(path: str | Path) -> Path:
    """Return an absolute path without links, as far as it can be resolved."""
    return Path(os.path.realpath(path))


def checked_target(
    path: str | Path, *, force: bool = True, endings: Sequence[str] = (), make_folders: bool = False
) -> Path:
    """Return where a file of this name would really be written: a link is followed, as ``cp`` does.

    endings : those that the name may have; none for any. make_folders : make the folders that are missing.

    Raises OutputError when it cannot be written: it is a folder, a pipe, a device or a broken link; it exists and
    `force` is false; its folder cannot be created; its ending is not in `endings`, or needs a package that is not
    installed.
    """
    path = Path(path)
    try:
        _check_existing(path, force=force)
        target = real_path(path) if path.is_symlink() else path
        _check_ending(path, endings)
        above = _nearest_there(target.parent)
        if not above.is_dir():
            raise OutputError(f"{path} cannot be written: {above} is no folder")
        if not os.access(above, os.W_OK | os.X_OK):
            raise OutputError(f"{path} cannot be written: permission denied in {above}")
        if make_folders:
            target.parent.mkdir(parents=True, exist_ok=True)
    except (OSError, ValueError) as error:
        if isinstance(error, OutputError):
            raise
        raise OutputError(f"{path} cannot be written: {getattr(error, 'strerror', None) or error}") from error
    return target


def _nearest_there(folder: Path) -> Path:
    """Return the folder, or the nearest above it that is there."""
    return next(one for one in (folder, *folder.parents, Path()) if one.exists())


def check_space(folder: str | Path, needed: float) -> None:
    """Raise OutputError when a folder's disk has less than `needed` bytes left."""
    free = shutil.disk_usage(_nearest_there(Path(folder))).free
    if needed > free:
        raise OutputError(
            f"{folder} would take about {_size(needed)} of space, and {_size(free)} are left on its disk"
        )


def _size(count: float) -> str:
    """Bytes in words."""
    return f"{count / 1e6:.1f} MB" if count >= 1e6 else f"{count / 1e3:.0f} kB"


def _check_existing(path: Path, *, force: bool) -> None:
    if not path.exists():
        if path.is_symlink():
            raise OutputError(f"{path} is a link to nothing; take it away, or give another name")
        return
    mode = path.stat().st_mode
    if stat.S_ISDIR(mode):
        raise OutputError(f"{path} is a folder; give the name of a file")
    if not stat.S_ISREG(mode):
        raise OutputError(f"{path} is a pipe or a device, which is never replaced; give the name of a file")
    if not force:
        raise OutputError(f"{path} already exists; choose another name, or overwrite it")


def _check_ending(path: Path, endings: Sequence[str]) -> None:
    ending = path.suffix.lower()
    if endings and ending not in endings:
        raise OutputError(f"{path}: the ending says what is written, here one of {', '.join(filter(None, endings))}")
    if ending == ".parquet" and find_spec("pyarrow") is None:
        raise OutputError(f"{path}: Parquet needs pyarrow; {how_to_install('parquet')}")


@contextmanager
def atomic_write(path: str | Path, *, force: bool = True) -> Iterator[Path]:
    """Yield a temporary path in the same folder, which replaces `path` when the block succeeds.

    After a failure, `path` is unchanged, and the temporary file is removed. Missing parent folders are created.

    Raises OutputError when `path` cannot be written (see `checked_target`), or the disk is full.
    """
    target = checked_target(path, force=force, make_folders=True)
    # The ending stays last: writers choose the format by it. A long name would be too long with more before it.
    beside = target.with_name(f".{target.stem[:40]}.{_process_mark()}-{secrets.token_hex(3)}{target.suffix}")
    _remove_leftovers(target.parent)
    try:
        beside.touch()
        mode = beside.stat().st_mode
        beside.unlink()
        yield beside
        beside.chmod(mode)  # some writers create files that only their owner can read
        beside.replace(target)
    except OutputError:
        raise
    except Exception as error:
        reason = _reason(error, target)
        if not reason:
            raise
        raise OutputError(f"{path} cannot be written: {reason}") from error
    finally:
        with suppress(OSError):  # the folder itself may be the problem, which is reported already
            beside.unlink(missing_ok=True)


def _process_mark() -> str:
    """Return the mark of this process in names of unfinished files: machine and process id.

    Containers may share a folder and a host name, while their process ids are unrelated.
    """
    numbers = os.readlink(NUMBERS) if os.path.islink(NUMBERS) else ""  # noqa: PTH114, PTH115 - of the kernel
    machine = hashlib.sha256(f"{socket.gethostname()} {numbers}".encode()).hexdigest()[:6]
    return f"{machine}-{os.getpid():x}"


@cache  # a folder is searched once
def _remove_leftovers(folder: Path) -> None:
    """Remove unfinished files of processes of this machine that have ended, killed for example."""
    pattern = re.compile(rf"\..*\.{_process_mark().partition('-')[0]}-([0-9a-f]+)-[0-9a-f]{{6}}(\.\w+)?")
    with suppress(OSError):
        for entry in os.scandir(folder):
            found = pattern.fullmatch(entry.name) if entry.name.startswith(".") else None
            if found and not _is_alive(int(found[1], 16)):
                with suppress(OSError):
                    os.unlink(entry.path)  # noqa: PTH108 - of an entry


def _is_alive(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except (OSError, OverflowError):
        return True
    return True


@contextmanager
def temporary_folder() -> Iterator[Path]:
    """Yield a temporary folder, removed after the block; folders of killed processes are removed, too."""
    machine = _process_mark().partition("-")[0]
    for old in Path(tempfile.gettempdir()).glob(f"barn-owl-{machine}-*"):
        number = old.name.split("-")[3]
        if re.fullmatch(r"[0-9a-f]+", number) and not _is_alive(int(number, 16)):
            shutil.rmtree(old, ignore_errors=True)
    with tempfile.TemporaryDirectory(prefix=f"barn-owl-{_process_mark()}-", ignore_cleanup_errors=True) as folder:
        yield Path(folder)


def _reason(error: Exception, target: Path) -> str:
    """Why writing failed, blank where it was something else that did."""
    if isinstance(error, OSError) and error.errno not in (None, errno.ENOSPC):
        return str(error.strerror or error)
    by_writer = type(error).__module__.partition(".")[0] in ("safetensors", "soundfile", "pyarrow")
    if not isinstance(error, OSError) and not by_writer:
        return ""
    with suppress(OSError):
        if getattr(error, "errno", None) == errno.ENOSPC or shutil.disk_usage(target.parent).free < FULL:
            return "no space is left on the disk"
    return str(error) if isinstance(error, OSError) else ""


def write_json(path: str | Path, content: Any, *, indent: int | None = 2) -> None:
    """Write `content` as JSON (UTF-8), whole or not at all; NaN is refused, it is not JSON.

    indent : None for what is long and only machines read; it takes a tenth of the time.
    """
    with atomic_write(path) as beside:
        text = json.dumps(content, indent=indent, ensure_ascii=False, allow_nan=False)
        beside.write_text(text + "\n", encoding="utf-8", errors="backslashreplace")


def claim_folder(path: str | Path, *, force: bool = False) -> Path:
    """Create the folder `path` and return it; an existing folder that is not empty needs `force`.

    Raises OutputError when it is a file, is not empty and `force` is false, or cannot be written.
    """
    path = Path(path)
    try:
        if path.is_symlink() and not path.exists():
            raise OutputError(f"{path} is a link to nothing; take it away, or give another name")
        if path.exists() and not path.is_dir():
            raise OutputError(f"{path} is a file; give the name of a folder")
        if path.is_dir() and not force and any(entry.name != LOCK for entry in path.iterdir()):
            raise OutputError(f"{path} exists and is not empty; choose another name, or write into it")
        path.mkdir(parents=True, exist_ok=True)
    except (OSError, ValueError) as error:
        if isinstance(error, OutputError):
            raise
        raise OutputError(f"{path} cannot be made: {getattr(error, 'strerror', None) or error}") from error
    if not os.access(path, os.W_OK):
        raise OutputError(f"{path} cannot be written: permission denied")
    return path


@contextmanager
def claimed_folder(path: str | Path, *, force: bool = False) -> Iterator[Path]:
    """Claim a folder as `claim_folder` does, and exclude further processes within the block.

    A folder that was created here and is still empty after an error is removed.

    Raises OutputError as `claim_folder`, and when another process has claimed the folder.
    """
    path, existed = Path(path), is_folder(path)
    claim_folder(path, force=force)
    try:
        with exclusive_use(path / LOCK, str(path)):
            claim_folder(path, force=force)  # another process may have finished in it meanwhile
            yield path
    finally:
        if not existed:
            with suppress(OSError):  # not empty
                path.rmdir()


@contextmanager
def exclusive_use(lock: Path, name: str) -> Iterator[None]:
    """Acquire the lock file `lock` within the block; the system frees it when the process dies.

    Raises OutputError, with `name`, when it is locked by a different process.
    """
    from filelock import FileLock, Timeout  # few commands need it

    held = FileLock(lock, timeout=0)
    try:
        held.acquire()
    except Timeout:
        raise OutputError(f"{name} is in use by another process; wait until it ends, or use another name") from None
    except OSError as error:
        raise OutputError(f"{name} cannot be locked: {error.strerror or error}") from error
    try:
        yield
    finally:
        lock.unlink(missing_ok=True)
        held.release()
