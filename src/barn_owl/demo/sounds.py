"""The sounds of the harbor, synthesized from physical models.

Every function takes a random generator and returns an event: mono, float64, at `RATE_HZ`, peak about 1.
"""

from collections.abc import Callable
from functools import cache

import numpy as np
import scipy

RATE_HZ = 32_000


def _time(seconds: float) -> np.ndarray:
    return np.arange(round(seconds * RATE_HZ)) / RATE_HZ


@cache
def _band(low_hz: float, high_hz: float) -> np.ndarray:
    return np.asarray(scipy.signal.butter(2, [low_hz, high_hz], "bandpass", fs=RATE_HZ, output="sos"))


def _noise(rng: np.random.Generator, samples: int, low_hz: float, high_hz: float) -> np.ndarray:
    """Band of noise with a root mean square near 1."""
    noise = scipy.signal.sosfilt(_band(low_hz, high_hz), rng.standard_normal(samples))
    return np.asarray(noise / (noise.std() + 1e-12))


def _normalized_peak(samples: np.ndarray) -> np.ndarray:
    return np.asarray(samples / (np.abs(samples).max() + 1e-12))


def _add(samples: np.ndarray, at_s: float, piece: np.ndarray) -> None:
    """Add `piece` at a time, as far as it fits."""
    start = round(at_s * RATE_HZ)
    end = min(start + len(piece), len(samples))
    if start < end:
        samples[start:end] += piece[: end - start]


def _ring(
    rng: np.random.Generator, hertz: np.ndarray, decay_s: np.ndarray, level: np.ndarray, length_s: float
) -> np.ndarray:
    """A struck body: a sum of damped modes with random phases."""
    t = _time(length_s)
    out = np.zeros(len(t))
    for f, tau, a in zip(hertz, decay_s, level, strict=True):
        decaying = t[: round(7 * tau * RATE_HZ)]  # 60 dB down after seven decay times
        out[: len(decaying)] += (
            a * np.exp(-decaying / tau) * np.sin(2 * np.pi * f * decaying + rng.uniform(0, 2 * np.pi))
        )
    return out


