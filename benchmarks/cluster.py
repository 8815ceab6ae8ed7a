"""Many workers: growth of speed, overhead of an engine, kills, memory, and a store of ten million events.

    python benchmarks/cluster.py RUN [--part speed|short|kills|memory|store]

Scheduler and workers are processes of this machine; the sound is synthetic, a night repeated.
"""

import argparse
import hashlib
import json
import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import pandas as pd
import soundfile

import barn_owl as owl
from barn_owl.archive.entries import StoreEntry
from barn_owl.archive.hours import counted_by_hour
from barn_owl.demo import write_harbor

DASK = Path(sys.executable).with_name("dask")
RATE_HZ = 16_000


@contextmanager
def cluster(workers: int, folder: Path):
    """Start a scheduler and workers, a thread each; yield the scheduler's file and the processes."""
    file = folder / f"scheduler-{workers}-{time.monotonic_ns()}.json"
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    address = ["--host", "127.0.0.1", "--port", "0", "--no-dashboard"]
    started = [subprocess.Popen([DASK, "scheduler", "--scheduler-file", file, *address], **quiet)]
    while not file.exists():
        time.sleep(0.1)
    for _ in range(workers):
        command = [DASK, "worker", "--scheduler-file", file, "--nthreads", "1", "--no-dashboard"]
        started.append(subprocess.Popen([*command, "--local-directory", folder / "dask"], **quiet))
    try:
        yield file, started
    finally:
        for process in started:
            process.terminate()
        for process in started:
            process.wait()


def synthetic(folder: Path) -> np.ndarray:
    """Ten minutes of the synthetic harbor at the rate of its models."""
    quay = write_harbor(folder / "quay", clips_per_label=1, minutes=10)
    return owl.read_audio(quay.recording, rate_hz=RATE_HZ)[0]


def laid_out(samples: np.ndarray, folder: Path, files: int, seconds: float) -> list[str]:
    """Write this many recordings, each turned by another amount."""
    folder.mkdir(parents=True, exist_ok=True)
    names = []
    for number in range(files):
        name = folder / f"quay_{pd.Timestamp('2026-05-01') + pd.Timedelta(hours=number):%Y%m%d_%H%M%S}.flac"
        count = round(seconds * RATE_HZ)
        turned = np.roll(samples, number * 7919)
        soundfile.write(name, np.resize(turned, count), RATE_HZ)
        names.append(str(name))
    return names


def seconds_of(model, files, engine="local", **options) -> tuple[float, str]:
    """Tag files; return the time and a hash of all events."""
    with owl.engine(str(engine)):
        begin = time.perf_counter()
        archive = owl.tag_archive(model, files, **options)
        taken = time.perf_counter() - begin
    assert not archive.skipped, archive.skipped
    return taken, hashlib.sha256(archive.events.to_csv().encode()).hexdigest()[:12]


def speed(model, samples, folder) -> dict[str, object]:
    """Two workers over a single worker, and an engine over plain processes, in turns."""
    files = laid_out(samples, folder / "ten-minutes", 60, 600)
    found: dict[str, list[float]] = {"local 1": [], "local 2": [], "cluster 1": [], "cluster 2": []}
    known = set()
    with cluster(1, folder) as (one, _), cluster(2, folder) as (two, _):
        for engine in (one, two):
            seconds_of(model, files[:4], engine)  # the first use loads the packages
        for _ in range(3):
            for name, engine, workers in (
                ("local 1", "local", 1), ("local 2", "local", 2), ("cluster 1", one, 2), ("cluster 2", two, 2),
            ):  # fmt: skip
                taken, what = seconds_of(model, files, engine, workers=workers)
                found[name].append(taken)
                known.add(what)
    least = {name: min(times) for name, times in found.items()}
    return {
        "files": len(files),
        "seconds": {name: [round(one, 1) for one in times] for name, times in found.items()},
        "two workers over one": round(least["cluster 1"] / least["cluster 2"], 2),
        "two processes over one, locally": round(least["local 1"] / least["local 2"], 2),
        "cluster over local, more time": round(least["cluster 2"] / least["local 2"] - 1, 3),
        "all the same events": len(known) == 1,
    }


