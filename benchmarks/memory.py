"""Peak memory of the largest process of each command, on the demo and on a recording of three hours.

python benchmarks/memory.py FOLDER-OF-THE-DEMO [COMMAND...]
"""

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile
from weak_archive import write_archive

HOURS = 3


def peak_mb(command: list[str], folder: Path) -> tuple[float, int]:
    """Run a command; return the peak of the largest of its processes in MB, and its exit code."""
    process = subprocess.Popen(
        [sys.executable, "-m", "barn_owl", *command], cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
        start_new_session=True, text=True,
    )  # fmt: skip
    peaks: dict[int, int] = {}
    while process.poll() is None:
        for entry in Path("/proc").iterdir():
            if entry.name.isdigit():
                try:
                    if os.getsid(int(entry.name)) == process.pid:
                        status = (entry / "status").read_text()
                        peaks[int(entry.name)] = int(status.split("VmHWM:")[1].split()[0])
                except (OSError, IndexError):
                    continue
        time.sleep(0.02)
    said = process.stderr.read() if process.stderr else ""
    if process.returncode not in (0, 1):
        print(said[-400:], file=sys.stderr)
    return max(peaks.values(), default=0) / 1024, process.returncode


def main() -> None:
    """Print a line for each command."""
    parser = argparse.ArgumentParser()
    parser.add_argument("demo", type=Path)
    parser.add_argument("only", nargs="*", help="first words of the commands to run; all if none is given")
    requested = parser.parse_args()
    demo = requested.demo.resolve()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        night, rate_hz = soundfile.read(demo / "night.flac", dtype="float32")
        with soundfile.SoundFile(folder / "long.flac", "w", rate_hz, 1) as file:
            for number in range(6 * HOURS):
                file.write(np.roll(night, number * rate_hz))
        clips, run, short = str(demo / "clips.csv"), str(demo / "run"), str(demo / "night.flac")
        commands = {
            "gather": ["gather", str(demo / "clips"), "-o", "g.csv"],
            "check": ["check", clips, "-o", "f.csv"],
            "split": ["split", clips, "-o", "s.csv"],
            "look TABLE": ["look", clips, "-o", "looked"],
            "look RECORDING": ["look", "long.flac", "-o", "l.png"],
            "features TABLE": ["features", clips, "-o", "x.parquet"],
            "features RECORDING, CSV": ["features", "long.flac", "-o", "y.csv"],
            "features RECORDING, NPZ": ["features", "long.flac", "-o", "y.npz"],
            "cut": ["cut", "long.flac", "-o", "c.csv"],
            "plan": ["plan", clips, "-o", "p.toml"],
            "train": ["train", clips, "--run", "t", "--background", "water"],
            "evaluate": ["evaluate", run],
            "compare": ["evaluate", run, "t"],
            "classify": ["classify", run, clips, "-o", "n.csv"],
            "tag": ["tag", run, "long.flac", "-o", "e.csv"],
            "tag --store": ["tag", run, "long.flac", "--store", "k.sqlite"],
            "hours": ["hours", "k.sqlite"],
            "listen": ["listen", run, "--microphone", "simulated:long.flac", "--speed", "inf", "-o", "h.csv"],
            "adjust": ["adjust", run, str(demo / "truth.csv"), "-o", "a.safetensors"],
            "score": ["score", str(demo / "events.csv"), str(demo / "truth.csv")],
            "review": ["review", str(demo / "events.csv"), short, "--page", "r.html"],
            "find": ["find", "g.csv", "--in", "long.flac", "-o", "like.csv"],
            "propose": ["propose", clips, "-o", "next.csv"],
            "harvest": ["harvest", "archive.csv", "-o", "harvested.csv"],
            "record": ["record", "takes", "--label", "x", "--microphone", "simulated:long.flac", "--takes", "20",
                       "--keep-all"],
            "variants": ["look", clips, "-o", "larger", "--variants", "2", "--yes"],
            "search": ["shrink", clips, "--device", "core-256k", "--minutes", "1", "--run", "found"],
            "shrink": ["shrink", run, "--share", "0.33", "--int8", "--run", "small"],
            "demo": ["demo", "quay"],
            "export": ["export", run, "-o", "m.onnx"],
            "measure": ["tag", run, short, "--measure"],
        }  # fmt: skip
        if not requested.only or "harvest" in requested.only:
            write_archive(folder / "archive", 60, seed=0)[0].to_csv(folder / "archive.csv", index=False)
        for command, arguments in commands.items():
            if requested.only and command.split()[0] not in requested.only:
                continue
            mb, code = peak_mb(arguments, folder)
            print(json.dumps({command: round(mb), "code": code}), flush=True)


if __name__ == "__main__":
    main()
