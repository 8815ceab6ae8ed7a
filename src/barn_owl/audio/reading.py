"""Reading sound files: facts, whole files, excerpts, and streams of blocks.

Files and streams share a path, `stream_audio`, so a block stream and a whole file have the same samples.
"""

import logging
import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np
import soundfile

from barn_owl.audio.remote import UNREADABLE_ENDINGS, RemoteFile, opened_elsewhere, place
from barn_owl.audio.resampling import resample_blocks
from barn_owl.audio.samples import mean_of_channels
from barn_owl.errors import AudioError
from barn_owl.files import not_a_file

logger = logging.getLogger(__name__)

BLOCK = 1 << 18
"""Numbers decoded at a time, all channels together: longer calls are better shared between threads."""

MAX_SAMPLE = 1e9
"""Largest sample that is used: far above any recording, and small enough that its power is finite in float32."""

RECOVERY_SAMPLES = 4096
"""Samples decoded at a time where a file is broken."""

WARM_UP = 16 * 1152
"""Samples of an MP3 that are decoded before an excerpt begins."""

Channel = int | Literal["mix", "loudest"]
"""Which channel to take; see `stream_audio`."""

PAST_END_S = 0.05
"""How far an excerpt may run past the end of its file: tables round their times."""


@dataclass(frozen=True, kw_only=True)
class AudioInfo:
    """Facts from the header of a sound file.

    Attributes
    ----------
    path : Path | str
        File.
    rate_hz : int
        Sample rate in Hz.
    channels : int
        Number of channels.
    samples : int
        Samples per channel.
    format : str
        Names of libsndfile.
    subtype : str
        Names of libsndfile.

    Examples
    --------
    >>> info = barn_owl.audio_info("night.wav")
    >>> info.rate_hz, info.channels, info.subtype
    (16000, 1, 'PCM_16')
    """

    path: Path | str
    rate_hz: int
    channels: int
    samples: int
    format: str
    subtype: str

    @property
    def encoding(self) -> str:
        """Format and subtype, as libsndfile names them: ``WAV PCM_24``."""
        return f"{self.format} {self.subtype}"

    @property
    def duration_s(self) -> float:
        """Length in seconds."""
        return self.samples / self.rate_hz


class _ForwardFile(soundfile.SoundFile):
    """A sound file that is read forward.

    soundfile seeks after each read of a seekable file, which takes time and resets MP3 decoders, with a click at
    every block. False turns this off; `seek` still works.
    """

    remote: RemoteFile | None = None

    def __init__(self, file: Any) -> None:
        # As bytes, since file names need not be valid text.
        super().__init__(file if isinstance(file, RemoteFile) else os.fsencode(file))

    def seekable(self) -> bool:
        return False

    def read(self, *arguments: Any, **settings: Any) -> np.ndarray:
        """Read bytes; a failure of a remote file raises an error instead of ending the file."""
        block = super().read(*arguments, **settings)
        if self.remote is not None and self.remote.failed is not None:
            raise self.remote.failed
        return block


@contextmanager
def _opened(path: Path | str, *, all_of_it: bool = False) -> Iterator[soundfile.SoundFile]:
    if isinstance(path, str):
        with opened_elsewhere(path, all_of_it=all_of_it) as remote:
            try:
                file = _ForwardFile(remote)
            except (soundfile.LibsndfileError, OSError, TypeError) as error:
                if remote.failed is not None:
                    raise remote.failed from error
                raise AudioError(f"{path} cannot be read as sound: {_why(error)}") from error
            file.remote = remote
            with file:
                yield file
        return
    why = not_a_file(path)
    if why:
        raise AudioError(f"{path} {why.replace('not a file', 'not a sound file')}")
    if path.stat().st_size == 0:
        raise AudioError(f"{path} is empty (0 bytes)")
    try:
        file = _ForwardFile(path)
    except (soundfile.LibsndfileError, OSError, TypeError) as error:
        convert = path.suffix.lower() in UNREADABLE_ENDINGS
        how = f"; convert it to FLAC or WAV, for example: ffmpeg -i {path.name} {path.stem}.flac" if convert else ""
        raise AudioError(f"{path} cannot be read as sound: {_why(error)}{how}") from error
    with file:
        yield file


def _why(error: Exception) -> str:
    return str(getattr(error, "error_string", error)).rstrip(". ")


