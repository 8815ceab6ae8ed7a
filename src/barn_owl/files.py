"""Files that appear whole or not at all."""

import json
import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from barn_owl.errors import OutputError


@contextmanager
def whole_file(path: str | Path, *, force: bool = True) -> Iterator[Path]:
    """Yield a path beside `path` to write to; it takes the place of `path` when the block succeeds.

    Whatever stops the block, `path` is either as it was before or completely new, and nothing is
    left lying beside it. Missing parent folders are made.

    Raises OutputError when `path` exists and `force` is false, or when it cannot be written.
    """
    path = Path(path)
    if path.is_dir():
        raise OutputError(f"{path} is a folder; give the name of a file")
    if path.exists() and not force:
        raise OutputError(f"{path} exists; choose another name, or say --force to overwrite it")
    # The ending stays last: writers choose the format by it.
    beside = path.with_name(f".{path.stem}.{secrets.token_hex(4)}{path.suffix}")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        beside.touch()
        mode = beside.stat().st_mode
        beside.unlink()
        yield beside
        beside.chmod(mode)  # some writers keep to themselves what they write
        beside.replace(path)
    except OSError as error:
        if isinstance(error, OutputError):
            raise
        raise OutputError(f"{path} cannot be written: {error.strerror or error}") from error
    finally:
        with suppress(OSError):  # the folder itself may be what is wrong, which is told already
            beside.unlink(missing_ok=True)


def write_json(path: str | Path, content: Any, *, indent: int | None = 2) -> None:
    """Write `content` as JSON (UTF-8), whole or not at all; NaN is refused, it is not JSON.

    indent : None for what is long and only machines read; it takes a tenth of the time.
    """
    with whole_file(path) as beside:
        text = json.dumps(content, indent=indent, ensure_ascii=False, allow_nan=False)
        beside.write_text(text + "\n", encoding="utf-8")


def claim_folder(path: str | Path, *, force: bool = False) -> Path:
    """Make the folder `path` and return it; an existing one that is not empty needs `force`.

    Raises OutputError when it is a file, is not empty and `force` is false, or cannot be written.
    """
    path = Path(path)
    if path.exists() and not path.is_dir():
        raise OutputError(f"{path} is a file; give the name of a folder")
    try:
        if path.is_dir() and any(path.iterdir()) and not force:
            raise OutputError(f"{path} exists and is not empty; choose another name, or say --force")
        path.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        if isinstance(error, OutputError):
            raise
        raise OutputError(f"{path} cannot be made: {error.strerror or error}") from error
    if not os.access(path, os.W_OK):
        raise OutputError(f"{path} cannot be written: permission denied")
    return path