def _swell(samples: int, attack_s: float, release_s: float) -> np.ndarray:
    """Envelope that rises and falls along half cosines."""
    envelope = np.ones(samples)
    up, down = min(round(attack_s * RATE_HZ), samples // 2), min(round(release_s * RATE_HZ), samples // 2)
    envelope[:up] = 0.5 - 0.5 * np.cos(np.pi * np.arange(up) / up)
    envelope[samples - down :] = 0.5 + 0.5 * np.cos(np.pi * np.arange(down) / down)
    return envelope


def foghorn(rng: np.random.Generator) -> np.ndarray:
    """A reed horn: many harmonics, a slow attack, a pitch that settles, a grunt at times, and echoes."""
    length = rng.uniform(1.4, 3.0)
    t = _time(length)
    settle = 1 - 0.07 * np.exp(-t / rng.uniform(0.1, 0.25))
    droop = 1 - rng.choice([0.0, 0.12]) * np.clip((t - length + 0.5) / 0.5, 0, 1)
    pitch = np.exp(rng.uniform(np.log(95), np.log(190))) * settle * droop
    phase = 2 * np.pi * np.cumsum(pitch) / RATE_HZ
    bell = rng.uniform(350, 750)  # resonance of the horn's bell
    out = np.zeros(len(t))
    for number in range(1, int(3200 / pitch.max()) + 1):
        f = number * pitch.mean()
        level = number**-0.6 * (0.25 + np.exp(-(np.log2(f / bell) ** 2) / 1.2))
        out += level * np.sin(number * phase + rng.uniform(0, 2 * np.pi))
    out *= 1 + 0.1 * _noise(rng, len(t), 4, 30)
    out *= _swell(len(t), rng.uniform(0.12, 0.4), rng.uniform(0.2, 0.5))
    with_echo = np.concatenate([out, np.zeros(round(1.2 * RATE_HZ))])
    dull = scipy.signal.sosfilt(scipy.signal.butter(1, 900, fs=RATE_HZ, output="sos"), out)
    for delay in rng.uniform(0.3, 1.1, size=2):
        _add(with_echo, delay, dull * rng.uniform(0.1, 0.3))
    return _normalized_peak(with_echo)


def bell_buoy(rng: np.random.Generator) -> np.ndarray:
    """A bronze bell on a rocking buoy: inharmonic partials, the highest decaying first, irregular strokes."""
    strokes = rng.integers(1, 5)
    times = np.concatenate([[0.0], np.cumsum(rng.uniform(0.45, 1.1, size=strokes - 1))])
    ratios = np.array([0.5, 1.0, 1.19, 1.5, 2.0, 2.51, 2.66, 3.01, 4.1, 5.4])
    ratios *= 1 + 0.01 * rng.standard_normal(len(ratios))
    strike = rng.uniform(620, 1300)
    decay = rng.uniform(0.5, 1.1) / (0.6 + ratios)
    level = np.array([0.35, 0.8, 0.7, 0.45, 1.0, 0.5, 0.4, 0.5, 0.35, 0.2]) * rng.uniform(0.6, 1.4, len(ratios))
    out = np.zeros(round((times[-1] + 1.3) * RATE_HZ))
    for at in times:
        blow = _ring(rng, ratios * strike, decay, level, 1.5) * rng.uniform(0.4, 1.0)
        _add(out, at, blow)
        click = _noise(rng, round(0.006 * RATE_HZ), 2000, 9000) * np.exp(-_time(0.006) / 0.002)
        _add(out, at, click * 0.5)
    return _normalized_peak(out)


def winch(rng: np.random.Generator) -> np.ndarray:
    """Pawls falling into a ratchet: a train of clicks whose rate rises and falls, over a hum of gears."""
    length = rng.uniform(1.2, 4.0)
    t = _time(length)
    rates = rng.uniform(5, 17, size=3)
    rate = np.interp(t, [0, length / 2, length], rates)
    turns = np.cumsum(rate) / RATE_HZ
    out = np.zeros(len(t))
    hertz = rng.uniform([900, 2100, 320], [2300, 4300, 560])
    for number, at in enumerate(np.interp(np.arange(1, int(turns[-1])), turns, t)):
        level = np.array([1.0, 0.7, 0.6]) * rng.uniform(0.7, 1.1) * (0.7 if number % 2 else 1.0)
        _add(out, at + rng.normal(0, 0.003), _ring(rng, hertz, np.array([0.012, 0.007, 0.016]), level, 0.08))
    hum = sum(np.sin(2 * np.pi * k * np.cumsum(rate * 6) / RATE_HZ) / k for k in range(1, 6))
    return _normalized_peak(out + 0.05 * hum * _swell(len(t), 0.1, 0.1))


def halyard(rng: np.random.Generator) -> np.ndarray:
    """Ropes slapping a hollow mast in gusts: irregular slaps that ring, often with a bounce."""
    length = rng.uniform(1.2, 4.0)
    gap = 1 / rng.uniform(3.0, 9.0)
    times = np.cumsum(gap * rng.gamma(4, 1 / 4, size=int(length / gap * 2) + 4))
    times = times[times < length] - times[0]
    out = np.zeros(round((length + 0.3) * RATE_HZ))
    mast = rng.uniform(480, 1700)
    gust = np.interp(times, np.linspace(0, length, 5), rng.uniform(0.35, 1.0, size=5))
    for at, strength in zip(times, gust, strict=True):
        hertz = mast * np.array([1.0, 2.32, 3.9]) * (1 + 0.01 * rng.standard_normal(3))
        slap = _ring(rng, hertz, rng.uniform(0.012, 0.06) * np.array([1.0, 0.6, 0.4]), np.array([1.0, 0.8, 0.5]), 0.3)
        snap = _noise(rng, round(0.03 * RATE_HZ), 1200, 7000) * np.exp(-_time(0.03) / 0.005)
        _add(slap, 0, 0.35 * snap)
        _add(out, at, slap * strength)
        if rng.random() < 0.4:
            _add(out, at + rng.uniform(0.04, 0.08), slap * strength * 0.4)
    return _normalized_peak(out)


def bilge_pump(rng: np.random.Generator) -> np.ndarray:
    """A brushed motor that spins up, its whine, and water that gurgles overboard."""
    length = rng.uniform(2.0, 5.0)
    t = _time(length)
    speed = rng.uniform(45, 75) * (1 - 0.4 * np.exp(-t / 0.15)) * (1 + 0.02 * _noise(rng, len(t), 0.5, 3))
    phase = 2 * np.pi * np.cumsum(speed) / RATE_HZ
    motor = sum(np.sin(k * phase + rng.uniform(0, 6)) * k**-0.5 * rng.uniform(0.3, 1) for k in range(1, 16))
    whine = np.sin(rng.integers(11, 19) * phase) * rng.uniform(0.3, 1.0)
    gush = _noise(rng, len(t), 350, 2600) * (1 + 0.6 * _noise(rng, len(t), 4, 16))
    out = 0.35 * motor + 0.5 * whine + rng.uniform(0.5, 1.3) * gush
    _add_bubbles(out, rng, per_second=25, level=1.6)
    return _normalized_peak(out * _swell(len(t), 0.12, 0.25))


def hull_knock(rng: np.random.Generator) -> np.ndarray:
    """A hull bumping against a fender or a pile: one to three dull thuds."""
    times = np.cumsum(np.concatenate([[0.0], rng.uniform(0.16, 0.5, size=rng.integers(0, 3))]))
    out = np.zeros(round((times[-1] + 0.4) * RATE_HZ))
    hertz = rng.uniform([65, 180, 330], [140, 320, 620])
    for at in times:
        thud = _ring(rng, hertz, np.array([0.09, 0.05, 0.025]), np.array([1.0, 0.8, 0.5]), 0.4)
        knock = _noise(rng, round(0.04 * RATE_HZ), 150, 1400) * np.exp(-_time(0.04) / 0.008)
        _add(thud, 0, 0.5 * knock)
        _add(out, at, thud * rng.uniform(0.5, 1.0))
    return _normalized_peak(out)


# Unknown sounds use different synthesis methods than the synthetic sounds of training (`sound/synthetic.py`): grains,
# sums of partials, a delay line and summed shocks. With the same methods they would prove nothing.


def gull(rng: np.random.Generator) -> np.ndarray:
    """Unknown: a gull's cries, a cloud of short grains whose pitch rises and falls."""
    cries = rng.integers(2, 5)
    out = np.zeros(round(cries * 0.45 * RATE_HZ))
    top, grain = rng.uniform(1100, 1700), _time(0.012)
    for number in range(cries):
        length = rng.uniform(0.22, 0.38)
        for at in rng.uniform(0, length, size=round(length * 700)):
            pitch = top * np.interp(at / length, np.linspace(0, 1, 4), [0.65, 1.0, 0.95, 0.7])
            pitch *= rng.choice([1, 2, 3], p=[0.6, 0.25, 0.15]) * (1 + 0.02 * rng.standard_normal())
            one = np.sin(2 * np.pi * pitch * grain + rng.uniform(0, 2 * np.pi)) * np.hanning(len(grain))
            _add(out, number * 0.45 + at, one * np.sin(np.pi * min(at / length + 0.05, 1.0)))
    return _normalized_peak(out)


def shout(rng: np.random.Generator) -> np.ndarray:
    """Unknown: a calling voice, a sum of partials with the envelopes of two vowels."""
    t = _time(rng.uniform(0.5, 1.1))
    pitch = rng.uniform(130, 260) * np.interp(t, [0, t[-1] / 3, t[-1]], [0.9, 1.15, 0.8])
    phase = 2 * np.pi * np.cumsum(pitch * (1 + 0.01 * _noise(rng, len(t), 3, 12))) / RATE_HZ
    first, second = rng.uniform([350, 900, 2300], [800, 1800, 2900], size=(2, 3))
    along, out = np.linspace(0, 1, len(t)), np.zeros(len(t))
    for number in range(1, int(4000 / pitch.min())):
        level = np.zeros(len(t))
        for begin, end, width, loud in zip(first, second, (90, 120, 180), (1.0, 0.6, 0.3), strict=True):
            level += loud / (1 + ((number * pitch - begin - (end - begin) * along) / width) ** 2)
        out += level * np.sin(number * phase) / np.sqrt(number)
    return _normalized_peak(out * _swell(len(t), 0.05, 0.15))


def dropped_spanner(rng: np.random.Generator) -> np.ndarray:
    """Unknown: a steel tool on a deck, bouncing ever faster: bursts that run around in a delay line."""
    struck = np.zeros(round(1.2 * RATE_HZ))
    at, gap, level = 0.0, rng.uniform(0.2, 0.3), 1.0
    while gap > 0.02 and at < 0.9:
        _add(struck, at, level * rng.standard_normal(round(0.0015 * RATE_HZ)))
        at, gap, level = at + gap, gap * 0.62, level * 0.7
    delay = round(RATE_HZ / rng.uniform(1100, 1800))
    loop = np.zeros(delay + 2)
    # The mean of two neighbors: high partials die first.
    loop[0], loop[-2], loop[-1] = 1.0, -0.62 * 0.985, -0.38 * 0.985
    return _normalized_peak(scipy.signal.lfilter([1.0, -0.9], loop, struck))


def thunder(rng: np.random.Generator) -> np.ndarray:
    """Unknown: a far roll of thunder, the shocks of many segments of a flash that arrive in sequence."""
    out = np.zeros(round(rng.uniform(2.5, 4.5) * RATE_HZ))
    length_s = len(out) / RATE_HZ
    shock = np.concatenate([np.linspace(1, -1, round(0.006 * RATE_HZ)), np.zeros(8)])
    for at in length_s * rng.beta(1.3, 2.2, size=400) * 0.9:
        far = 1 + 4 * at / length_s
        slow = np.interp(np.arange(0, len(shock), 1 / far), np.arange(len(shock)), shock)  # distance lengthens it
        _add(out, at, slow * rng.exponential(1.0) / far)
    return _normalized_peak(out * _swell(len(out), 0.1, 1.0))


def water(rng: np.random.Generator, samples: int) -> np.ndarray:
    """Water lapping at stone and hulls: rumble, wash that comes and goes, and bubbles; RMS near 1."""
    rumble = _noise(rng, samples, 30, 300)
    wash = _noise(rng, samples, 250, 2500) * np.maximum(0.15, 0.6 + 0.5 * _slow(rng, samples, 0.7))
    spray = _noise(rng, samples, 2500, 12000) * np.maximum(0.1, 0.5 + 0.5 * _slow(rng, samples, 0.4))
    out = 0.7 * rumble + 0.7 * wash + 0.12 * spray
    _add_bubbles(out, rng, per_second=6, level=1.2)
    return np.asarray(out / out.std())


def _slow(rng: np.random.Generator, samples: int, hertz: float) -> np.ndarray:
    """Smooth random curve near unit deviation that wanders about `hertz` times a second."""
    knots = int(samples / RATE_HZ * hertz * 2) + 4
    return np.interp(np.linspace(0, knots - 1, samples), np.arange(knots), rng.standard_normal(knots))


def _add_bubbles(samples: np.ndarray, rng: np.random.Generator, *, per_second: float, level: float) -> None:
    """Add bubbles in place: damped sines whose pitch rises as the bubble nears the surface."""
    length_s = len(samples) / RATE_HZ
    t = _time(0.09)
    for at in rng.uniform(0, length_s, size=rng.poisson(per_second * length_s)):
        f = np.exp(rng.uniform(np.log(350), np.log(2600)))
        phase = 2 * np.pi * f * t * (1 + rng.uniform(0, 2.5) * t)
        _add(samples, at, level * rng.exponential(0.5) * np.exp(-t * f / 28) * np.sin(phase))


EVENTS: dict[str, Callable[[np.random.Generator], np.ndarray]] = {
    "bell-buoy": bell_buoy,
    "bilge-pump": bilge_pump,
    "foghorn": foghorn,
    "halyard": halyard,
    "hull-knock": hull_knock,
    "winch": winch,
}
UNKNOWN: dict[str, Callable[[np.random.Generator], np.ndarray]] = {
    "dropped-spanner": dropped_spanner,
    "gull": gull,
    "shout": shout,
    "thunder": thunder,
}
BACKGROUND = "water"