def audio_info(path: str | Path) -> AudioInfo:
    """Read the header of a sound file, without decoding it.

    Parameters
    ----------
    path : str | Path
        Sound file or URL.

    Raises
    ------
    AudioError
        If the file is missing, empty or not a sound file that can be decoded.

    Examples
    --------
    >>> info = barn_owl.audio_info("night.wav")
    >>> info.samples / info.rate_hz
    14.0
    """
    path = place(path)
    with _opened(path) as file:
        return AudioInfo(
            path=path,
            rate_hz=file.samplerate,
            channels=file.channels,
            samples=file.frames,
            format=file.format,
            subtype=file.subtype,
        )


def stream_audio(
    path: str | Path,
    *,
    rate_hz: int | None = None,
    start_s: float | None = None,
    end_s: float | None = None,
    channel: Channel = "mix",
    flaws: list[str] | None = None,
) -> Iterator[np.ndarray]:
    """Yield an excerpt of a sound file as mono float32 blocks, shape ``(samples,)``, full scale 1.0.

    Samples that are not finite become 0, and a truncated file is read up to its end; both are logged as warnings.
    Memory does not grow with the file.

    Parameters
    ----------
    path : str | Path
        WAV, FLAC, OGG, MP3, AIFF, CAF and further formats of libsndfile; or a URL that fsspec reads, such as
        ``s3://bucket/night.flac`` (only the needed bytes are fetched).
    rate_hz : int | None
        Resample to this rate; None keeps the file's.
    start_s, end_s : float | None
        The excerpt in seconds; None for the start and the end of the file.
    channel : Channel
        "mix" for the mean of all channels, a number from 1 for a single channel, or "loudest" for the channel with
        the most power in the excerpt, which is then decoded twice.
    flaws : list[str] | None
        A list that faults of the samples are added to, instead of warnings in the log.

    Raises
    ------
    AudioError
        If the file or the excerpt cannot be read at all.

    Examples
    --------
    >>> blocks = list(barn_owl.audio.stream_audio("night.wav", rate_hz=8000))
    >>> sum(map(len, blocks))
    112000
    """
    path = place(path)
    with _opened(path, all_of_it=end_s is None) as file:
        start, end = _excerpt(path, file, start_s, end_s)
        if "data : " in file.extra_info and "(should be" in file.extra_info:  # message of libsndfile
            report_flaws(path, ["holds less sound than its header says; used as far as it goes"], flaws)
        blocks = blocks_of(path, file, start, end, flaws)
        if channel == "loudest":
            power = sum(np.einsum("sc,sc->c", block, block, dtype=np.float64) for block in blocks)
            channel, blocks = int(np.argmax(power)) + 1, blocks_of(path, file, start, end, [])
        if channel != "mix" and not 1 <= channel <= file.channels:
            raise AudioError(f"{path} has {file.channels} channels; there is no channel {channel}")
        mono = (one_channel(block, channel) for block in blocks)
        yield from resample_blocks(mono, file.samplerate, rate_hz or file.samplerate)


def stream_channels(
    path: str | Path, *, start_s: float | None = None, end_s: float | None = None, flaws: list[str] | None = None
) -> Iterator[np.ndarray]:
    """Yield an excerpt as float32 blocks with all its channels, shape ``(samples, channels)``.

    Parameters and errors as for `stream_audio`.
    """
    path = place(path)
    with _opened(path, all_of_it=end_s is None) as file:
        yield from blocks_of(path, file, *_excerpt(path, file, start_s, end_s), flaws)


def read_audio(
    path: str | Path,
    *,
    rate_hz: int | None = None,
    start_s: float | None = None,
    end_s: float | None = None,
    channel: Channel = "mix",
) -> tuple[np.ndarray, int]:
    """Read an excerpt of a sound file; parameters and errors as for `stream_audio`.

    Parameters
    ----------
    path : str | Path
        Sound file or URL.
    rate_hz : int | None
        Rate to resample to; None for that of the file.
    start_s, end_s : float | None
        Excerpt in seconds; None for the start and end of the file.
    channel : Channel
        ``mix``, the number of a channel from 1, or ``loudest``.

    Returns
    -------
    tuple[np.ndarray, int]
        The samples, float32, shape ``(samples,)``, and their rate in hertz.

    Raises
    ------
    AudioError
        If the file cannot be read, or the excerpt is not in it.

    Examples
    --------
    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> samples.dtype, rate_hz
    (dtype('float32'), 16000)
    >>> barn_owl.read_audio("night.wav", rate_hz=8000, start_s=1.0, end_s=2.0)[0].shape
    (8000,)
    """
    rate = rate_hz or audio_info(path).rate_hz
    blocks = list(stream_audio(path, rate_hz=rate, start_s=start_s, end_s=end_s, channel=channel))
    return (np.concatenate(blocks) if blocks else np.empty(0, dtype=np.float32)), rate


