"""Random changes to the sound of clips, as the plan asks for them."""

from collections.abc import Callable

import numpy as np
from pydantic import Field, model_validator

from barn_owl.settings import Settings
from barn_owl.sound import changes
from barn_owl.sound.changes import Colour


class SoundSettings(Settings):
    """Changes made to the samples of training clips: for each how often, 0 (never) to 1 (always), and how far.

    renew : share of the training clips that are changed anew in each epoch; the others keep the change they
        have. More costs time, as every change is made from the samples.
    background : other clips mixed in; noise : made-up noise of one of `colours`; both at a random ratio of signal
        to noise. speed : by up to `speed_percent`, pitch and length together. pitch : by up to
        `pitch_semitones` at the same length. stretch : by up to `stretch_percent` at the same pitch. shift : by
        up to `shift_s`. equaliser : a smooth response of up to `equaliser_db`. room : echoes of a room up to
        `room_m` long. gain : by up to `gain_db`. clipping : by up to `clipping_db`. telephone : its band and 8 bits.

    >>> barn_owl.SoundSettings(noise=0.5).noise
    0.5
    """

    renew: float = Field(default=0.03, ge=0, le=1)
    background: float = Field(default=0.0, ge=0, le=1)
    noise: float = Field(default=0.0, ge=0, le=1)
    colours: list[Colour] = Field(default=["white", "pink", "brown", "blue", "violet"], min_length=1)
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
    equaliser: float = Field(default=0.0, ge=0, le=1)
    equaliser_db: float = Field(default=6.0, ge=0, le=30)
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


CHANGES = (
    "speed", "pitch", "stretch", "shift", "equaliser", "room", "gain", "background", "noise", "clipping", "telephone",
)  # fmt: skip
"""In the order in which they happen between a sound and its file."""


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

    >>> rng, settings = np.random.default_rng(0), barn_owl.SoundSettings(noise=1.0)
    >>> changed, said = barn_owl.change_sound(np.ones(16000, np.float32), 16000, settings, rng)
    >>> changed.shape, len(said)
    ((16000,), 1)
    """
    done: list[str] = []
    for name in CHANGES:
        happens = rng.random() < getattr(settings, name)
        if happens and (name != "background" or background is not None):
            samples, words = _changed(name, samples, rate_hz, settings, rng, background)
            done.append(words)
    peak = float(np.abs(samples).max(initial=0))
    if peak > 1 and done:
        samples = samples / np.float32(peak)
    return samples.astype(np.float32, copy=False), done


def _changed(  # noqa: C901 - one branch a change, each a line or two
    name: str,
    samples: np.ndarray,
    rate_hz: int,
    settings: SoundSettings,
    rng: np.random.Generator,
    background: Callable[[], np.ndarray] | None,
) -> tuple[np.ndarray, str]:
    def between(reach: float) -> float:
        return float(rng.uniform(-reach, reach))

    if name == "speed":
        percent = between(settings.speed_percent)
        return changes.change_speed(samples, 1 + percent / 100), f"speed {percent:+.0f} %"
    if name == "pitch":
        semitones = between(settings.pitch_semitones)
        return changes.change_pitch(samples, rate_hz, semitones), f"pitch {semitones:+.1f} semitones"
    if name == "stretch":
        percent = between(settings.stretch_percent)
        return changes.stretch(samples, rate_hz, 1 + percent / 100), f"length {percent:+.0f} %"
    if name == "shift":
        seconds = between(min(settings.shift_s, len(samples) / rate_hz / 2))
        return changes.shift(samples, round(seconds * rate_hz)), f"shift {1000 * seconds:+.0f} ms"
    if name == "equaliser":
        return changes.equalise(samples, settings.equaliser_db, rng), "equaliser"
    if name == "room":
        return changes.echo(samples, rate_hz, settings.room_m, rng), "room"
    if name == "gain":
        gain_db = between(settings.gain_db)
        return samples * np.float32(10 ** (gain_db / 20)), f"gain {gain_db:+.0f} dB"
    if name in ("background", "noise"):
        snr_db = float(rng.uniform(settings.snr_low_db, settings.snr_high_db))
        if name == "background" and background is not None:
            return changes.mix(samples, background(), snr_db), f"background at {snr_db:.0f} dB"
        colour = settings.colours[int(rng.integers(len(settings.colours)))]
        return changes.mix(samples, changes.noise(colour, len(samples), rng), snr_db), f"{colour} at {snr_db:.0f} dB"
    if name == "clipping":
        by_db = float(rng.uniform(0, settings.clipping_db))
        return changes.overdrive(samples, by_db), f"clipped by {by_db:.0f} dB"
    return changes.telephone(samples, rate_hz), "telephone"
