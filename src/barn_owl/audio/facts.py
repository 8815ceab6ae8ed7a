"""Facts about a sound file, measured in one pass."""

import hashlib
from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import scipy

from barn_owl.audio.loudness import LoudnessMeter, TruePeakMeter
from barn_owl.audio.reading import audio_info, stream_channels
from barn_owl.audio.silence import decibel
from barn_owl.errors import AudioError
from barn_owl.parallel import each

STRETCH_S = 0.05
"""Length of the stretches whose levels tell silence and noise floor."""
SILENT_DB = -60.0
"""Level below which a stretch is silent."""
CLIPPED_RUN = 3
"""Samples in a row at the same extreme value that count as one clipped stretch."""
FULL_SHARE = 0.985
"""Share of full scale above which runs count as clipped."""
SPECTRUM_SAMPLES = 4096
"""Length of the transforms whose mean is the spectrum of the file."""
BANDWIDTH_DB = 70.0
"""Bins this far below the strongest are treated as unused ..."""
UNUSED_DB = -120.0
"""... and bins below this level re a full-scale sine, wherever the strongest is."""


@dataclass(frozen=True, kw_only=True)
class FileFacts:
    """Measurements of a sound file.

    Levels are in dB re full scale 1.0; the level of silence is -120, its loudness minus infinity; sound shorter than
    0.4 s has no loudness (NaN).

    Attributes
    ----------
    file : str
        Sound file.
    duration_s : float
        Length in seconds.
    rate_hz : int
        Sample rate in Hz.
    channels : int
        Number of channels.
    encoding : str
        Format and subtype.
    peak_db : float
        Largest sample, in dBFS.
    true_peak_db : float
        Largest value between samples, in dBTP (ITU-R BS.1770-4).
    rms_db : float
        RMS in dB re 1.0.
    loudness_lufs : float
        Integrated loudness in LUFS (EBU R 128).
    dc_offset : float
        Mean of the samples.
    clipped : int
        Runs of three or more samples stuck at an extreme near full scale.
    silent_share : float
        Share of the stretches of 50 ms below -60 dB.
    noise_floor_db : float
        Tenth percentile of the level of stretches of 50 ms.
    bandwidth_hz : float
        Highest frequency whose mean power is within 70 dB of the strongest.
    fingerprint : str
        SHA-256 of the decoded samples, independent of the container.

    Examples
    --------
    >>> facts = barn_owl.audio.file_facts("night.wav")
    >>> facts.duration_s, facts.rate_hz, facts.channels
    (14.0, 16000, 1)
    """

    file: str
    duration_s: float
    rate_hz: int
    channels: int
    encoding: str
    peak_db: float
    true_peak_db: float
    rms_db: float
    loudness_lufs: float
    dc_offset: float
    clipped: int
    silent_share: float
    noise_floor_db: float
    bandwidth_hz: float
    fingerprint: str


def file_facts(
    path: str | Path,
    *,
    start_s: float | None = None,
    end_s: float | None = None,
    on_block: Callable[[np.ndarray], object] | None = None,
    flaws: list[str] | None = None,
    thorough: bool = True,
) -> FileFacts:
    """Measure a sound file or an excerpt in one pass.

    Parameters
    ----------
    path : str | Path
        Sound file.
    start_s, end_s : float | None
        The excerpt in seconds; None for the start and the end of the file.
    on_block : Callable[[np.ndarray], object] | None
        Called with each block, shape ``(samples, channels)``, to save a second pass.
    flaws : list[str] | None
        A list that faults of the samples are added to, instead of warnings in the log.
    thorough : bool
        Without it, true peak and loudness, which cost half of the time, are NaN.

    Raises
    ------
    AudioError
        If the file cannot be read or has no samples.

    Examples
    --------
    >>> facts = barn_owl.audio.file_facts("night.wav", start_s=1.0, end_s=3.0)
    >>> facts.duration_s
    2.0
    """
    info = audio_info(path)
    if not info.samples:
        raise AudioError(f"{path} holds no samples")
    measure = _Measures(info.rate_hz, info.channels, thorough=thorough)
    for block in stream_channels(path, start_s=start_s, end_s=end_s, flaws=flaws):
        measure.push(block)
        if on_block is not None:
            on_block(block)
    if not measure.samples:
        raise AudioError(f"{path} holds no samples from {start_s or 0:g} to {end_s} s")
    return FileFacts(
        file=str(path),
        duration_s=measure.samples / info.rate_hz,
        rate_hz=info.rate_hz,
        channels=info.channels,
        encoding=info.encoding,
        **measure.results(),
    )


def facts_table(
    paths: Iterable[str | Path], *, workers: int = 2, progress: Callable[[int, int], None] | None = None
) -> tuple[pd.DataFrame, dict[str, str]]:
    """Measure many files with `workers` threads; return a table with one row per file, and reasons by skipped file.

    Parameters
    ----------
    paths : Iterable[str | Path]
        Sound files.
    workers : int
        Number of parallel workers.
    progress : Callable[[int, int], None] | None
        Called with the amount done and in all.

    Examples
    --------
    >>> table, skipped = barn_owl.audio.facts_table(["night.wav"])
    >>> float(table["duration_s"].iloc[0]), skipped
    (14.0, {})
    """
    names = [str(path) for path in paths]
    rows: list[dict[str, Any]] = []
    skipped: dict[str, str] = {}
    for done, (path, result) in enumerate(zip(names, each(_facts_or_reason, names, workers), strict=True), start=1):
        if isinstance(result, str):
            skipped[path] = result
        else:
            rows.append(asdict(result))
        if progress:
            progress(done, len(names))
    return pd.DataFrame(rows, columns=list(FileFacts.__dataclass_fields__)), skipped


