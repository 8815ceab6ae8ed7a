"""The long recordings in another room: 0.5 s of reverberation, nothing above 4 kHz, 15 dB lower.

usage: rooms.py; writes the recordings of long/ and long2/ to room/, with the same truth
"""

import shutil

import numpy as np
import soundfile as sf
from recorded import DATA, fresh
from scipy.signal import butter, fftconvolve, sosfilt

DECAY_S, DIRECT_DB, TOP_HZ, LOWER_DB = 0.5, 3.0, 4000, 15.0


def response(rate_hz: int, rng: np.random.Generator) -> np.ndarray:
    """Impulse response: the sound itself, and from 5 ms on noise that falls by 60 dB in `DECAY_S`."""
    length = round(DECAY_S * rate_hz)
    tail = rng.standard_normal(length) * 10 ** (-3 * np.arange(length) / length)
    tail *= 10 ** (-DIRECT_DB / 20) / np.sqrt(np.sum(tail**2))
    found = np.concatenate([np.zeros(round(0.005 * rate_hz)), tail])
    found[0] = 1
    return found.astype(np.float32)


def main() -> None:
    folder = fresh("room")
    for path in sorted([*(DATA / "long").glob("*min*"), *(DATA / "long2").glob("*min*")]):
        if path.suffix == ".csv":
            shutil.copy(path, folder / path.name)
            continue
        samples, rate_hz = sf.read(path, dtype="float32")
        heard = fftconvolve(samples, response(rate_hz, np.random.default_rng(5)))[: len(samples)]
        heard = sosfilt(butter(8, TOP_HZ, fs=rate_hz, output="sos"), heard) * 10 ** (-LOWER_DB / 20)
        sf.write(folder / path.name, heard, rate_hz, subtype="PCM_16")
        print(folder / path.name)


if __name__ == "__main__":
    main()
