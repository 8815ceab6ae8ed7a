"""Normalization of clips as they are read: channel, level, silence, minimum length. Files are never changed.

Files are never changed.
"""

from typing import Literal

import numpy as np
from pydantic import Field

from barn_owl.audio import Channel, Excerpt, read_audio, remove_silence, set_level
from barn_owl.audio.samples import as_mono
from barn_owl.errors import AudioError
from barn_owl.settings import Settings


class UniformSettings(Settings):
    """How clips are read: channel, level, silence, minimum duration.

    Examples
    --------
    >>> barn_owl.sound.UniformSettings(level="rms", level_db=-25.0).level
    'rms'
    """

    channel: Channel = "mix"
    """Channel: the mean of all ("mix"), the loudest, or a number from 1."""
    level: Literal["kept", "peak", "rms", "loudness"] = "kept"
    """Level that is normalized to `level_db`; "kept" leaves it. Not for tagging: a recording has no single level."""
    level_db: float = Field(default=-20.0, ge=-80, le=0)
    """Target of the normalization, in dB re full scale (LUFS for loudness)."""
    remove_silence: bool = False
    """Whether silent parts are removed. Not for tagging."""
    min_duration_s: float = Field(default=0.0, ge=0)
    """Shorter clips are skipped."""

    @property
    def only_clips(self) -> bool:
        """Whether this looks at a whole clip, which a stream does not have."""
        return self.level != "kept" or self.remove_silence


def read_preprocessed(excerpt: Excerpt, rate_hz: int, settings: UniformSettings) -> np.ndarray:
    """Read an excerpt at a rate as mono, normalized; float32, shape ``(samples,)``.

    Parameters
    ----------
    excerpt : Excerpt
        Excerpt of a file.
    rate_hz : int
        Sample rate in Hz.
    settings : UniformSettings
        Preprocessing of clips.

    Raises
    ------
    AudioError
        If the excerpt cannot be read, is too short or digital silence.
    """
    samples, _ = read_audio(
        excerpt.file, rate_hz=rate_hz, start_s=excerpt.start_s, end_s=excerpt.end_s, channel=settings.channel
    )
    if len(samples) < settings.min_duration_s * rate_hz:
        raise AudioError(
            f"{excerpt.file}: {len(samples) / rate_hz:.3g} s is shorter than "
            f"clips.min_duration_s={settings.min_duration_s:g}"
        )
    if len(samples) and not samples.any():
        raise AudioError(f"{excerpt.file} contains only zeros")
    return preprocess(samples, rate_hz, settings)


def preprocess(samples: np.ndarray, rate_hz: int, settings: UniformSettings) -> np.ndarray:
    """Normalize the level of mono samples and remove silence, as set.

    Parameters
    ----------
    samples : np.ndarray
        Samples, ``(samples,)`` or ``(samples, channels)``; types as for `barn_owl.FrontEnd.frames`.
    rate_hz : int
        Sample rate in Hz.
    settings : UniformSettings
        Preprocessing of clips.

    Examples
    --------
    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> settings = barn_owl.sound.UniformSettings(level="peak", level_db=-6.0)
    >>> round(float(np.abs(barn_owl.sound.preprocess(samples, rate_hz, settings)).max()), 3)
    0.501
    """
    samples = as_mono(samples)
    if settings.remove_silence:
        samples = remove_silence(samples, rate_hz)
    if settings.level != "kept":
        samples = set_level(samples, rate_hz, settings.level_db, measure=settings.level)
    return samples
