"""Making clips alike as they are read: channel, level, silence, least length. Files are never changed."""

from typing import Literal

import numpy as np
from pydantic import Field

from barn_owl.audio import Channel, Excerpt, read_audio, remove_silence, set_level
from barn_owl.errors import AudioError
from barn_owl.settings import Settings


class UniformSettings(Settings):
    """How the samples of clips are made alike.

    channel : "mix" for the mean of all, "loudest", or the number of one, counted from 1.
    level : what is brought to `level_db`: "peak", "rms" or "loudness"; "kept" leaves the level alone. A long
        recording has no level of its own, so a model trained this way says so when it is asked to tag.
    remove_silence : keep only the stretches where something sounds; the same holds for tagging.
    min_duration_s : shorter clips are skipped.

    >>> barn_owl.sound.UniformSettings(level="rms", level_db=-25.0).level
    'rms'
    """

    channel: Channel = "mix"
    level: Literal["kept", "peak", "rms", "loudness"] = "kept"
    level_db: float = Field(default=-20.0, ge=-80, le=0)
    remove_silence: bool = False
    min_duration_s: float = Field(default=0.0, ge=0)

    @property
    def only_clips(self) -> bool:
        """Whether this looks at a whole clip, which a stream does not have."""
        return self.level != "kept" or self.remove_silence


def read_uniform(excerpt: Excerpt, rate_hz: int, settings: UniformSettings) -> np.ndarray:
    """Read an excerpt at a rate, mono, made uniform; float32, shape ``(samples,)``.

    Raises AudioError when it cannot be read, is shorter than allowed or holds nothing but zeros.
    """
    samples, _ = read_audio(
        excerpt.file, rate_hz=rate_hz, start_s=excerpt.start_s, end_s=excerpt.end_s, channel=settings.channel
    )
    if len(samples) < settings.min_duration_s * rate_hz:
        raise AudioError(
            f"{excerpt.file}: {len(samples) / rate_hz:.3g} s is shorter than clips.min_duration_s={settings.min_duration_s:g}"
        )
    if len(samples) and not samples.any():
        raise AudioError(f"{excerpt.file} holds nothing but zeros")
    return make_uniform(samples, rate_hz, settings)


def make_uniform(samples: np.ndarray, rate_hz: int, settings: UniformSettings) -> np.ndarray:
    """Bring mono samples to one level and take out silence, where the settings say so.

    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> settings = barn_owl.sound.UniformSettings(level="peak", level_db=-6.0)
    >>> round(float(np.abs(barn_owl.sound.make_uniform(samples, rate_hz, settings)).max()), 3)
    0.501
    """
    if settings.remove_silence:
        samples = remove_silence(samples, rate_hz)
    if settings.level != "kept":
        samples = set_level(samples, rate_hz, settings.level_db, measure=settings.level)
    return samples