def _excerpt(
    path: Path | str, file: soundfile.SoundFile, start_s: float | None, end_s: float | None
) -> tuple[int, int]:
    """First and last-plus-one sample of the excerpt, checked against the file."""
    rate, length = file.samplerate, file.frames
    start = round((start_s or 0.0) * rate)
    end = length if end_s is None else round(end_s * rate)
    if start < 0 or end < start:
        raise AudioError(f"{path}: an excerpt from {start / rate:g} s to {end / rate:g} s is not possible")
    if end > length + PAST_END_S * rate or (start >= length > 0):
        raise AudioError(
            f"{path}: the excerpt {start / rate:g} to {end / rate:g} s runs past the end of the file "
            f"({length / rate:g} s)"
        )
    return start, min(end, length)


def blocks_of(
    path: Path | str, file: soundfile.SoundFile, start: int, end: int, flaws: list[str] | None = None
) -> Iterator[np.ndarray]:
    """Decode samples `start` to `end` in blocks, ``(samples, channels)``; see `silence_invalid`.

    Faults are logged, or added to `flaws`.
    """
    found: list[str] = []
    invalid, position, rate = 0, start, file.samplerate
    try:
        for block in _decoded(file, start, end):
            position += len(block)
            invalid += silence_invalid(block)
            yield block
    except soundfile.LibsndfileError as error:
        if position == start:
            raise AudioError(f"{path} cannot be decoded: {error.error_string.rstrip('. ')}") from error
    if position < end:
        found.append(f"breaks off at {position / rate:.3f} s of {end / rate:.3f} s; used as far as it goes")
    if invalid:
        found.append(f"{invalid} samples are not finite or above {MAX_SAMPLE:g} times full scale; taken as silence")
    report_flaws(path, found, flaws)


def silence_invalid(block: np.ndarray) -> int:
    """Set samples that are not finite or above `MAX_SAMPLE` to 0, in place; return the number of affected rows."""
    if not len(block) or (block.max() <= MAX_SAMPLE and block.min() >= -MAX_SAMPLE):  # NaN compares as false
        return 0
    invalid = ~(np.abs(block) <= MAX_SAMPLE)
    block[invalid] = 0
    return int(invalid.reshape(len(block), -1).any(axis=1).sum())


def _decoded(file: soundfile.SoundFile, start: int, end: int) -> Iterator[np.ndarray]:
    """Blocks of a file as they are, up to where it ends or, with an error, where it is broken."""
    if start or file.tell():
        # An MP3 frame depends on earlier frames, whose samples are dropped.
        warm_up = min(start, WARM_UP) if file.format in ("MP3", "MPEG") else 0
        file.seek(start - warm_up)
        file.read(warm_up, dtype="float32")
    position, most = start, max(BLOCK // file.channels, RECOVERY_SAMPLES)
    while position < end:
        try:
            block = file.read(min(most, end - position), dtype="float32", always_2d=True)
        except soundfile.LibsndfileError:
            if most == RECOVERY_SAMPLES:
                raise
            # All of the block is lost, though much of it may be sound: once more, in small steps.
            file.seek(position)
            most = RECOVERY_SAMPLES
            continue
        if not len(block):
            break
        position += len(block)
        yield block


def report_flaws(path: Path | str, found: list[str], flaws: list[str] | None) -> None:
    """Add faults of a recording to `flaws` or, without it, to the log."""
    if flaws is not None:
        flaws.extend(found)
        return
    for flaw in found:
        logger.warning("%s: %s", path, flaw)


def one_channel(block: np.ndarray, channel: int | Literal["mix"]) -> np.ndarray:
    """Return a channel of a block, ``(samples, channels)``, or the mean of all channels."""
    if channel == "mix" or block.shape[1] == 1:
        return mean_of_channels(block)
    return np.ascontiguousarray(block[:, channel - 1])
