"""Raw samples without a header, read from a pipe."""

import logging
from collections.abc import Callable, Iterator
from typing import BinaryIO, Literal

import numpy as np

from barn_owl.audio.reading import BLOCK, one_channel, silence_invalid
from barn_owl.audio.resampling import resample_blocks
from barn_owl.errors import AudioError

logger = logging.getLogger(__name__)


def _scaled(kind: str, full_scale: float, middle: float = 0.0) -> Callable[[bytes], np.ndarray]:
    def decode(raw: bytes) -> np.ndarray:
        return (np.frombuffer(raw, dtype=kind).astype(np.float32) - np.float32(middle)) / np.float32(full_scale)

    return decode


def _int24(raw: bytes) -> np.ndarray:
    wide = np.zeros((len(raw) // 3, 4), dtype=np.uint8)
    wide[:, 1:] = np.frombuffer(raw, dtype=np.uint8).reshape(-1, 3)
    return wide.view("<i4")[:, 0].astype(np.float32) / np.float32(2**31)


TYPES: dict[str, tuple[int, Callable[[bytes], np.ndarray]]] = {
    "uint8": (1, _scaled("u1", 128, 128)),
    "int16": (2, _scaled("<i2", 2**15)),
    "int24": (3, _int24),
    "int32": (4, _scaled("<i4", 2**31)),
    "float32": (4, _scaled("<f4", 1)),
    "float64": (8, _scaled("<f8", 1)),
}
"""Sample types, little-endian: bytes a sample and how to decode them."""


FILE_MARKS = {b"fLaC": "FLAC", b"RIFF": "WAV", b"OggS": "Ogg", b"ID3": "MP3", b"FORM": "AIFF", b"caff": "CAF"}
"""First bytes of sound files, which are unlikely as samples."""


def stream_raw(
    stream: BinaryIO,
    *,
    from_hz: int,
    sample_type: str = "int16",
    channels: int = 1,
    channel: int | Literal["mix"] = "mix",
    rate_hz: int | None = None,
) -> Iterator[np.ndarray]:
    """Yield raw interleaved little-endian samples from a pipe or file as mono float32 blocks.

    Yields blocks as soon as samples arrive. An incomplete last sample is dropped. Samples that are not finite, or far
    above full scale, become 0, with a warning in the log.

    Parameters
    ----------
    stream : <class BinaryIO>
        Binary stream of interleaved little-endian samples.
    from_hz : int
        The rate of the samples.
    sample_type : str
        ``uint8``, ``int16``, ``int24``, ``int32``, ``float32`` or ``float64``.
    channels : int
        Number of channels.
    channel : Union[int, Literal[mix]]
        Channel to use, from 1. None: mean of all.
    rate_hz : int | None
        The rate to resample to, None to keep it.

    Raises
    ------
    AudioError
        For an unknown type or channel.

    Examples
    --------
    >>> import io
    >>> bytes_of_a_pipe = io.BytesIO(np.zeros(16000, np.int16).tobytes())
    >>> sum(map(len, barn_owl.audio.stream_raw(bytes_of_a_pipe, from_hz=16000)))
    16000
    """
    if sample_type not in TYPES:
        raise AudioError(f"there is no sample type {sample_type!r}; there are {', '.join(TYPES)}")
    if channel != "mix" and not 1 <= channel <= channels:
        raise AudioError(f"there are {channels} channels; there is no channel {channel}")
    yield from resample_blocks(_mono(stream, sample_type, channels, channel), from_hz, rate_hz or from_hz)


def _mono(stream: BinaryIO, sample_type: str, channels: int, channel: int | Literal["mix"]) -> Iterator[np.ndarray]:
    width, decode = TYPES[sample_type]
    size, rest, warned, begins = width * channels, b"", False, True
    # read1 returns available bytes; read would wait for a whole block.
    read = getattr(stream, "read1", stream.read)
    while raw := read(BLOCK * width):
        if begins and (format_name := next((name for mark, name in FILE_MARKS.items() if raw.startswith(mark)), "")):
            raise AudioError(f"the stream is a {format_name} file, not raw samples without a header; decode it first")
        begins, raw = False, rest + raw
        whole = len(raw) // size * size
        rest = raw[whole:]
        if whole:
            block = decode(raw[:whole]).reshape(-1, channels)
            if silence_invalid(block) and not warned:
                warned = True
                logger.warning(
                    "the stream holds samples that are not finite or far above full scale, taken as silence; "
                    "are they really %s?", sample_type,
                )  # fmt: skip
            yield one_channel(block, channel)
