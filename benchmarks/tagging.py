"""Tagging: speed against a floor, memory over a day, unknown sounds and times after adjusting, two workers."""

import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
import soundfile
from scipy import fft
from threadpoolctl import threadpool_limits
from timing import best_seconds, tell

from barn_owl import Model, adjust, load_model, read_clip_table, score_events, tag_archive, tag_recording
from barn_owl.audio import read_audio, write_audio
from barn_owl.demo import write_harbor
from barn_owl.parallel import each
from barn_owl.runs import set_decoding

DAY_S = 86_400
MEMORY = """
import resource, sys, time, barn_owl
begin = time.perf_counter()
barn_owl.tag_recording(barn_owl.load_model(sys.argv[1]), sys.argv[2])
if sys.argv[3:]:
    barn_owl.save_figure(barn_owl.show.overview_figure(sys.argv[2]), sys.argv[3], force=True)
print(time.perf_counter() - begin, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""


def floor(model: Model, path: Path) -> None:
    """The unavoidable part: decoding, a transform of each frame, the matrix products of the network."""
    front_end, classifier = model.front_end, model.classifier
    samples, _ = soundfile.read(path, dtype="float32")
    hop, frame = round(front_end.rate_hz * front_end.hop_ms / 1000), front_end.frame
    frames = (len(samples) - frame) // hop + 1
    views = np.lib.stride_tricks.sliding_window_view(samples, frame)[::hop]
    for first in range(0, frames, 1024):
        fft.rfft(np.ascontiguousarray(views[first : first + 1024]), axis=1)
    rows = frames // classifier.step
    for array_name, kernel in classifier.state().items():
        if array_name.endswith("kernel"):
            for first in range(0, rows, 512):
                np.empty((min(512, rows - first), len(kernel)), np.float32) @ kernel


def transforms(_: int) -> None:
    block = np.ones((128, 512), dtype=np.float32)
    for _ in range(4000):
        fft.rfft(block, axis=1)


def bare_work(workers: int) -> None:
    list(each(transforms, range(8), workers, processes=True))


def run(*arguments: str) -> list[float]:
    done = subprocess.run([sys.executable, "-c", MEMORY, *arguments], capture_output=True, text=True, check=True)
    return [float(word) for word in done.stdout.split()]


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        subprocess.run(
            [
                sys.executable,
                "-c",
                "from barn_owl.cli.main import main; main()",
                "demo",
                str(folder / "quay"),
                "--quiet",
            ],
            check=True,
        )
        where, night = folder / "quay" / "run", folder / "quay" / "night.flac"
        another = write_harbor(folder / "another", seed=1, clips_per_label=1, minutes=15)
        found = adjust(load_model(where), read_clip_table(another.truth))
        set_decoding(where, found.decoding)
        model = load_model(where)
        scores = score_events(tag_recording(model, night), read_clip_table(folder / "quay" / "truth.csv"))
        tell("demo night, adjusted on another: event F1", scores.f1, ">= 0.85")
        tell(
            "demo night: median onset error, ms", 1000 * float(scores.matches["onset_error_s"].abs().median()), "< 40"
        )
        tell("demo night: false alarms per hour", scores.false_alarms_per_hour, "(for information)")
        tell("demo night: share of unknown sounds that raise an event", scores.unknown_share, "<= 0.20")
        further = [write_harbor(folder / f"night{n}", seed=n, clips_per_label=1, minutes=15) for n in (2, 3, 4, 5, 6)]
        judged = [score_events(tag_recording(model, quay.recording), read_clip_table(quay.truth)) for quay in further]
        tell("five further nights: the same, mean", float(np.mean([one.unknown_share for one in judged])), "<= 0.20")
        tell("five further nights: event F1, mean", float(np.mean([one.f1 for one in judged])), ">= 0.85")

        samples, _ = read_audio(night, rate_hz=16_000)
        plain = folder / "plain.wav"
        write_audio(plain, samples, 16_000, force=True)
        with threadpool_limits(limits=1, user_api="blas"):
            ours, bare = best_seconds(lambda: tag_recording(model, plain), lambda: floor(model, plain), rounds=4)
        tell("tagging 16 kHz WAV: times faster than real time", 600 / ours, ">= 500")
        tell("floor of decoding, transform and products: its share of our time", bare / ours, ">= 0.6")

        day = folder / "day.flac"
        with soundfile.SoundFile(day, "w", 16_000, 1, subtype="PCM_16", format="FLAC") as file:
            for _ in range(DAY_S // 600):
                file.write(samples)
        short = run(str(where), str(plain), str(folder / "short.png"))
        long = run(str(where), str(day), str(folder / "long.png"))
        tell("24 hours of FLAC, overview included: seconds", long[0], "(for information)")
        tell("peak memory of 24 hours over that of 10 minutes, overviews included", long[1] / short[1], "<= 1.1")
        tell("peak memory of 24 hours, MB", long[1], "(for information)")

        hours = []
        for number in range(8):
            hours.append(folder / f"hour{number}.flac")
            with soundfile.SoundFile(hours[-1], "w", 16_000, 1, subtype="PCM_16", format="FLAC") as file:
                for _ in range(6):
                    file.write(np.roll(samples, number * 1000))
        alone, together = best_seconds(
            lambda: tag_archive(model, hours, workers=1), lambda: tag_archive(model, hours, workers=2), rounds=3
        )
        tell("8 recordings of an hour: times faster with two workers", alone / together, ">= 1.7")
        bare = tuple(best_seconds(*(lambda n=n: bare_work(n) for n in (1, 2)), rounds=3))
        tell("the same for bare transforms, what the two cores give at all", bare[0] / bare[1], "(for information)")


if __name__ == "__main__":
    main()