def short(model, samples, folder) -> dict[str, object]:
    """A thousand files of ten seconds, and a file of the same total."""
    few = laid_out(samples, folder / "long", 1, 10_000)
    many = laid_out(samples, folder / "short", 1000, 10)
    with cluster(2, folder) as (two, _):
        seconds_of(model, many[:4], two)
        long_s, short_s = (min(seconds_of(model, files, two)[0] for _ in range(3)) for files in (few, many))
    local_long, local_short = (min(seconds_of(model, files, workers=2)[0] for _ in range(3)) for files in (few, many))
    return {
        "cluster: speed of short over long": round(long_s / short_s, 2),
        "local: speed of short over long": round(local_long / local_short, 2),
        "seconds": [round(one, 1) for one in (long_s, short_s, local_long, local_short)],
    }


def kills(model, samples, folder, every_s: float = 20.0) -> dict[str, object]:
    """Kill a worker every 20 s while twenty hours are tagged."""
    files = laid_out(samples, folder / "hours", 20, 3600)
    plain_s, plain = seconds_of(model, files, workers=2)
    with cluster(2, folder) as (two, _):
        seconds_of(model, files[:1], two)
        calm_s, calm = seconds_of(model, files, two)
        stop, killed, lines = threading.Event(), [], []

        def kill() -> None:
            while not stop.wait(every_s):
                busy = [pid for pid in _children(two) if pid]
                if busy:
                    os.kill(busy[len(killed) % len(busy)], signal.SIGKILL)
                    killed.append(time.monotonic())

        hunter = threading.Thread(target=kill)
        hunter.start()
        begin = time.perf_counter()
        with owl.engine(str(two), warn=lines.append):
            archive = owl.tag_archive(model, files, store=folder / "kept.sqlite")
        struck_s = time.perf_counter() - begin
        stop.set()
        hunter.join()
    struck = hashlib.sha256(archive.events.to_csv().encode()).hexdigest()[:12]
    return {
        "hours": 20, "kills": len(killed), "lines told": lines[:4],
        "same events": plain == calm == struck,
        "seconds": {"local": round(plain_s, 1), "calm": round(calm_s, 1), "with kills": round(struck_s, 1)},
        "skipped": archive.skipped,
    }  # fmt: skip


def _children(file: Path) -> list[int]:
    """Processes of a scheduler's workers; a watchdog restarts them."""
    from distributed import Client

    with Client(scheduler_file=str(file), set_as_default=False) as client:
        return list(client.run(os.getpid).values())


def memory(model, samples, folder) -> dict[str, object]:
    """Memory of client and scheduler with 10 files and with 10,000."""
    base = laid_out(samples, folder / "tiny", 1, 2)[0]
    named = folder / "many"
    named.mkdir()
    for number in range(10_000):
        os.link(base, named / f"q{number:05d}.flac")
    script = (
        "import sys, time, barn_owl as owl\n"
        "files = owl.find_recordings([sys.argv[2]])[: int(sys.argv[3])]\n"
        "model = owl.load_model(sys.argv[1])\n"
        "with owl.engine(sys.argv[4]):\n"
        "    owl.tag_archive(model, files, store=sys.argv[5])\n"
        "print(int(open('/proc/self/status').read().split('VmHWM:')[1].split()[0]) / 1024, time.process_time())\n"
    )
    found = {}
    for count in (10, 1000, 10_000):
        with cluster(2, folder) as (two, started):
            command = [sys.executable, "-c", script, str(model), named, str(count), str(two)]
            result = subprocess.run(
                [*command, folder / f"kept-{count}.sqlite"], capture_output=True, text=True, check=True
            )
            status = Path(f"/proc/{started[0].pid}/status").read_text()
            peak = int(status.split("VmHWM:")[1].split()[0]) / 1024
            mb, seconds = map(float, result.stdout.split())
            found[str(count)] = {
                "client_mb": round(mb), "scheduler_mb": round(peak), "client_processor_s": round(seconds, 2)
            }  # fmt: skip
    return found


