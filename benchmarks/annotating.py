"""Annotation of long recordings: time to open, time of a tile, memory.

usage: annotating.py [--hours 24]

A page is served for a synthetic recording; tiles all over it are requested as a browser does, at each level and on
both scales.
"""

import argparse
import json
import resource
import tempfile
import threading
import time
import urllib.error
import urllib.request
from pathlib import Path

import numpy as np
import soundfile

import barn_owl
from barn_owl.show.tiles import LEVELS

RATE_HZ, TILES = 16_000, 8


def long_recording(path: Path, hours: float) -> None:
    """Write noise with a click every second as FLAC."""
    rng = np.random.default_rng(0)
    block = (300 * rng.standard_normal(RATE_HZ * 600)).astype(np.int16)
    block[::RATE_HZ] = 20_000
    with soundfile.SoundFile(path, "w", RATE_HZ, 1, format="FLAC") as file:
        for _ in range(round(6 * hours)):
            file.write(block)


def fetched(address: str) -> tuple[bytes, float]:
    """Return a reply and its time in milliseconds."""
    begin = time.perf_counter()
    with urllib.request.urlopen(address) as reply:  # noqa: S310 - our own server
        content = reply.read()
    return content, 1000 * (time.perf_counter() - begin)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--hours", type=float, default=24)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "day.flac"
        long_recording(path, given.hours)
        begin = time.perf_counter()
        marks = barn_owl.annotation.MarkFile(Path(name) / "truth.csv", [path])
        with barn_owl.show.AnnotationServer(marks) as server:
            threading.Thread(target=server.serve, daemon=True).start()
            fetched(server.address)
            fetched(f"{server.address}tile/0/mel/4/0")
            opened_s = time.perf_counter() - begin
            rng, seconds = np.random.default_rng(0), 3600 * given.hours
            times = {}
            for level in LEVELS:
                for scale in ("mel", "linear"):
                    for number in rng.integers(0, int(seconds / 2.0**level), TILES):
                        address = f"{server.address}tile/0/{scale}/{level}/{number}"
                        try:
                            times.setdefault(level, []).append(fetched(address)[1])
                        except urllib.error.HTTPError:  # a level that this rate does not have
                            break
            begin = time.perf_counter()
            while fetched(f"{server.address}overview/0")[0][0] < 100:
                time.sleep(0.2)
            overview_s = time.perf_counter() - begin
            server.stop()
    print(json.dumps({
        "hours": given.hours, "opened, s": round(opened_s, 2), "overview, s": round(overview_s, 1),
        "tile, ms, median": {level: round(float(np.median(own)), 1) for level, own in times.items()},
        "tile, ms, 95 %": round(float(np.quantile(np.concatenate(list(times.values())), 0.95)), 1),
        "memory, MB": round(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024),
    }))  # fmt: skip


if __name__ == "__main__":
    main()
