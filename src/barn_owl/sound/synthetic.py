"""Synthetic sounds that belong to no label: negative examples for unknown sounds.

Each is drawn from a wide range (gliding tones, pulses through resonances, bands of noise, struck bodies,
sweeps, rough motors, crackle), so that together they cover the space around the labels.
"""

import numpy as np
import scipy

MIN_DURATION_S, MAX_DURATION_S = 0.06, 3.0
TOGETHER = 0.25
"""Share of sounds that are two at once."""


def synthetic_sound(rng: np.random.Generator, rate_hz: int) -> np.ndarray:
    """Synthesize a random sound of 0.06 to 3 s, float32 ``(samples,)``, peak 1.

    Parameters
    ----------
    rng : Generator
        Source of random choices.
    rate_hz : int
        Sample rate in Hz.
    """
    seconds = float(np.exp(rng.uniform(np.log(MIN_DURATION_S), np.log(MAX_DURATION_S))))
    sound = _one(rng, rate_hz, seconds)
    if rng.random() < TOGETHER:
        other = _one(rng, rate_hz, seconds)
        sound = sound + rng.uniform(0.2, 1) * other
    return np.asarray(sound / max(float(np.abs(sound).max()), 1e-9), dtype=np.float32)


def _one(rng: np.random.Generator, rate_hz: int, seconds: float) -> np.ndarray:
    kinds = _glide, _voice, _noise_band, _struck, _sweeps, _rough, _crackle
    t = np.arange(max(round(seconds * rate_hz), 64)) / rate_hz
    sound = kinds[int(rng.integers(len(kinds)))](rng, t, rate_hz) * _envelope(rng, len(t))
    return np.asarray(sound / max(float(np.sqrt(np.mean(sound**2))), 1e-9))


def _frequency(rng: np.random.Generator, rate_hz: int, low: float = 80.0, share: float = 0.45) -> float:
    high = share * rate_hz
    return float(np.exp(rng.uniform(np.log(min(low, high / 2)), np.log(high))))


