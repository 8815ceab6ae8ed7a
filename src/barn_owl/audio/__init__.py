"""Samples in and out: facts of a file, reading, streaming, writing, resampling."""

from barn_owl.audio.ahead import read_ahead
from barn_owl.audio.reading import AUDIO_ENDINGS, AudioInfo, audio_info, read_audio, stream_audio
from barn_owl.audio.resampling import resample
from barn_owl.audio.writing import write_audio

__all__ = [
    "AUDIO_ENDINGS",
    "AudioInfo",
    "audio_info",
    "read_ahead",
    "read_audio",
    "resample",
    "stream_audio",
    "write_audio",
]
