"""Which recordings a run was trained on."""

import csv
import tomllib
from collections.abc import Iterable
from pathlib import Path

from barn_owl.audio import sound_files_below
from barn_owl.errors import ModelError
from barn_owl.files import is_file, is_folder, real_path


def learned_from(run: str | Path, files: Iterable[str]) -> list[str]:
    """Return the files that a run was trained on: as its recordings, or cut into its clips.

    Parameters
    ----------
    run : str | Path
        Folder of a run, or its model file.
    files : Iterable[str]
        Recordings.

    Raises
    ------
    ModelError
        If a file of the run is damaged.

    Examples
    --------
    >>> barn_owl.model.learned_from("first", ["night.wav"])
    []
    """
    folder = Path(run) if is_folder(run) else Path(run).parent
    if not is_file(folder / "clips.csv") or not is_file(folder / "plan.toml"):
        return []
    # Without a table library: tagging runs in little memory.
    try:
        with (folder / "clips.csv").open(encoding="utf-8", newline="") as table:
            known = {real_path(folder / row["file"]) for row in csv.DictReader(table) if row["split"] != "test"}
        recordings = tomllib.loads((folder / "plan.toml").read_text("utf-8")).get("recordings", [])
    except (OSError, ValueError, KeyError, csv.Error) as error:
        raise ModelError(f"clips.csv or plan.toml of {folder} is damaged: {error}") from error
    for recording in recordings:
        known.add(real_path(recording))
        if is_folder(recording):
            known |= {real_path(path) for path in sound_files_below(recording)}
    return [file for file in files if real_path(file) in known]
