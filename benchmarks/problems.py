"""Synthetic classification problems of different character, each recorded by several recorders that sound different.

knocks : struck things with short resonances, at the start of long, quiet clips.
calls : tones that rise, fall, warble or stand still, at any pitch within two octaves.
machines : noise, colored and pulsed at different speeds, never silent.
words : ten spoken words by several voices, if the system has the speech synthesizer espeak-ng.
"""

import subprocess
import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd
import soundfile
from scipy import signal

from barn_owl.audio import resample
from barn_owl.demo.recorders import RECORDERS, at_distance, record
from barn_owl.demo.sounds import RATE_HZ

Sound = Callable[[np.random.Generator], np.ndarray]
PLACES = RECORDERS[:8]


def _knock(partials: tuple[float, ...], decay_s: float, strikes: int) -> Sound:
    def make(rng: np.random.Generator) -> np.ndarray:
        t = np.arange(round(0.7 * RATE_HZ)) / RATE_HZ
        sound = np.zeros(len(t))
        size, gap = rng.uniform(0.75, 1.33), rng.uniform(0.09, 0.13)
        for strike in range(strikes):
            late = np.maximum(t - strike * gap, 0)
            for number, hertz in enumerate(partials):
                tone = np.sin(2 * np.pi * hertz * size * late * rng.uniform(0.97, 1.03))
                tone *= np.exp(-late / (decay_s * rng.uniform(0.6, 1.6))) * (t >= strike * gap)
                sound += tone * rng.uniform(0.3, 1) / (1 + number)
        tail = np.zeros(round(rng.uniform(1.0, 2.5) * RATE_HZ))
        return np.concatenate([np.zeros(round(rng.uniform(0, 0.2) * RATE_HZ)), sound, tail])

    return make


def _call(bend: Callable[[np.ndarray], np.ndarray], overtones: int) -> Sound:
    def make(rng: np.random.Generator) -> np.ndarray:
        length_s = rng.uniform(0.5, 1.0)
        at = np.linspace(0, 1, round(length_s * RATE_HZ))
        hertz = 350 * 2 ** (rng.uniform(0, 2) + bend(at) * rng.uniform(0.7, 1.3))
        phase = 2 * np.pi * np.cumsum(hertz) / RATE_HZ
        sound = sum(np.sin(k * phase) / k ** rng.uniform(1, 2) for k in range(1, overtones + 1))
        return np.pad(sound * np.sin(np.pi * at) ** 0.5, (0, round(rng.uniform(0, 0.5) * RATE_HZ)))

    return make


def _machine(low_hz: float, high_hz: float, pulses_hz: float, depth: float) -> Sound:
    def make(rng: np.random.Generator) -> np.ndarray:
        t = np.arange(round(rng.uniform(1.0, 3.0) * RATE_HZ)) / RATE_HZ
        edges = np.array([low_hz, high_hz]) * rng.uniform(0.8, 1.25)
        noise = signal.sosfilt(
            signal.butter(2, edges, "bandpass", fs=RATE_HZ, output="sos"), rng.standard_normal(len(t))
        )
        pulse = 1 + depth * signal.sawtooth(2 * np.pi * pulses_hz * rng.uniform(0.85, 1.18) * t + rng.uniform(0, 6))
        return noise * pulse

    return make


def _word(word: str) -> Sound:
    def make(rng: np.random.Generator) -> np.ndarray:
        voice = (
            f"en-{rng.choice(['gb', 'us', 'gb-scotland'])}+{rng.choice(['m1', 'm3', 'm5', 'm7', 'f1', 'f2', 'f4'])}"
        )
        with tempfile.NamedTemporaryFile(suffix=".wav") as file:
            speed, pitch = str(rng.integers(110, 230)), str(rng.integers(15, 85))
            command = ["espeak-ng", "-v", voice, "-s", speed, "-p", pitch, "-w", file.name, word]
            subprocess.run(command, check=True, capture_output=True)
            spoken, rate_hz = soundfile.read(file.name, dtype="float32")
        spoken = resample(spoken, rate_hz, RATE_HZ).astype(np.float64)
        return np.pad(spoken, (round(rng.uniform(0, 0.3) * RATE_HZ), round(rng.uniform(0, 0.6) * RATE_HZ)))

    return make


PROBLEMS: dict[str, dict[str, Sound]] = {
    "knocks": {
        "plank": _knock((210, 480, 790), 0.02, 1),
        "box": _knock((140, 330, 610), 0.05, 1),
        "pipe": _knock((520, 1430, 2790), 0.12, 1),
        "glass": _knock((1900, 3300, 5200), 0.06, 1),
        "two-planks": _knock((210, 480, 790), 0.02, 2),
        "two-pipes": _knock((520, 1430, 2790), 0.10, 2),
    },
    "calls": {
        "rising": _call(lambda at: at, 5),
        "falling": _call(lambda at: -at, 5),
        "steady": _call(lambda at: 0 * at, 5),
        "warbling": _call(lambda at: 0.25 * np.sin(2 * np.pi * 7 * at), 5),
        "arching": _call(lambda at: np.sin(np.pi * at), 5),
        "pure": _call(lambda at: 0 * at, 1),
    },
    "machines": {
        "fan": _machine(150, 2500, 11, 0.25),
        "saw": _machine(900, 6000, 23, 0.6),
        "pump": _machine(100, 900, 3, 0.9),
        "mill": _machine(150, 2500, 6, 0.8),
        "hiss": _machine(900, 6000, 1, 0.1),
        "grinder": _machine(500, 3500, 37, 0.7),
    },
    "words": {
        word: _word(word)
        for word in ["anchor", "bridge", "candle", "harbor", "lantern", "number", "river", "seven", "signal", "water"]
    },
}


def make_problem(name: str, folder: Path, clips: int, *, noisy: bool = False, seed: int = 0) -> pd.DataFrame:
    """Write `clips` WAV files per label and return their clip table; recorders are the groups, two of them the
    test."""
    rng = np.random.default_rng([seed, *name.encode()])
    rows = []
    for label, make in PROBLEMS[name].items():
        for number in range(clips + clips // 3 + 8):
            # The last two recorders are in the test split only, with as many clips as the training split.
            place = PLACES[number % 6] if number < clips else PLACES[6 + number % 2]
            sound = make(rng)
            sound = at_distance(sound / max(np.abs(sound).max(), 1e-9), rng, rng.uniform(0, 0.7 if noisy else 0.3))
            sound *= 0.3 * 10 ** (rng.uniform(-20, 0) / 20)
            if noisy:
                level = np.sqrt((sound**2).max()) * 10 ** (-rng.uniform(8, 26) / 20)
                sound = (
                    sound
                    + level * signal.lfilter([1], [1, -rng.uniform(0, 0.97)], rng.standard_normal(len(sound))) * 0.3
                )
            path = folder / label / f"{place.name}_{number:04d}.wav"
            path.parent.mkdir(parents=True, exist_ok=True)
            soundfile.write(path, record(place, sound, rng), place.rate_hz)
            split = "test" if number >= clips else "validation" if place in PLACES[4:6] else "train"
            rows.append((str(path), np.nan, np.nan, label, place.name, split))
    return pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label", "group", "split"])