def store(folder: Path, events: int = 10_000_000) -> dict[str, object]:
    """A year of twenty recorders: a day's query and the summary by hour."""
    rng, found = np.random.default_rng(0), {}
    days = pd.date_range("2026-01-01", periods=365)
    each = events // (365 * 20)
    labels = np.array(["bell-buoy", "foghorn", "halyard", "winch"])
    for ending in ("", ".sqlite"):
        path = folder / f"year{ending}"
        kept = owl.archive.open_store(path)
        begin = time.perf_counter()
        for day in days:
            for recorder in range(20):
                start = np.sort(rng.random(each) * 86_400).round(3)
                name = f"/sound/quay-{recorder}_{day:%Y%m%d}_000000.flac"
                key = hashlib.sha256(name.encode()).hexdigest()[:24]
                table = pd.DataFrame(
                    {
                        "file": name, "start_s": start, "end_s": start + 1, "label": rng.choice(labels, each),
                        "score": 0.9, "key": key,
                        "clock": [f"{day + pd.Timedelta(seconds=int(s)):%Y-%m-%dT%H:%M:%S}.000" for s in start],
                    }
                )  # fmt: skip
                one = StoreEntry(
                    key=key, model="synthetic", file=name, stamp=[name, 1, 1], content=key, day=f"{day:%Y-%m-%d}",
                    recorder=f"quay-{recorder}", begins=f"{day:%Y-%m-%d}T00:00:00", duration_s=86_400.0, events=each,
                    hours=counted_by_hour(table),
                )  # fmt: skip
                kept.add(one, table)
        made_s = time.perf_counter() - begin
        script = (
            "import sys, time, json, barn_owl as owl\n"
            "def timed(call):\n    begin = time.perf_counter(); call(); return time.perf_counter() - begin\n"
            "peak = lambda: int(open('/proc/self/status').read().split('VmHWM:')[1].split()[0]) / 1024\n"
            "owl.archive.read_store(sys.argv[1], model='synthetic', day='2026-07-02')\n"
            "day = timed(lambda: owl.archive.read_store(sys.argv[1], model='synthetic', day='2026-07-01'))\n"
            "before = peak()\n"
            "hours = timed(lambda: owl.archive.store_hours(sys.argv[1], model='synthetic'))\n"
            "print(json.dumps([day, hours, before, peak()]))\n"
        )
        result = subprocess.run([sys.executable, "-c", script, path], capture_output=True, text=True, check=True)
        day_s, hours_s, before, after = json.loads(result.stdout)
        found[ending or "folder"] = {
            "events": each * 365 * 20, "written_s": round(made_s), "day_s": round(day_s, 2),
            "hours_s": round(hours_s, 2), "memory_mb": [round(before), round(after)],
        }  # fmt: skip
    return found


def main() -> None:
    """Run the parts that were requested for."""
    parser = argparse.ArgumentParser()
    parser.add_argument("run", help="folder of a run, or a model file")
    parser.add_argument("--part", action="append", choices=["speed", "short", "kills", "memory", "store"])
    arguments = parser.parse_args()
    model = owl.load_model(arguments.run)
    requested = arguments.part or ["speed", "short", "kills", "memory", "store"]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        samples = synthetic(folder)
        for part in requested:
            if part == "store":
                found = store(folder)
            elif part == "memory":
                found = memory(Path(arguments.run), samples, folder)
            else:
                found = {"speed": speed, "short": short, "kills": kills}[part](model, samples, folder)
            print(json.dumps({part: found}, indent=1), flush=True)


if __name__ == "__main__":
    main()