def _envelope(rng: np.random.Generator, length: int) -> np.ndarray:
    """Return an envelope: struck, swelling, steady or in pieces."""
    rise = max(2, round(length * rng.choice([0.005, 0.05, 0.3]) * rng.uniform(0.5, 1.5)))
    shape = np.minimum(1.0, np.arange(length) / rise)
    kind = rng.random()
    if kind < 0.4:
        shape = shape * np.exp(-np.arange(length) / (length * rng.uniform(0.08, 0.5)))
    elif kind < 0.6:
        pieces = np.repeat(rng.random(int(rng.integers(2, 7))) > 0.35, -(-length // 2))[:length].astype(float)
        smooth = max(3, length // 60)
        shape = shape * np.convolve(np.resize(pieces, length), np.ones(smooth) / smooth, mode="same")
        shape[0] = max(shape[0], 1e-3)
    fall = max(2, round(0.02 * length))
    shape[-fall:] *= np.linspace(1, 0, fall)
    return np.asarray(shape + 1e-6)


def _wander(rng: np.random.Generator, t: np.ndarray, start: float, octaves: float) -> np.ndarray:
    """Frequency in hertz over time: a glide with a tremble on it."""
    along = np.linspace(0, 1, len(t)) ** rng.uniform(0.5, 2)
    tremble = rng.choice([0, 0.03, 0.1]) * np.sin(2 * np.pi * rng.uniform(3, 12) * t + rng.uniform(0, 6))
    return np.asarray(start * 2 ** (octaves * along + tremble))


def _glide(rng: np.random.Generator, t: np.ndarray, rate_hz: int) -> np.ndarray:
    """A tone with overtones that glides."""
    frequency = _wander(rng, t, _frequency(rng, rate_hz, share=0.25), rng.uniform(-1, 1) * rng.choice([0.05, 1.0]))
    phase = 2 * np.pi * np.cumsum(frequency) / rate_hz
    count, slope = int(rng.integers(1, 9)), rng.uniform(0.3, 2)
    tones = [
        np.sin(k * phase + rng.uniform(0, 6)) / k**slope * (k * frequency < 0.48 * rate_hz)
        for k in range(1, count + 1)
    ]
    return np.sum(tones, axis=0)


def _voice(rng: np.random.Generator, t: np.ndarray, rate_hz: int) -> np.ndarray:
    """Pulses through a few resonances, as in throats and tubes."""
    frequency = _wander(rng, t, float(np.exp(rng.uniform(np.log(70), np.log(600)))), rng.uniform(-0.7, 0.7))
    phase = np.cumsum(frequency) / rate_hz
    pulses = (np.diff(np.floor(phase), prepend=0) > 0).astype(float) + 0.02 * rng.standard_normal(len(t))
    sound = np.zeros(len(t))
    for _ in range(int(rng.integers(2, 5))):
        center = _frequency(rng, rate_hz, 250, 0.4)
        b, a = scipy.signal.iirpeak(center, rng.uniform(3, 15), fs=rate_hz)
        sound += rng.uniform(0.2, 1) * scipy.signal.lfilter(b, a, pulses)
    return sound


def _noise_band(rng: np.random.Generator, t: np.ndarray, rate_hz: int) -> np.ndarray:
    """A band of noise, from a whistle of wind to a hiss."""
    low = _frequency(rng, rate_hz, 30, 0.35)
    high = min(low * 2 ** rng.uniform(0.2, 4), 0.48 * rate_hz)
    band = scipy.signal.butter(2, [low, max(high, 1.05 * low)], "bandpass", fs=rate_hz, output="sos")
    return np.asarray(scipy.signal.sosfilt(band, rng.standard_normal(len(t))))


def _struck(rng: np.random.Generator, t: np.ndarray, rate_hz: int) -> np.ndarray:
    """A body of many modes, struck once or several times."""
    frequencies = [_frequency(rng, rate_hz) for _ in range(int(rng.integers(2, 14)))]
    decays = [np.exp(rng.uniform(np.log(0.008), np.log(0.6))) for _ in frequencies]
    one = sum(
        rng.uniform(0.1, 1) * np.sin(2 * np.pi * f * t + rng.uniform(0, 6)) * np.exp(-t / d)
        for f, d in zip(frequencies, decays, strict=True)
    ) + rng.uniform(0, 2) * rng.standard_normal(len(t)) * np.exp(-t / 0.004)
    sound, at = np.zeros(len(t)), 0
    for _ in range(int(rng.choice([1, 1, 2, 3, 5]))):
        sound[at:] += rng.uniform(0.4, 1) * one[: len(t) - at]
        at += round(len(t) * rng.uniform(0.08, 0.4))
        if at >= len(t):
            break
    return sound


def _sweeps(rng: np.random.Generator, t: np.ndarray, rate_hz: int) -> np.ndarray:
    """The same sweep over and over, pure or with overtones, as birds and alarms do."""
    count = int(rng.integers(1, 8))
    along = (np.linspace(0, count, len(t)) % 1) ** rng.uniform(0.5, 2)
    frequency = np.minimum(_frequency(rng, rate_hz, 300, 0.2) * 2 ** (rng.uniform(-1.5, 1.5) * along), 0.45 * rate_hz)
    phase = 2 * np.pi * np.cumsum(frequency) / rate_hz
    overtones, slope = range(1, int(rng.integers(1, 8)) + 1), rng.uniform(0.2, 2)
    tone = np.sum([np.sin(k * phase) / k**slope * (k * frequency < 0.48 * rate_hz) for k in overtones], axis=0)
    gate = (np.linspace(0, count, len(t)) % 1) < rng.uniform(0.4, 1)
    return np.asarray(np.tanh(rng.uniform(0.5, 4) * tone) * gate + 1e-4 * rng.standard_normal(len(t)))


def _rough(rng: np.random.Generator, t: np.ndarray, rate_hz: int) -> np.ndarray:
    """A motor: a buzz whose loudness shakes, with noise in it."""
    frequency = _wander(rng, t, rng.uniform(30, 250), rng.uniform(-0.5, 0.5))
    buzz = scipy.signal.sawtooth(2 * np.pi * np.cumsum(frequency) / rate_hz) + rng.uniform(
        0, 1
    ) * rng.standard_normal(len(t))
    shake = 1 + rng.uniform(0, 1) * np.sin(2 * np.pi * rng.uniform(4, 40) * t)
    low = _frequency(rng, rate_hz, 60, 0.2)
    band = scipy.signal.butter(
        1, [low, min(low * 2 ** rng.uniform(1, 5), 0.48 * rate_hz)], "bandpass", fs=rate_hz, output="sos"
    )
    return np.asarray(scipy.signal.sosfilt(band, buzz * shake))


def _crackle(rng: np.random.Generator, t: np.ndarray, rate_hz: int) -> np.ndarray:
    """Return clicks at irregular times, through a resonance."""
    clicks = rng.standard_normal(len(t)) * (rng.random(len(t)) < rng.uniform(5, 150) / rate_hz)
    clicks[int(rng.integers(len(t)))] += 1
    b, a = scipy.signal.iirpeak(_frequency(rng, rate_hz, 200, 0.4), rng.uniform(1, 8), fs=rate_hz)
    return np.asarray(scipy.signal.lfilter(b, a, clicks) + 1e-4 * rng.standard_normal(len(t)))


def unknown_sound(rng: np.random.Generator, rate_hz: int) -> np.ndarray:
    """Synthesize a sound by different recipes than `synthetic_sound`, to test the rejection of unknown sounds.

    Frequency modulation, noise through combs, chopped noise, and clusters of short chirps; 0.1 to 2 s, float32
    ``(samples,)``, peak 1.

    Parameters
    ----------
    rng : Generator
        Source of random choices.
    rate_hz : int
        Sample rate in Hz.
    """
    seconds = float(np.exp(rng.uniform(np.log(0.1), np.log(2.0))))
    t = np.arange(max(round(seconds * rate_hz), 64)) / rate_hz
    kind = int(rng.integers(4))
    if kind == 0:  # frequency modulation: bells, brass and animals
        carrier, ratio = _frequency(rng, rate_hz, 100, 0.15), rng.choice([0.5, 1.0, 1.41, 2.0, 3.5])
        depth = rng.uniform(0.5, 8) * np.exp(-t / rng.uniform(0.05, 1.5))
        sound = np.sin(2 * np.pi * carrier * t + depth * np.sin(2 * np.pi * carrier * ratio * t))
    elif kind == 1:  # noise in a tube
        delay = max(2, round(rate_hz / _frequency(rng, rate_hz, 80, 0.1)))
        feedback = np.zeros(delay + 1)
        feedback[0], feedback[-1] = 1, -rng.uniform(0.6, 0.97)
        sound = scipy.signal.lfilter(
            [1.0], feedback, rng.standard_normal(len(t)) * np.exp(-t / rng.uniform(0.02, 0.8))
        )
    elif kind == 2:  # noise cut into pieces, faster and faster or slower
        pieces = 2 * np.pi * np.cumsum(np.linspace(rng.uniform(3, 30), rng.uniform(3, 30), len(t))) / rate_hz
        b, a = scipy.signal.butter(1, min(_frequency(rng, rate_hz, 200, 0.3), 0.45 * rate_hz), fs=rate_hz)
        sound = scipy.signal.lfilter(b, a, rng.standard_normal(len(t))) * (np.sin(pieces) > rng.uniform(-0.5, 0.8))
    else:  # a flock of chirps
        sound = np.zeros(len(t))
        for _ in range(int(rng.integers(2, 12))):
            start, length = int(rng.integers(len(t))), round(rng.uniform(0.01, 0.12) * rate_hz)
            along = np.arange(min(length, len(t) - start)) / rate_hz
            begin, end = (_frequency(rng, rate_hz, 300, 0.4) for _ in range(2))
            chirp = np.sin(2 * np.pi * (begin * along + (end - begin) * along**2 / 2 * rate_hz / length))
            sound[start : start + len(along)] += rng.uniform(0.2, 1) * chirp * np.hanning(len(along) + 2)[1:-1]
    sound = sound * np.minimum(1, np.arange(len(t))[::-1] / (0.02 * rate_hz)) + 1e-9
    return np.asarray(sound / np.abs(sound).max(), dtype=np.float32)
