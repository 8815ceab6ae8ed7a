"""The clips of a summer at Saltmarsh Harbor, and recordings of two nights with their truth tables."""

import os
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
import pandas as pd
import soundfile

from barn_owl.audio import resample, write_audio
from barn_owl.clips import write_clip_table
from barn_owl.demo.recorders import NIGHT_RECORDER, RECORDERS, Tape, at_distance, record
from barn_owl.demo.sounds import BACKGROUND, EVENTS, RATE_HZ, UNKNOWN, water
from barn_owl.files import atomic_write
from barn_owl.parallel.processes import begin_process, starting

LABELS = (*EVENTS, BACKGROUND)
BLOCK_S = 30.0
UNKNOWN_SHARE = 0.14
EVENT_GAP_S = 4.5
HEADROOM = 0.9


@dataclass(frozen=True, kw_only=True)
class Harbor:
    """Paths of the demo data.

    Attributes
    ----------
    clips : Path
        Folder of the clips.
    recording : Path
        Recording of a night.
    truth : Path
        Its events.
    second_recording : Path
        Recording of another night by the same recorder.
    second_truth : Path
        Its events.
    """

    clips: Path
    recording: Path
    truth: Path
    second_recording: Path
    second_truth: Path


def write_harbor(
    folder: str | Path,
    *,
    seed: int = 0,
    clips_per_label: int = 60,
    minutes: float = 10.0,
    workers: int = 2,
    progress: Callable[[int, int], None] | None = None,
) -> Harbor:
    """Write the demo data below `folder`: ``clips/LABEL/RECORDER_NUMBER``, two nights and their truth tables.

    The same seed yields the same samples. Some clips have faults, as real collections do: mislabeled, clipped,
    silent, stereo, at 192 kHz, truncated.

    Parameters
    ----------
    folder : str | Path
        Folder.
    seed : int
        Seed of all random choices.
    clips_per_label : int
        Clips of each label.
    minutes : float
        Length of the recording.
    workers : int
        Number of parallel workers.
    progress : Callable[[int, int], None] | None
        Called with the parts done and their number.

    Examples
    --------
    >>> quay = barn_owl.demo.write_harbor("quay", clips_per_label=1, minutes=0.2, workers=1)
    >>> barn_owl.audio_info(quay.recording).rate_hz
    32000
    """
    folder = Path(folder)
    places = Harbor(
        clips=folder / "clips", recording=folder / "night.flac", truth=folder / "truth.csv",
        second_recording=folder / "second-night.flac", second_truth=folder / "second-truth.csv",
    )  # fmt: skip
    jobs = [
        partial(_write_clip, places.clips, seed, label, n)
        for label in range(len(LABELS))
        for n in range(clips_per_label)
    ]
    nights = [(places.recording, places.truth, 2), (places.second_recording, places.second_truth, 4)]
    jobs[:0] = [partial(_write_night, path, truth, [seed, n], [seed, n + 1], minutes) for path, truth, n in nights]
    with ProcessPoolExecutor(workers, initializer=begin_process, initargs=(os.getpid(),)) as pool:
        with starting():
            results = pool.map(_call, jobs)
        for done, _ in enumerate(results, start=1):
            if progress:
                progress(done, len(jobs))
    _truncate(places.clips / "halyard" / "crane_999.flac")
    return places


def _call(job: Callable[[], None]) -> None:
    job()


def _write_clip(folder: Path, seed: int, label: int, number: int) -> None:
    rng = np.random.default_rng([seed, 1, label, number])
    recorder = RECORDERS[number % len(RECORDERS)]
    odd = _faulty_clip(label, number)
    sounding = LABELS[(label + 1 + number) % len(LABELS)] if odd == "mislabeled" else LABELS[label]
    take = record(recorder, _clip_sound(rng, sounding), rng)
    rate_hz = recorder.rate_hz
    if odd == "clipped":
        take = np.clip(take * 12, -1, 1)
    elif odd == "silent":
        take = np.zeros_like(take)
    elif odd == "192 kHz":
        take, rate_hz = resample(take, rate_hz, 192_000), 192_000
    if odd != "clipped":  # whoever set the gain left some room
        take = take * min(1.0, HEADROOM / max(float(np.abs(take).max()), HEADROOM))
    write_audio(folder / LABELS[label] / f"{recorder.name}_{number:03d}{recorder.ending}", take, rate_hz, force=True)


def _faulty_clip(label: int, number: int) -> str:
    """Return the fault of a clip; blank for most."""
    odd = {(0, 11): "mislabeled", (2, 34): "mislabeled", (3, 23): "mislabeled", (5, 41): "mislabeled"}
    odd |= {(1, 5): "silent", (4, 38): "silent", (0, 24): "192 kHz"}
    if number % 29 == 17:
        return "clipped"
    return odd.get((label, number), "")


