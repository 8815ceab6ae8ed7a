"""Writing clips as sound files, with a folder per label."""

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd

from barn_owl.audio import Excerpt, audio_info, excerpts, read_audio, write_audio
from barn_owl.clips.table import TableOrPath, as_clip_table, check_clip_table
from barn_owl.errors import AudioError, TableError
from barn_owl.files import check_space, checked_target
from barn_owl.sound import SoundSettings, change_sound

BYTES_A_SAMPLE = 2
MICRO = 6
"""Times are written to the microsecond."""


def label_folder(folder: Path, label: str) -> Path:
    """Safe folder for a label below `folder`.

    Parameters
    ----------
    folder : Path
        Parent folder.
    label : str
        Label.
    """
    name = label.replace("/", "_").replace("\\", "_").strip(". ")
    return folder / (name or "unlabeled")


def write_excerpts(clips: TableOrPath, folder: str | Path, *, force: bool = False) -> pd.DataFrame:
    """Write each excerpt of a clip table as a WAV file, in a folder per label; return their clip table.

    Samples keep the rate of their recording; channels are mixed to mono.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    folder : str | Path
        Folder to write to.
    force : bool
        Whether existing files are overwritten.

    Raises
    ------
    OutputError
        Before anything is written, when a file is there already and `force` is false, or the disk has too
        little left.

    Examples
    --------
    >>> cut = barn_owl.clips.write_excerpts(barn_owl.read_clip_table("truth.csv"), "cut", force=True)
    >>> len(cut)
    4
    """
    clips = as_clip_table(clips, "clips")
    targets = [
        label_folder(Path(folder), label) / f"{Path(file).stem}_{number:04d}.wav"
        for number, (file, label) in enumerate(zip(clips["file"], clips["label"], strict=True))
    ]
    for target in targets:
        checked_target(target, force=force)
    check_space(folder, bytes_of(clips))
    for excerpt, target in zip(_excerpts(clips), targets, strict=True):
        target.parent.mkdir(parents=True, exist_ok=True)
        write_audio(target, *_read(excerpt), force=True)
    begin = clips["start_s"].fillna(0)
    within = {name: clips[name] - begin for name in ("onset_s", "offset_s") if name in clips}
    files = [str(target) for target in targets]
    return check_clip_table(clips.assign(file=files, start_s=np.nan, end_s=np.nan, **within).round(MICRO))


def write_variants(
    clips: TableOrPath,
    folder: str | Path,
    settings: SoundSettings,
    *,
    variants: int,
    background: tuple[str, ...] = (),
    seed: int = 0,
    progress: Callable[[int, int], None] | None = None,
) -> tuple[pd.DataFrame, dict[str, str]]:
    """Write `variants` augmented copies of each clip as WAV files, in a folder per label.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    folder : str | Path
        Folder to write to.
    settings : SoundSettings
        Augmentation of samples.
    variants : int
        Variants per clip.
    background : tuple[str, ...]
        Labels of the clips that are mixed under the rest.
    seed : int
        Seed of all random choices.
    progress : Callable[[int, int], None] | None
        Called with the clips done and in all.

    Returns
    -------
    tuple[pd.DataFrame, dict[str, str]]
        The clip table of the written files, with the column ``changes`` in words, and reasons by skipped clip.

    Raises
    ------
    TableError
        If there are no clips of background.
    """
    clips = as_clip_table(clips, "clips")
    requested, rows, skipped = _excerpts(clips), [], {}
    noises = [requested[row] for row in np.flatnonzero(clips["label"].isin(background))]
    if background and not noises:
        raise TableError(f"no clip is labeled {' or '.join(map(repr, background))}")
    check_space(folder, variants * bytes_of(clips))
    for number, (excerpt, row) in enumerate(zip(requested, clips.to_dict(orient="records"), strict=True)):
        rng = np.random.default_rng([seed, number])
        try:
            samples, rate_hz = _read(excerpt)
            other = _drawn(noises, rate_hz, rng) if noises else None
            for variant in range(1, variants + 1):
                changed, done = change_sound(samples, rate_hz, settings, rng, background=other)
                target = label_folder(Path(folder), row["label"])
                target = target / f"{Path(excerpt.file).stem}_{number:04d}_{variant:02d}.wav"
                target.parent.mkdir(parents=True, exist_ok=True)
                write_audio(target, changed, rate_hz, force=True)
                made = {"file": str(target), "start_s": np.nan, "end_s": np.nan, "changes": ", ".join(done)}
                rows.append({**row, **made})
        except AudioError as error:
            skipped[excerpt.file] = str(error)
        if progress:
            progress(number + 1, len(requested))
    return check_clip_table(pd.DataFrame(rows, columns=[*clips.columns, "changes"])), skipped


def bytes_of(clips: pd.DataFrame) -> int:
    """Return the size of all clips as mono WAV files of 16 bits; unreadable clips count as 0."""
    total = 0.0
    for excerpt in _excerpts(clips):
        try:
            info = audio_info(excerpt.file)
        except AudioError:
            continue
        end_s = info.duration_s if excerpt.end_s is None else excerpt.end_s
        total += (end_s - (excerpt.start_s or 0)) * info.rate_hz * BYTES_A_SAMPLE
    return round(total)


def _excerpts(clips: pd.DataFrame) -> list[Excerpt]:
    return excerpts(clips["file"], clips["start_s"], clips["end_s"])


def _read(excerpt: Excerpt, rate_hz: int | None = None) -> tuple[np.ndarray, int]:
    return read_audio(excerpt.file, start_s=excerpt.start_s, end_s=excerpt.end_s, rate_hz=rate_hz)


def _drawn(noises: list[Excerpt], rate_hz: int, rng: np.random.Generator) -> Callable[[], np.ndarray]:
    """Return the samples of a clip drawn from `noises`, at a rate."""
    return lambda: _read(noises[int(rng.integers(len(noises)))], rate_hz)[0]
