"""A synthetic archive with a label per recording and no times: its sound in 5 to 20 % of it, distractors in all."""

from pathlib import Path

import numpy as np
import pandas as pd

from barn_owl.audio import resample, write_audio
from barn_owl.demo.sounds import EVENTS, RATE_HZ as MADE_HZ, UNKNOWN, water
from barn_owl.sound.synthetic import synthetic_sound

RATE_HZ = 16_000
KINDS = {**EVENTS, **UNKNOWN}
"""Ten labels."""
MAX_DURATION_S, DISTRACTORS = 4.0, 0.1


def write_archive(folder: Path, count: int, seed: int) -> tuple[pd.DataFrame, pd.DataFrame]:
    """Write `count` recordings of 1 to 3 minutes; return their table, and the truth."""
    folder.mkdir(parents=True, exist_ok=True)
    rng, rows, truth = np.random.default_rng(seed), [], []
    for number in range(count):
        label = list(KINDS)[number % len(KINDS)]
        length = round(rng.uniform(60, 180) * RATE_HZ)
        behind = resample(water(rng, length * MADE_HZ // RATE_HZ).astype(np.float32), MADE_HZ, RATE_HZ)[:length] * 0.1
        samples, free = behind.copy(), np.ones(length, dtype=bool)
        loud = 2 * np.sqrt(np.mean(np.square(behind)))
        path, share = str(folder / f"rec{number:03d}.wav"), rng.uniform(0.05, 0.2)
        used = 0
        while used < share * length:
            sound = resample(KINDS[label](rng).astype(np.float32), MADE_HZ, RATE_HZ)
            at = _put(samples, free, sound, loud, rng)
            used += len(sound)
            if at is not None:
                truth.append(
                    (path, at / RATE_HZ, min(at + len(sound), at + MAX_DURATION_S * RATE_HZ) / RATE_HZ, label)
                )
        used = 0
        while used < max(share, DISTRACTORS) * length:
            sound = synthetic_sound(rng, RATE_HZ).astype(np.float32)
            _put(samples, free, sound, loud, rng)
            used += len(sound)
        write_audio(path, 0.9 * samples / max(1.0, float(np.abs(samples).max())), RATE_HZ, force=True)
        rows.append((path, label))
    columns = ["file", "start_s", "end_s", "label"]
    return pd.DataFrame(rows, columns=["file", "label"]), pd.DataFrame(truth, columns=columns)


def _put(
    samples: np.ndarray, free: np.ndarray, sound: np.ndarray, loud: float, rng: np.random.Generator
) -> int | None:
    """Add a sound at a free place, 8 to 28 dB above its background; None if there is no room."""
    sound = sound[: round(MAX_DURATION_S * RATE_HZ)]
    top = np.sort(np.abs(sound))[-max(1, len(sound) // 20) :].mean() + 1e-9
    for _ in range(20):
        at = int(rng.integers(0, len(samples) - len(sound)))
        if free[at : at + len(sound)].all():
            free[at : at + len(sound)] = False
            samples[at : at + len(sound)] += sound * (loud * 10 ** (rng.uniform(8, 28) / 20) / top)
            return at
    return None
