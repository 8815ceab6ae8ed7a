"""Features against the bare transform, the cache against computing again, ten hours against flat memory."""

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import pandas as pd
import scipy.fft
import soundfile
from threadpoolctl import threadpool_limits
from timing import best_seconds, tell

from barn_owl.audio import read_audio
from barn_owl.clips import load_frames
from barn_owl.features import FrontEnd
from barn_owl.features.framing import frame_view

RATE = 16_000
WANTED = {
    "log-mel": (["log-mel"], ">= 0.75"),
    "mfcc": (["mfcc"], ">= 0.7"),
    "all descriptors": (["shape", "zero-crossings", "level"], ">= 0.15"),
    "the same with loudness and pitch": (
        ["shape", "zero-crossings", "level", "loudness", "pitch", "pitch-confidence"],
        "(for information)",
    ),
}
OVERVIEW = """
import resource, sys, barn_owl
barn_owl.save_figure(barn_owl.show.overview_figure(sys.argv[1]), sys.argv[2], force=True)
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""


def speeds() -> None:
    samples = np.random.default_rng(0).standard_normal(RATE * 120).astype(np.float32)
    frames = frame_view(samples, 512, 160)

    def bare() -> None:
        scipy.fft.rfft(frames, axis=1)

    ends = {name: FrontEnd(features=features) for name, (features, _) in WANTED.items()}
    jobs = [lambda end=end, n=n: end.frames(samples, workers=n) for n in (2, 1) for end in ends.values()]
    clip = samples[:RATE]
    with threadpool_limits(limits=1, user_api="blas"):
        floor, *times = best_seconds(bare, *jobs, rounds=9)
        of_clip, ours = best_seconds(
            lambda: scipy.fft.rfft(frame_view(clip, 512, 160), axis=1),
            lambda: ends["log-mel"].frames(clip),
            rounds=99,
        )
    for (name, (_, wanted)), seconds in zip(WANTED.items(), times, strict=False):
        tell(f"{name}: speed relative to bare rfft over the same frames", floor / seconds, wanted)
    for name, seconds in zip(WANTED, times[len(WANTED) :], strict=True):
        tell(f"{name}: the same with one thread", floor / seconds, "(for information)")
    tell("log-mel: times faster than real time", 120 / times[0], "(for information)")
    tell("log-mel of a clip of 1 s: the same share", of_clip / ours, "(for information)")


def folder_of(clips: int, folder: Path) -> pd.DataFrame:
    rng = np.random.default_rng(0)
    files = [folder / f"{number}.flac" for number in range(clips)]
    for file in files:
        soundfile.write(file, 0.1 * rng.standard_normal(44_100), 44_100)
    return pd.DataFrame({"file": [str(file) for file in files], "start_s": np.nan, "end_s": np.nan, "label": "x"})


def cache(folder: Path) -> None:
    table, front_end, least = folder_of(2000, folder), FrontEnd(), {}
    for turn in range(5):
        for workers in (1, 2):
            begin = time.perf_counter()
            load_frames(table, front_end, workers=workers, cache=folder / f"cache-{turn}-{workers}")
            least[workers] = min(least.get(workers, 1e9), time.perf_counter() - begin)
    tell("2000 clips of 1 s to the cache: seconds with one worker", least[1], "(for information)")
    tell("the same: times faster with two workers", least[1] / least[2], ">= 1.7")
    begin = time.perf_counter()
    for file in table["file"]:
        read_audio(file)
    decoded = time.perf_counter() - begin
    begin = time.perf_counter()
    for file in table["file"]:
        read_audio(file, rate_hz=RATE)
    resampled = time.perf_counter() - begin
    tell("of one worker's time: share for opening and decoding", decoded / least[1], "(for information)")
    tell("of one worker's time: share for resampling", (resampled - decoded) / least[1], "(for information)")
    (seconds,) = best_seconds(lambda: load_frames(table, front_end, cache=folder / "cache-0-1"), rounds=4)
    tell("2000 clips from the cache: seconds", seconds, "< 0.2")


def ten_hours(folder: Path) -> None:
    path, noise = folder / "long.flac", 0.1 * np.random.default_rng(0).standard_normal(RATE * 60)
    with soundfile.SoundFile(path, "w", RATE, 1, format="FLAC", subtype="PCM_16") as file:
        for _ in range(600):
            file.write(noise)
    arguments = [sys.executable, "-c", OVERVIEW, str(path), str(folder / "overview.png")]
    said = subprocess.run(arguments, capture_output=True, text=True, check=True).stdout
    tell("overview of ten hours: peak memory in MB", float(said), "< 300")


def main() -> None:
    speeds()
    with tempfile.TemporaryDirectory() as folder:
        cache(Path(folder))
        ten_hours(Path(folder))


if __name__ == "__main__":
    main()