def _facts_or_reason(path: str) -> FileFacts | str:
    try:
        return file_facts(path)
    except AudioError as error:
        return str(error)


class _Measures:
    """All measures of a stream of blocks, ``(samples, channels)``."""

    def __init__(self, rate_hz: int, channels: int, *, thorough: bool) -> None:
        self.rate_hz, self.samples = rate_hz, 0
        self._loudness = LoudnessMeter(rate_hz, channels) if thorough else None
        self._true_peak = TruePeakMeter(rate_hz, channels) if thorough else None
        self._sum, self._squares, self._peak = np.zeros(channels), 0.0, 0.0
        self._levels: list[np.ndarray] = []
        self._rest = np.empty((0, channels), dtype=np.float32)
        self._before = np.empty((0, channels), dtype=np.float32)
        self._clipped = 0
        self._digest = hashlib.sha256()
        self._window = (
            np.sin(np.pi * np.arange(SPECTRUM_SAMPLES) / SPECTRUM_SAMPLES) ** 2 * 4 / SPECTRUM_SAMPLES
        ).astype(np.float32)
        self._spectrum, self._spectra = np.zeros(SPECTRUM_SAMPLES // 2 + 1), 0
        self._stretch = max(1, round(STRETCH_S * rate_hz))

    def push(self, block: np.ndarray) -> None:
        self.samples += len(block)
        self._digest.update(np.ascontiguousarray(block).tobytes())
        if self._loudness and self._true_peak:
            self._loudness.push(block)
            self._true_peak.push(block)
        self._sum += block.sum(axis=0, dtype=np.float64)
        self._squares += float(np.einsum("sc,sc->", block, block, dtype=np.float64))
        self._peak = max(self._peak, float(np.abs(block).max()))
        self._clipped += self._clipped_runs(block)
        self._push_spectrum(block.mean(axis=1, dtype=np.float32))
        joined = np.concatenate([self._rest, block])
        whole = len(joined) // self._stretch * self._stretch
        stretches = joined[:whole].reshape(-1, self._stretch * block.shape[1])
        self._levels.append(np.sqrt(np.einsum("rs,rs->r", stretches, stretches) / stretches.shape[1]))
        self._rest = joined[whole:]

    def _clipped_runs(self, block: np.ndarray) -> int:
        """Count the runs of stuck samples whose third sample is in this block."""
        joined = np.concatenate([self._before, block])
        self._before = joined[-CLIPPED_RUN:]
        if len(joined) <= CLIPPED_RUN:
            return 0
        stuck = (joined[1:] == joined[:-1]) & (np.abs(joined[1:]) >= FULL_SHARE)
        # stuck[i] compares samples i and i + 1; a run is counted when its third sample arrives.
        third = stuck[1:] & stuck[:-1]
        third[1:] &= ~(stuck[2:] & stuck[1:-1] & stuck[:-2])
        new = len(joined) - len(block)
        return int(third[max(new - 2, 0) :].sum())

    def _push_spectrum(self, mono: np.ndarray) -> None:
        if self._spectra == 0 and len(mono) < SPECTRUM_SAMPLES:
            mono = np.pad(mono, (0, SPECTRUM_SAMPLES - len(mono)))
        frames = mono[: len(mono) // SPECTRUM_SAMPLES * SPECTRUM_SAMPLES].reshape(-1, SPECTRUM_SAMPLES)
        if len(frames):
            spectra = np.abs(scipy.fft.rfft(frames * self._window, axis=1)) ** 2
            self._spectrum += spectra.sum(axis=0, dtype=np.float64)
            self._spectra += len(frames)

    def results(self) -> dict[str, Any]:
        if self._true_peak:
            self._true_peak.push(np.empty((0, len(self._sum)), dtype=np.float32), last=True)
        levels = decibel(np.concatenate(self._levels)) if self._levels else np.empty(0)
        rms = float(decibel(np.sqrt(self._squares / (self.samples * len(self._sum)))))
        levels = levels if len(levels) else np.array([rms])
        return {
            "peak_db": float(decibel(self._peak)),
            "true_peak_db": float(decibel(self._true_peak.peak)) if self._true_peak else np.nan,
            "rms_db": rms,
            "loudness_lufs": self._loudness.integrated() if self._loudness else np.nan,
            "dc_offset": float(np.abs(self._sum / self.samples).max()),
            "clipped": self._clipped,
            "silent_share": float((levels < SILENT_DB).mean()),
            "noise_floor_db": float(np.quantile(levels, 0.1)),
            "bandwidth_hz": self._bandwidth(),
            "fingerprint": self._digest.hexdigest(),
        }

    def _bandwidth(self) -> float:
        power = self._spectrum / max(self._spectra, 1)
        smooth = np.convolve(power, np.full(5, 1 / 5), mode="same")
        level = 10 * np.log10(smooth + 1e-20)
        used = np.flatnonzero(level > max(level.max() - BANDWIDTH_DB, UNUSED_DB))
        return float(used[-1] * self.rate_hz / SPECTRUM_SAMPLES) if len(used) else 0.0
