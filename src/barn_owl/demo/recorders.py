"""The recorders of the harbor: positions and frequency responses."""

from dataclasses import dataclass

import numpy as np
import scipy

from barn_owl.audio import resample
from barn_owl.demo.sounds import RATE_HZ


@dataclass(frozen=True, kw_only=True)
class Recorder:
    """A recorder in its place: rate, channels and file format; frequency response, noise, gain and echo."""

    name: str
    rate_hz: int
    ending: str
    channels: int = 1
    low_hz: float = 60.0
    high_hz: float = 12_000.0
    peak_hz: float = 1_000.0
    peak_db: float = 0.0
    hiss_db: float = -62.0
    hum_db: float = -120.0
    gain_db: float = 0.0
    echo_s: float = 0.05
    echo_db: float = -20.0

    def sections(self) -> np.ndarray:
        """The frequency response as second-order sections."""
        edges = [
            scipy.signal.butter(2, self.low_hz, "highpass", fs=RATE_HZ, output="sos"),
            scipy.signal.butter(2, self.high_hz, "lowpass", fs=RATE_HZ, output="sos"),
        ]
        return np.concatenate([*edges, _bell(self.peak_hz, self.peak_db)])


RECORDERS = (
    Recorder(name="boathouse", rate_hz=44_100, ending=".wav", peak_hz=450, peak_db=5, echo_s=0.18, echo_db=-11),
    Recorder(name="breakwater", rate_hz=48_000, ending=".flac", low_hz=120, hiss_db=-52, gain_db=-4),
    Recorder(name="crane", rate_hz=32_000, ending=".wav", peak_hz=2_400, peak_db=6, gain_db=4, hum_db=-52),
    Recorder(
        name="ferry-stairs", rate_hz=22_050, ending=".flac", high_hz=8_500, hiss_db=-58, echo_s=0.1, echo_db=-14
    ),
    Recorder(name="jetty", rate_hz=48_000, ending=".wav", channels=2, peak_hz=180, peak_db=4),
    Recorder(name="mooring", rate_hz=16_000, ending=".flac", high_hz=7_000, low_hz=40, hiss_db=-50, gain_db=-8),
    Recorder(name="pontoon", rate_hz=44_100, ending=".flac", peak_hz=900, peak_db=-5, gain_db=6),
    Recorder(name="wheelhouse", rate_hz=32_000, ending=".wav", high_hz=6_500, peak_hz=700, peak_db=4, echo_db=-9),
)
NIGHT_RECORDER = Recorder(
    name="quay-lamp", rate_hz=32_000, ending=".flac", low_hz=80, peak_hz=1_500, peak_db=3, hiss_db=-56, echo_s=0.07
)


def _bell(hertz: float, gain_db: float) -> np.ndarray:
    """Return a peaking filter of quality 1 as a section: R. Bristow-Johnson, Cookbook formulae for audio EQ."""
    a = 10 ** (gain_db / 40)
    w = 2 * np.pi * hertz / RATE_HZ
    alpha = np.sin(w) / 2
    b = [1 + alpha * a, -2 * np.cos(w), 1 - alpha * a]
    poles = [1 + alpha / a, -2 * np.cos(w), 1 - alpha / a]
    return np.array([[*b, *poles]]) / poles[0]


class Tape:
    """Simulated recorder of sound that arrives block by block."""

    def __init__(self, recorder: Recorder, rng: np.random.Generator) -> None:
        self.recorder, self.rng = recorder, rng
        self._sections = recorder.sections()
        self._state = np.zeros((len(self._sections), 2))
        self._delay = np.zeros(round(recorder.echo_s * RATE_HZ))
        self._position = 0

    def take(self, sound: np.ndarray) -> np.ndarray:
        """Record a block of sound at `RATE_HZ`; float32, the same length."""
        recorder, n = self.recorder, len(sound)
        line = np.concatenate([self._delay, sound])
        recorded = sound + 10 ** (recorder.echo_db / 20) * line[:n]
        self._delay = line[n:]
        recorded, self._state = scipy.signal.sosfilt(self._sections, recorded, zi=self._state)
        hiss = self.rng.standard_normal(n) * 10 ** (recorder.hiss_db / 20)
        recorded = recorded * 10 ** (recorder.gain_db / 20) + hiss
        if recorder.hum_db > -100:
            t = (self._position + np.arange(n)) / RATE_HZ
            recorded += 10 ** (recorder.hum_db / 20) * (
                np.sin(2 * np.pi * 50 * t) + 0.6 * np.sin(2 * np.pi * 150 * t)
            )
        self._position += n
        return np.asarray(recorded, dtype=np.float32)


def record(recorder: Recorder, sound: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Record a whole sound; float32 at the recorder's rate, ``(samples,)`` or ``(samples, 2)``."""
    mono = resample(Tape(recorder, rng).take(sound), RATE_HZ, recorder.rate_hz)
    if recorder.channels == 1:
        return mono
    late = np.concatenate([np.zeros(12, dtype=np.float32), mono[:-12]])  # the second capsule is a hand away
    return np.stack([mono, late * np.float32(0.8)], axis=1)


def at_distance(sound: np.ndarray, rng: np.random.Generator, far: float) -> np.ndarray:
    """Carry a sound over the water: the farther (0 to 1), the duller and the more smeared by reflections."""
    corner = 12_000 * (1 - far) + 1_800 * far
    dull = scipy.signal.sosfilt(scipy.signal.butter(1, corner, fs=RATE_HZ, output="sos"), sound)
    tail_s = 0.06 + 0.5 * far
    tail = rng.standard_normal(round(tail_s * RATE_HZ)) * np.exp(-6 * np.linspace(0, 1, round(tail_s * RATE_HZ)))
    tail *= (0.02 + 0.25 * far) / np.sqrt((tail**2).sum())
    tail[0] += 1
    return np.asarray(scipy.signal.oaconvolve(dull, tail))