def _clip_sound(rng: np.random.Generator, label: str) -> np.ndarray:
    """Return one to four seconds with the sound somewhere in it, over water, at `RATE_HZ`."""
    samples = round(rng.uniform(1.0, 4.0) * RATE_HZ)
    level = 10 ** (rng.uniform(-44, -26) / 20)
    mixture = water(rng, samples) * level
    if label == BACKGROUND:
        return mixture
    far = rng.beta(1.2, 2)
    event = at_distance(EVENTS[label](rng), rng, far)
    # Most of the sound is inside the clip; long sounds may be cut at either end, as by hand.
    early, late = -min(0.3 * len(event), 0.5 * RATE_HZ), max(samples - 0.6 * len(event), 0.0)
    start = round(rng.uniform(early, late)) if late > early else 0
    piece = event[max(-start, 0) : samples - start]
    snr = 10 ** ((rng.uniform(11, 30) - 11 * far) / 20)
    mixture[max(start, 0) : max(start, 0) + len(piece)] += piece * (level * snr / _loud_rms(event))
    return mixture


def _loud_rms(sound: np.ndarray) -> float:
    """Root mean square of the loudest tenth of a second."""
    width = RATE_HZ // 10
    total = np.concatenate([[0.0], np.cumsum(sound**2)])
    return float(np.sqrt((total[width:] - total[:-width]).max() / width))


def _truncate(path: Path) -> None:
    """Leave a file as a copy that was cut off in its header."""
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(b"fLaC\x00\x00\x00\x22\x10\x00")


def _schedule(rng: np.random.Generator, length_s: float) -> Iterator[tuple[float, str, float]]:
    """Draw times, labels and distances of the sounds of a night; some overlap."""
    names, unknown = list(EVENTS), list(UNKNOWN)
    at, before = rng.uniform(1.5, 4.0), ""
    while at < length_s - 6:
        pick = unknown if rng.random() < UNKNOWN_SHARE else names
        name = str(rng.choice([other for other in pick if other != before]))
        yield at, name, float(rng.beta(1.2, 1.8))
        before = name
        at += 0.6 + rng.exponential(EVENT_GAP_S) + (2.0 if rng.random() < 0.8 else 0.0)


def _write_night(path: Path, truth_path: Path, sounds: list[int], times: list[int], minutes: float) -> None:
    """Write a long recording and its truth table block by block; memory does not grow with it.

    sounds, times : seeds of the sounds and water, and of the schedule.
    """
    rng = np.random.default_rng(sounds)
    tape, level = Tape(NIGHT_RECORDER, rng), 10 ** (-38 / 20)
    total = round(minutes * 60 * RATE_HZ)
    waiting = list(_schedule(np.random.default_rng(times), minutes * 60))
    rows: list[dict[str, object]] = []
    hanging = np.zeros(0)  # tail in the next block
    with (
        atomic_write(path) as beside,
        soundfile.SoundFile(beside, "w", NIGHT_RECORDER.rate_hz, 1, subtype="PCM_16", format="FLAC") as file,
    ):
        for first in range(0, total, round(BLOCK_S * RATE_HZ)):
            samples = min(round(BLOCK_S * RATE_HZ), total - first)
            mixture = np.zeros(max(samples + round(8 * RATE_HZ), len(hanging)))
            mixture[: len(hanging)] += hanging
            mixture[:samples] += water(rng, samples) * level
            while waiting and waiting[0][0] * RATE_HZ < first + samples:
                at, name, far = waiting.pop(0)
                rows.append(_sound_in(mixture, rng, at - first / RATE_HZ, name, far, level, first / RATE_HZ))
            block = tape.take(mixture[:samples])
            hanging = mixture[samples:]
            file.write(np.clip(block, -1, 1))
    truth = pd.DataFrame(rows)
    truth.insert(0, "file", str(path))
    write_clip_table(truth, truth_path, force=True)


def _sound_in(
    mixture: np.ndarray, rng: np.random.Generator, at_s: float, name: str, far: float, level: float, offset_s: float
) -> dict[str, object]:
    """Add a sound to the mixture and return its row of the truth table."""
    dry = (EVENTS | UNKNOWN)[name](rng)
    event = at_distance(dry, rng, far)
    event *= level * 10 ** ((rng.uniform(14, 28) - 12 * far) / 20) / _loud_rms(event)
    start = round(at_s * RATE_HZ)
    piece = event[: len(mixture) - start]
    mixture[start : start + len(piece)] += piece
    first, last = _audible(piece, level)
    return {
        "start_s": round(offset_s + at_s + first, 3),
        "end_s": round(offset_s + at_s + last, 3),
        "label": name if name in EVENTS else "",
        "unknown": name if name in UNKNOWN else "",
        "distance": round(far, 2),
    }


def _audible(sound: np.ndarray, level: float) -> tuple[float, float]:
    """Return start and end, in seconds, of a sound above the water: within 20 dB of its peak."""
    width = RATE_HZ // 100
    frames = sound[: len(sound) // width * width].reshape(-1, width)
    rms = np.sqrt((frames**2).mean(axis=1))
    loud = np.flatnonzero(rms >= max(0.1 * rms.max(), 0.35 * level))
    return float(loud[0] * 0.01), float((loud[-1] + 1) * 0.01)
