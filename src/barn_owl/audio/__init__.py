"""Samples in and out: facts of a file, reading, streaming, writing, resampling, level, loudness, silence."""

from barn_owl.audio.ahead import read_ahead
from barn_owl.audio.facts import FileFacts, facts_table, file_facts
from barn_owl.audio.loudness import integrated_loudness
from barn_owl.audio.raw import stream_raw
from barn_owl.audio.reading import AUDIO_ENDINGS, AudioInfo, Channel, audio_info, read_audio, stream_audio
from barn_owl.audio.resampling import resample
from barn_owl.audio.silence import Gate, find_activity, remove_silence, set_level
from barn_owl.audio.writing import write_audio

__all__ = [
    "AUDIO_ENDINGS",
    "AudioInfo",
    "Channel",
    "FileFacts",
    "Gate",
    "audio_info",
    "facts_table",
    "file_facts",
    "find_activity",
    "integrated_loudness",
    "read_ahead",
    "read_audio",
    "remove_silence",
    "resample",
    "set_level",
    "stream_audio",
    "stream_raw",
    "write_audio",
]
