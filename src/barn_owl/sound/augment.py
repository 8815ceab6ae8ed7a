"""Random changes to the sound of clips, as the plan asks for them."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from pydantic import Field, model_validator

from barn_owl.settings import Settings
from barn_owl.sound import changes
from barn_owl.sound.changes import Color


class SoundSettings(Settings):
    """Changes made to the samples of training clips: for each how often, 0 (never) to 1 (always), and how far.

    renew : share of the training clips that are changed again in each epoch; the others keep the change they
        have. More costs time, as every change is made from the samples.
    background : other clips mixed in; noise : synthetic noise of one of `colors`; both at a random ratio of signal
        to noise. speed : by up to `speed_percent`, pitch and length together. pitch : by up to
        `pitch_semitones` at the same length. stretch : by up to `stretch_percent` at the same pitch. shift : by
        up to `shift_s`. equalizer : a smooth response of up to `equalizer_db`. room : echoes of a room up to
        `room_m` long. gain : by up to `gain_db`. clipping : by up to `clipping_db`. telephone : its band and 8 bits.

    >>> barn_owl.sound.SoundSettings(noise=0.5).noise
    0.5
    """

    renew: float = Field(default=0.03, ge=0, le=1)
    background: float = Field(default=0.0, ge=0, le=1)
    noise: float = Field(default=0.0, ge=0, le=1)
    colors: list[Color] = Field(default=["white", "pink", "brown", "blue", "violet"], min_length=1)
    snr_low_db: float = Field(default=5.0, ge=-30, le=60)
    snr_high_db: float = Field(default=30.0, ge=-30, le=60)
    gain: float = Field(default=0.0, ge=0, le=1)
    gain_db: float = Field(default=10.0, ge=0, le=60)
    shift: float = Field(default=0.0, ge=0, le=1)
    shift_s: float = Field(default=0.1, ge=0, le=10)
    speed: float = Field(default=0.0, ge=0, le=1)
    speed_percent: float = Field(default=10.0, ge=0, le=50)
    pitch: float = Field(default=0.0, ge=0, le=1)
    pitch_semitones: float = Field(default=2.0, ge=0, le=12)
    stretch: float = Field(default=0.0, ge=0, le=1)
    stretch_percent: float = Field(default=15.0, ge=0, le=50)
    equalizer: float = Field(default=0.0, ge=0, le=1)
    equalizer_db: float = Field(default=6.0, ge=0, le=30)
    room: float = Field(default=0.0, ge=0, le=1)
    room_m: float = Field(default=6.0, ge=1, le=30)
    clipping: float = Field(default=0.0, ge=0, le=1)
    clipping_db: float = Field(default=12.0, ge=0, le=40)
    telephone: float = Field(default=0.0, ge=0, le=1)

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
        """All changes, each as often as said."""
        return cls(**dict.fromkeys(CHANGES, often))


@dataclass(frozen=True)
class _Draw:
    """What a change is drawn with: the sample rate of the sound, the settings, chance, and other clips."""

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
    """Change mono samples at random; return the samples, float32, and what was done, in words.

    background : gives the samples of another clip to mix in; None leaves that out. The peak is kept within
    full scale. The same generator gives the same change.

    >>> rng, settings = np.random.default_rng(0), barn_owl.sound.SoundSettings(noise=1.0)
    >>> changed, said = barn_owl.sound.change_sound(np.ones(16000, np.float32), 16000, settings, rng)
    >>> changed.shape, len(said)
    ((16000,), 1)
    """
    draw, done = _Draw(rate_hz, settings, rng, background), []
    for name, changed in CHANGES.items():
        if rng.random() < getattr(settings, name):
            samples, words = changed(samples, draw)
            done += [words] if words else []
    peak = float(np.abs(samples).max(initial=0))
    if peak > 1 and done:
        samples = samples / np.float32(peak)
    return samples.astype(np.float32, copy=False), done
