"""Random augmentation of clips, as set in the plan."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from pydantic import Field, model_validator

from barn_owl.audio.samples import as_mono
from barn_owl.errors import AudioError
from barn_owl.settings import Settings
from barn_owl.sound import changes
from barn_owl.sound.changes import Color


class SoundSettings(Settings):
    """Augmentation of the samples of training clips: the probability of each change, and its range.

    Examples
    --------
    >>> barn_owl.sound.SoundSettings(noise=0.5).noise
    0.5
    """

    renew: float = Field(default=0.03, ge=0, le=1)
    """Share of the training clips that are augmented again in each epoch; the rest keeps its last augmentation."""
    background: float = Field(default=0.0, ge=0, le=1)
    """Probability of mixing in a background clip."""
    noise: float = Field(default=0.0, ge=0, le=1)
    """Probability of adding synthetic noise."""
    colors: list[Color] = Field(default=["white", "pink", "brown", "blue", "violet"], min_length=1)
    """Spectra of that noise."""
    snr_low_db: float = Field(default=5.0, ge=-30, le=60)
    """Lowest signal-to-noise ratio of background and noise."""
    snr_high_db: float = Field(default=30.0, ge=-30, le=60)
    """Highest signal-to-noise ratio of background and noise."""
    gain: float = Field(default=0.0, ge=0, le=1)
    """Probability of a change of gain."""
    gain_db: float = Field(default=10.0, ge=0, le=60)
    """Largest change of gain."""
    shift: float = Field(default=0.0, ge=0, le=1)
    """Probability of a shift in time."""
    shift_s: float = Field(default=0.1, ge=0, le=10)
    """Largest shift in time."""
    speed: float = Field(default=0.0, ge=0, le=1)
    """Probability of a change of speed: pitch and duration together."""
    speed_percent: float = Field(default=10.0, ge=0, le=50)
    """Largest change of speed."""
    pitch: float = Field(default=0.0, ge=0, le=1)
    """Probability of a change of pitch with the same duration."""
    pitch_semitones: float = Field(default=2.0, ge=0, le=12)
    """Largest change of pitch."""
    stretch: float = Field(default=0.0, ge=0, le=1)
    """Probability of a change of duration with the same pitch."""
    stretch_percent: float = Field(default=15.0, ge=0, le=50)
    """Largest change of duration."""
    equalizer: float = Field(default=0.0, ge=0, le=1)
    """Probability of a smooth frequency response."""
    equalizer_db: float = Field(default=6.0, ge=0, le=30)
    """Largest deviation of that response."""
    room: float = Field(default=0.0, ge=0, le=1)
    """Probability of the reverberation of a room."""
    room_m: float = Field(default=6.0, ge=1, le=30)
    """Longest side of that room, in meters."""
    clipping: float = Field(default=0.0, ge=0, le=1)
    """Probability of clipping."""
    clipping_db: float = Field(default=12.0, ge=0, le=40)
    """Largest overdrive."""
    telephone: float = Field(default=0.0, ge=0, le=1)
    """Probability of the band and the 8 bits of a telephone."""

    @model_validator(mode="after")
    def _in_order(self) -> "SoundSettings":
        if self.snr_low_db > self.snr_high_db:
            raise ValueError(f"snr_low_db must be at most snr_high_db={self.snr_high_db:g}, got {self.snr_low_db:g}")
        return self

    @property
    def any(self) -> bool:
        """Whether anything is changed at all."""
        return any(getattr(self, name) > 0 for name in CHANGES)

    @classmethod
    def everything(cls, often: float = 0.3) -> "SoundSettings":
        """All changes, each as often as set.

        Parameters
        ----------
        often : float
            Probability of each change.
        """
        return cls(**dict.fromkeys(CHANGES, often))


@dataclass(frozen=True)
class _Draw:
    """Inputs of an augmentation: sample rate, settings, random generator, and background clips."""

    rate_hz: int
    settings: SoundSettings
    rng: np.random.Generator
    background: Callable[[], np.ndarray] | None

    def between(self, most: float) -> float:
        return float(self.rng.uniform(-most, most))

    def snr_db(self) -> float:
        return float(self.rng.uniform(self.settings.snr_low_db, self.settings.snr_high_db))


def _speed(samples: np.ndarray, draw: _Draw) -> tuple[np.ndarray, str]:
    percent = draw.between(draw.settings.speed_percent)
    return changes.change_speed(samples, 1 + percent / 100), f"speed {percent:+.0f} %"


def _pitch(samples: np.ndarray, draw: _Draw) -> tuple[np.ndarray, str]:
    semitones = draw.between(draw.settings.pitch_semitones)
    return changes.change_pitch(samples, draw.rate_hz, semitones), f"pitch {semitones:+.1f} semitones"


def _stretch(samples: np.ndarray, draw: _Draw) -> tuple[np.ndarray, str]:
    percent = draw.between(draw.settings.stretch_percent)
    return changes.stretch(samples, draw.rate_hz, 1 + percent / 100), f"length {percent:+.0f} %"


def _shift(samples: np.ndarray, draw: _Draw) -> tuple[np.ndarray, str]:
    seconds = draw.between(min(draw.settings.shift_s, len(samples) / draw.rate_hz / 2))
    return changes.shift(samples, round(seconds * draw.rate_hz)), f"shift {1000 * seconds:+.0f} ms"


def _equalizer(samples: np.ndarray, draw: _Draw) -> tuple[np.ndarray, str]:
    return changes.equalize(samples, draw.settings.equalizer_db, draw.rng), "equalizer"


def _room(samples: np.ndarray, draw: _Draw) -> tuple[np.ndarray, str]:
    return changes.echo(samples, draw.rate_hz, draw.settings.room_m, draw.rng), "room"


def _gain(samples: np.ndarray, draw: _Draw) -> tuple[np.ndarray, str]:
    gain_db = draw.between(draw.settings.gain_db)
    return samples * np.float32(10 ** (gain_db / 20)), f"gain {gain_db:+.0f} dB"


def _background(samples: np.ndarray, draw: _Draw) -> tuple[np.ndarray, str]:
    if draw.background is None:
        return samples, ""
    snr_db = draw.snr_db()
    return changes.mix(samples, draw.background(), snr_db), f"background at {snr_db:.0f} dB"


def _noise(samples: np.ndarray, draw: _Draw) -> tuple[np.ndarray, str]:
    snr_db, colors = draw.snr_db(), draw.settings.colors
    color = colors[int(draw.rng.integers(len(colors)))]
    noise = changes.noise(color, len(samples), draw.rng)
    return changes.mix(samples, noise, snr_db), f"{color} at {snr_db:.0f} dB"


def _clipping(samples: np.ndarray, draw: _Draw) -> tuple[np.ndarray, str]:
    by_db = float(draw.rng.uniform(0, draw.settings.clipping_db))
    return changes.overdrive(samples, by_db), f"clipped by {by_db:.0f} dB"


def _telephone(samples: np.ndarray, draw: _Draw) -> tuple[np.ndarray, str]:
    return changes.telephone(samples, draw.rate_hz), "telephone"


CHANGES: dict[str, Callable[[np.ndarray, _Draw], tuple[np.ndarray, str]]] = {
    "speed": _speed, "pitch": _pitch, "stretch": _stretch, "shift": _shift, "equalizer": _equalizer, "room": _room,
    "gain": _gain, "background": _background, "noise": _noise, "clipping": _clipping, "telephone": _telephone,
}  # fmt: skip
"""In the order where they happen between a sound and its file."""


def change_sound(
    samples: np.ndarray,
    rate_hz: int,
    settings: SoundSettings,
    rng: np.random.Generator,
    *,
    background: Callable[[], np.ndarray] | None = None,
) -> tuple[np.ndarray, list[str]]:
    """Augment mono samples at random; return the samples, float32, and a description of the changes.

    Parameters
    ----------
    samples : np.ndarray
        Samples, ``(samples,)`` or ``(samples, channels)``; types as for `barn_owl.FrontEnd.frames`.
    rate_hz : int
        Sample rate in Hz.
    settings : SoundSettings
        Augmentation of samples.
    rng : Generator
        Source of random choices.
    background : Callable[[], np.ndarray] | None
        Returns the samples of a background clip to mix in; None without mixing. The peak is kept within full scale.
        The same generator yields the same augmentation.

    Examples
    --------
    >>> rng, settings = np.random.default_rng(0), barn_owl.sound.SoundSettings(noise=1.0)
    >>> changed, settings_used = barn_owl.sound.change_sound(np.ones(16000, np.float32), 16000, settings, rng)
    >>> changed.shape, len(settings_used)
    ((16000,), 1)
    """
    samples = as_mono(samples)
    if not len(samples):
        raise AudioError("samples must not be empty")
    draw, done = _Draw(rate_hz, settings, rng, background), []
    for name, changed in CHANGES.items():
        if rng.random() < getattr(settings, name):
            samples, words = changed(samples, draw)
            done += [words] if words else []
    peak = float(np.abs(samples).max(initial=0))
    if peak > 1 and done:
        samples = samples / np.float32(peak)
    return samples.astype(np.float32, copy=False), done
