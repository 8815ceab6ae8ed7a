"""Writing sound files."""

from pathlib import Path

import numpy as np
import soundfile

from barn_owl.errors import AudioError
from barn_owl.files import whole_file


def write_audio(path: str | Path, samples: np.ndarray, rate_hz: int, *, encoding: str = "PCM_16") -> None:
    """Write samples to a sound file, whole or not at all; the format follows the ending of the name.

    samples : shape ``(samples,)`` or ``(samples, channels)``, full scale 1.0; integer encodings clip beyond.
    encoding : a libsndfile subtype, such as ``PCM_16``, ``PCM_24`` or ``FLOAT``.

    Raises AudioError for an unknown ending or an encoding the format does not have, OutputError when
    the file cannot be written.
    """
    path = Path(path)
    format_name = path.suffix[1:].upper()
    if not soundfile.check_format(format_name, encoding):
        raise AudioError(f"{path}: no sound format for the ending {path.suffix!r} with encoding {encoding}")
    with whole_file(path) as beside:
        try:
            soundfile.write(beside, samples, rate_hz, subtype=encoding, format=format_name)
        except soundfile.LibsndfileError as error:
            raise OSError(error.error_string) from error
