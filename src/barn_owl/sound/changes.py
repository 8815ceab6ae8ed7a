"""Changes to clips that keep their label: speed, pitch, noise, rooms, filters.

Each takes mono samples, float32, shape ``(samples,)``, and returns the same shape; random numbers come from the
generator argument.
"""

from typing import Literal

import numpy as np
import scipy

from barn_owl.audio import resample

SOUND_SPEED = 343.0
COLORS = {"white": 0.0, "pink": -1.0, "brown": -2.0, "blue": 1.0, "violet": 2.0}
"""Exponent of frequency in the power spectrum of each color of noise."""
Color = Literal["white", "pink", "brown", "blue", "violet"]
STRETCH_WINDOW_S, STRETCH_OVERLAP = 0.064, 4
"""Long enough for two periods of a deep tone; four windows over each moment, so that their seams are inaudible."""
SILENT = np.float32(1e-35)
MU = 255.0
"""Of the companding law of telephony (ITU-T G.711)."""
TELEPHONE_HZ = 8_000
"""Rate of telephony."""


def noise(color: str, samples: int, rng: np.random.Generator) -> np.ndarray:
    """Return colored noise with a root mean square of 1, flat below a thousandth of the rate."""
    length = scipy.fft.next_fast_len(samples, real=True)
    spectrum = scipy.fft.rfft(rng.standard_normal(length, dtype=np.float32))
    shape = np.maximum(np.arange(len(spectrum)), max(1, len(spectrum) // 1000)) ** (COLORS[color] / 2)
    shaped = scipy.fft.irfft(spectrum * shape.astype(np.float32), length)[:samples]
    return shaped / np.float32(max(float(np.sqrt(np.mean(np.square(shaped)))), 1e-12))


def mix(samples: np.ndarray, other: np.ndarray, snr_db: float) -> np.ndarray:
    """Add another sound, repeated or cut to the same length, `snr_db` below the mean power of the first."""
    other = np.resize(other, len(samples))
    power, added = float(np.mean(np.square(samples))), float(np.mean(np.square(other)))
    if power <= 0 or added <= 0:
        return samples
    return samples + other * np.float32(np.sqrt(power / added) * 10 ** (-snr_db / 20))


def shift(samples: np.ndarray, by: int) -> np.ndarray:
    """Move the sound by some samples, later for more than 0, padded with silence."""
    moved = np.zeros_like(samples)
    if by >= 0:
        moved[by:] = samples[: len(samples) - by]
    else:
        moved[:by] = samples[-by:]
    return moved


def change_speed(samples: np.ndarray, factor: float) -> np.ndarray:
    """Play faster by `factor`: shorter and higher, as a tape would."""
    return resample(samples, round(100_000 * factor), 100_000)


def stretch(samples: np.ndarray, rate_hz: int, factor: float) -> np.ndarray:
    """Stretch the sound by `factor` at the same pitch, by a phase vocoder with locked phases.

    Sources: Flanagan and Golden, Bell Syst. Tech. J. 45, 1966; peaks lead their neighbors as in Laroche and
    Dolson, IEEE Trans. Speech Audio Process. 7(3), 1999.
    """
    size = scipy.fft.next_fast_len(max(64, round(STRETCH_WINDOW_S * rate_hz)), real=True)
    size += size % 2
    out_hop = size // STRETCH_OVERLAP
    in_hop = out_hop / factor
    if len(samples) < size:
        return resample(samples, round(100_000 / factor), 100_000)  # too short for a pitch
    window = np.sin(np.pi * np.arange(size) / size).astype(np.float32) ** 2
    padded = np.pad(samples, size)
    starts = np.round(np.arange(0, len(padded) - size - out_hop, in_hop)).astype(int)
    view = np.lib.stride_tricks.sliding_window_view(padded, size)
    spectra = scipy.fft.rfft(view[starts] * window, axis=1)
    later = scipy.fft.rfft(view[starts + out_hop] * window, axis=1)
    frames = scipy.fft.irfft(_locked(spectra, later), size, axis=1) * window
    out = np.zeros(out_hop * (len(frames) - 1) + size, dtype=np.float32)
    weight = np.zeros_like(out)
    square = window * window
    for number, frame in enumerate(frames):
        part = slice(number * out_hop, number * out_hop + size)
        out[part] += frame
        weight[part] += square
    out /= np.maximum(weight, np.float32(1e-3))
    begin, length = round(size * factor), round(len(samples) * factor)
    return np.pad(out[begin : begin + length], (0, max(0, length - len(out[begin:]))))


def _locked(spectra: np.ndarray, later: np.ndarray) -> np.ndarray:
    """Return spectra of the output frames: phases of peaks advance by their frequency, adjacent bins keep their phase
    relative to the peak.

    spectra : of the input frames; later : of the frames one output hop after each; ``(frames, bins)``.
    """
    is_peak, nearest = _peaks(np.abs(spectra))
    # By how much each bin must be turned against the frame before, as a complex number of length 1.
    step = later[:-1] * spectra[1:].conj()
    length = np.abs(step)
    audible = length > SILENT
    length[~audible] = 1
    step /= length
    step[~audible] = 1  # after silence, a sound begins with its original phase
    turn = np.ones_like(spectra)
    frames, peaks = np.nonzero(is_peak)
    bounds = np.searchsorted(frames, np.arange(len(spectra) + 1))
    for frame in range(1, len(spectra)):
        at = peaks[bounds[frame] : bounds[frame + 1]]
        turn[frame][at] = step[frame - 1][at] * turn[frame - 1][nearest[frame - 1][at]]
    return spectra * np.take_along_axis(turn, nearest, axis=1)


def _peaks(level: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Which bins of each frame are peaks (not below two bins on either side), and the peak nearest to each bin."""
    bins = level.shape[1]
    padded = np.pad(level, ((0, 0), (2, 2)))
    is_peak = np.logical_and.reduce([level >= padded[:, k : k + bins] for k in (0, 1, 3, 4)])
    at = np.arange(bins, dtype=np.int32)
    left = np.maximum.accumulate(np.where(is_peak, at, -2 * bins), axis=1)
    right = np.minimum.accumulate(np.where(is_peak, at, 3 * bins)[:, ::-1], axis=1)[:, ::-1]
    return is_peak, np.where(at - left <= right - at, left, right)


def change_pitch(samples: np.ndarray, rate_hz: int, semitones: float) -> np.ndarray:
    """Move the pitch by semitones and keep the length: stretched, then played faster by as much."""
    factor = 2 ** (semitones / 12)
    changed = change_speed(stretch(samples, rate_hz, factor), factor)
    return np.pad(changed, (0, max(0, len(samples) - len(changed))))[: len(samples)]


def equalize(samples: np.ndarray, depth_db: float, rng: np.random.Generator) -> np.ndarray:
    """Filter with a smooth random response: straight lines in dB between six points along the spectrum."""
    length = scipy.fft.next_fast_len(len(samples), real=True)
    spectrum = scipy.fft.rfft(samples, length)
    at = np.sqrt(np.linspace(0, 1, len(spectrum)))  # more points where hearing has more bands
    response = np.interp(at, np.linspace(0, 1, 6), rng.uniform(-depth_db, depth_db, 6))
    return scipy.fft.irfft(spectrum * (10 ** (response / 20)).astype(np.float32), length)[: len(samples)]


def room_response(
    rate_hz: int,
    size_m: np.ndarray,
    source_m: np.ndarray,
    listener_m: np.ndarray,
    reflection: float,
    max_duration_s: float,
) -> np.ndarray:
    """Impulse response of a shoebox room by image sources, the direct sound first and with amplitude 1; float32.

    size_m, source_m, listener_m : meters, shape ``(3,)``. reflection : share of the pressure that a wall gives
    back. Source: Allen and Berkley, J. Acoust. Soc. Am. 65(4), 1979.
    """
    reach = SOUND_SPEED * max_duration_s
    order = np.ceil(reach / (2 * size_m)).astype(int)
    axes = []
    for axis in range(3):
        n = np.arange(-order[axis], order[axis] + 1)
        # Images at 2 n L + s and 2 n L - s, which have met the walls |2 n| and |2 n - 1| times.
        place = np.concatenate([2 * n * size_m[axis] + source_m[axis], 2 * n * size_m[axis] - source_m[axis]])
        axes.append((place - listener_m[axis], np.concatenate([np.abs(2 * n), np.abs(2 * n - 1)])))
    (x, nx), (y, ny), (z, nz) = axes
    distance = np.sqrt(x[:, None, None] ** 2 + y[:, None] ** 2 + z**2).ravel()
    walls = (nx[:, None, None] + ny[:, None] + nz).ravel()
    direct = float(np.linalg.norm(source_m - listener_m))
    delay = np.round((distance - direct) / SOUND_SPEED * rate_hz).astype(int)
    audible = (delay >= 0) & (delay < round(max_duration_s * rate_hz))
    amplitude = reflection ** walls[audible] * max(direct, 0.1) / np.maximum(distance[audible], 0.1)
    return np.bincount(delay[audible], weights=amplitude).astype(np.float32)


def echo(samples: np.ndarray, rate_hz: int, longest_m: float, rng: np.random.Generator) -> np.ndarray:
    """Put the sound into a small room of random size, up to `longest_m`, with the listener 0.5 to 2 m away."""
    size = rng.uniform(0.35, 1.0, 3) * longest_m
    size[2] = min(size[2], 3.5)
    source, listener = rng.uniform(0.15, 0.85, 3) * size, rng.uniform(0.15, 0.85, 3) * size
    response = room_response(rate_hz, size, source, listener, rng.uniform(0.4, 0.85), 0.12)
    length = scipy.fft.next_fast_len(len(samples) + len(response) - 1, real=True)
    wet = scipy.fft.irfft(scipy.fft.rfft(samples, length) * scipy.fft.rfft(response, length), length)
    return wet[: len(samples)]


def overdrive(samples: np.ndarray, by_db: float) -> np.ndarray:
    """Clip the sound as a recorder does whose gain is `by_db` too high; the peak stays where it was."""
    peak = float(np.abs(samples).max(initial=0))
    limit = np.float32(peak * 10 ** (-by_db / 20))
    return np.clip(samples, -limit, limit) * np.float32(10 ** (by_db / 20))


def telephone(samples: np.ndarray, rate_hz: int) -> np.ndarray:
    """Simulate a telephone: 8 kHz, and 8 bits by the mu-law of ITU-T G.711 (continuous form)."""
    if rate_hz <= TELEPHONE_HZ:
        return samples
    narrow = resample(samples, rate_hz, TELEPHONE_HZ)
    peak = np.float32(max(float(np.abs(narrow).max(initial=0)), 1e-9))
    pressed = np.sign(narrow) * np.log1p(MU * np.abs(narrow) / peak) / np.log1p(MU)
    steps = np.round(pressed * 127) / 127
    back = np.sign(steps) * np.expm1(np.abs(steps) * np.log1p(MU)) / MU * peak
    wide = resample(back.astype(np.float32), TELEPHONE_HZ, rate_hz)
    return np.pad(wide, (0, max(0, len(samples) - len(wide))))[: len(samples)]
