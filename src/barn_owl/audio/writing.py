"""Writing sound files."""

import os
from pathlib import Path

import numpy as np
import soundfile

from barn_owl.audio.samples import as_samples
from barn_owl.errors import AudioError
from barn_owl.files import atomic_write

BLOCK = 65_536
"""Samples encoded at a time: some versions of libsndfile crash on large OGG writes."""
USUAL = {".ogg": "VORBIS", ".oga": "VORBIS", ".opus": "OPUS", ".mp3": "MPEG_LAYER_III"}
FORMATS = {".oga": "OGG", ".opus": "OGG", ".aif": "AIFF"}


def write_audio(
    path: str | Path, samples: np.ndarray, rate_hz: int, *, encoding: str | None = None, force: bool = False
) -> None:
    """Write samples to a sound file, whole or not at all; the format follows the ending of the name.

    Parameters
    ----------
    path : str | Path
        File; its ending selects the format.
    samples : np.ndarray
        Shape ``(samples,)`` or ``(samples, channels)``, full scale 1.0; integer encodings clip beyond. Types as for
        `barn_owl.FrontEnd.frames`.
    rate_hz : int
        Sample rate.
    encoding : str | None
        A libsndfile subtype, such as ``PCM_16``, ``PCM_24`` or ``FLOAT``; None for ``PCM_16``, or the default of a
        compressed format.
    force : bool
        Whether an existing file is overwritten.

    Raises
    ------
    AudioError
        For an unknown ending, an encoding the format does not have, or samples of another type or shape.
    OutputError
        If the file cannot be written.

    Examples
    --------
    >>> barn_owl.write_audio("tone.wav", np.sin(np.arange(8000) * 0.2) / 2, 8000)
    >>> barn_owl.audio_info("tone.wav").samples
    8000
    """
    path = Path(path)
    ending = path.suffix.lower()
    format_name, encoding = FORMATS.get(ending, ending[1:].upper()), encoding or USUAL.get(ending, "PCM_16")
    if not soundfile.check_format(format_name, encoding):
        raise AudioError(f"{path}: no sound format for the ending {path.suffix!r} with encoding {encoding}")
    samples = as_samples(samples)
    with atomic_write(path, force=force) as beside:
        try:
            channels = 1 if samples.ndim == 1 else samples.shape[1]
            with soundfile.SoundFile(
                os.fsencode(beside), "w", rate_hz, channels, subtype=encoding, format=format_name
            ) as file:
                for first in range(0, len(samples), BLOCK):
                    file.write(samples[first : first + BLOCK])
        except soundfile.LibsndfileError as error:
            raise OSError(error.error_string) from error
