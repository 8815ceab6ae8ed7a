"""Collecting recordings from files, folders, tables and URLs; names of their score traces."""

from collections import Counter
from collections.abc import Sequence
from pathlib import Path, PurePath

from barn_owl.audio import AUDIO_ENDINGS
from barn_owl.audio.remote import files_below, is_remote, place, sound_files_below
from barn_owl.clips.any_table import read_any_table
from barn_owl.clips.table import closed_urls
from barn_owl.errors import TableError
from barn_owl.files import is_folder, real_path
from barn_owl.names import as_text


def find_recordings(sources: Sequence[str | Path], *, urls: bool = False) -> list[str]:
    """List the recordings in files, folders (recursively) and tables with a column ``file``, without repeats.

    Files and folders may be URLs that fsspec reads, such as ``s3://bucket/may/``.

    Parameters
    ----------
    sources : Sequence[str | Path]
        Files, folders, tables, URLs.
    urls : bool
        Whether recordings that a table names by URL may be opened; see `barn_owl.read_clip_table`.

    Raises
    ------
    TableError
        If a source does not exist or has no recording.

    Examples
    --------
    >>> barn_owl.find_recordings(["night.wav"])
    ['night.wav']
    """
    found: list[str] = []
    for source in map(place, sources):
        if isinstance(source, str):
            found += _elsewhere(source)
        elif is_folder(source):
            inside = sound_files_below(source)
            if not inside:
                raise TableError(f"{source} holds no sound files ({', '.join(sorted(AUDIO_ENDINGS))})")
            found += map(str, inside)
        elif source.suffix.lower() in (".csv", ".tsv", ".parquet"):
            table = read_any_table(source)
            if "file" not in table:
                raise TableError(f"{source} has no column 'file' that names recordings")
            named = [str(file) if is_remote(file) else str(source.parent / str(file)) for file in table["file"]]
            found += named if urls else closed_urls(named, str(source))
        else:
            found.append(str(source))
    known: dict[str, str] = {}
    for path in map(as_text, found):
        known.setdefault(name_of(path), path)
    return list(known.values())


def _elsewhere(url: str) -> list[str]:
    """List the recordings at a URL: a single file, or all files below a folder."""
    if Path(url).suffix.lower() in AUDIO_ENDINGS:
        return [url]
    inside = [name for name in files_below(url) if Path(name).suffix.lower() in AUDIO_ENDINGS]
    if not inside:
        raise TableError(f"{url} holds no sound files ({', '.join(sorted(AUDIO_ENDINGS))})")
    return inside


def name_of(path: str) -> str:
    """Return the name by which workers open a recording and stores identify it, as text without surrogates."""
    return path if is_remote(path) else as_text(str(real_path(path)))


def trace_files_of(recordings: Sequence[str], folder: str | Path) -> dict[str, Path]:
    """Where the trace of each recording goes: its name, with its folders before it where two share it."""
    parts = {path: PurePath(name_of(path)).with_suffix("").parts for path in recordings}
    shared = Counter(own[-1] for own in parts.values())
    depth = dict.fromkeys(recordings, 1)
    for stem in [stem for stem, count in shared.items() if count > 1]:
        alike = [path for path, own in parts.items() if own[-1] == stem]
        while len({parts[path][-depth[path] :] for path in alike}) < len({parts[path] for path in alike}):
            depth |= {path: depth[path] + 1 for path in alike}
    names = {path: "_".join(parts[path][-depth[path] :]).strip("/") for path in recordings}
    # Recordings of a folder with the same name differ by their endings.
    twice = Counter(names.values())
    return {
        path: Path(folder) / f"{name if twice[name] == 1 else name + PurePath(path).suffix}.npz"
        for path, name in names.items()
    }
