"""Two real problems, which are not part of this repository: clips named, events found, beside a plain yardstick.

python benchmarks/real.py [seeds, with commas] [FOLDER]

FOLDER (default: ``../shared/real``) holds ``fetch.sh`` and ``build.py``, which set the data up below the folder that
``REAL_SOUNDS`` names, and ``score_events.py``. Everything goes through the command line, with default settings.
"""

import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import pandas as pd
import soundfile as sf
import soxr

DATA = Path(os.environ.get("REAL_SOUNDS") or Path(tempfile.gettempdir()) / "real-sounds")
OWL = [str(Path(sys.executable).with_name("barn-owl"))]
YARDSTICK = {
    "drums clips": 0.845, "voices clips": 0.972,
    "drums_10min": 0.721, "drums_30min": 0.701, "drums_60min": 0.616, "voices_30min": 0.596,
}  # fmt: skip
"""A small network of a general framework: balanced accuracy; event F1, tuned on the recordings in ``tune``."""


def owl(*arguments: object) -> str:
    """Run a command and return what it printed."""
    done = subprocess.run([*OWL, *map(str, arguments)], capture_output=True, text=True)
    if done.returncode:
        sys.exit(f"barn-owl {arguments[0]} failed: {done.stderr[-800:]}")
    return done.stdout


def set_up(tools: Path) -> None:
    """Fetch and build the data, unless they are there."""
    if not (DATA / "long").is_dir():
        subprocess.run(["sh", str(tools / "fetch.sh")], check=True, env={**os.environ, "REAL_SOUNDS": str(DATA)})
        subprocess.run([sys.executable, str(tools / "build.py")], check=True)


def sides(problem: str) -> pd.DataFrame:
    """The clip table of a problem with its fixed sides, and whole paths."""
    folder = DATA / problem
    clips = pd.read_csv(folder / "clips.csv").merge(pd.read_csv(folder / "split.csv"), on="file")
    return clips.assign(file=[str(folder / file) for file in clips["file"]])


def with_background(clips: pd.DataFrame) -> pd.DataFrame:
    """Training and validation clips, and background, every third source of which is for validation."""
    background = pd.read_csv(DATA / "background" / "clips.csv")
    sources = sorted(background["group"].astype(str).unique())
    place = background["group"].astype(str).map(sources.index)
    background = background.assign(
        file=[str(DATA / "background" / file) for file in background["file"]],
        split=["validation" if number % 3 == 1 else "train" for number in place],
    )
    return pd.concat([clips[clips["split"] != "test"], background])[["file", "label", "group", "split"]]


def recordings(problem: str) -> list[Path]:
    """The long recordings of a problem."""
    return [path for path in sorted((DATA / "long").glob(f"{problem}_*min.*")) if path.suffix != ".csv"]


def at_another_level(problem: str, by_db: float, work: Path) -> list[Path]:
    """The long recordings louder or quieter, as 24 bit; as float where 24 bit would clip."""
    made = []
    for recording in recordings(problem):
        samples, rate_hz = sf.read(recording, dtype="float32")
        subtype = "PCM_24" if by_db < 0 else "FLOAT"
        made.append(work / f"{recording.stem}.wav")
        sf.write(made[-1], samples * 10 ** (by_db / 20), rate_hz, subtype=subtype)
    return made


def at_8_khz(clips: pd.DataFrame, work: Path) -> pd.DataFrame:
    """The test clips as if from a recorder that samples at 8 kHz."""
    folder = work / "8 kHz"
    folder.mkdir(exist_ok=True)
    test, files = clips[clips["split"] == "test"], []
    for number, file in enumerate(test["file"]):
        samples, rate_hz = sf.read(file, dtype="float32", always_2d=True)
        files.append(folder / f"{number}.wav")
        sf.write(files[-1], soxr.resample(samples.mean(axis=1), rate_hz, 8000), 8000, subtype="FLOAT")
    return test.assign(file=files)[["file", "label", "group"]]


def tagged(run: Path, problem: str, tools: Path, work: Path, files: list[Path] | None = None) -> dict[str, float]:
    """Event F1 and more of each long recording."""
    found = {}
    for recording in files or recordings(problem):
        owl("tag", run, recording, "-o", work / "events.csv", "--force", "--quiet")
        truth = DATA / "long" / f"{recording.stem}.csv"
        minutes = int("".join(c for c in recording.stem if c.isdigit()))
        more = ["--duration", minutes * 60, "--details", truth.with_suffix(".details.csv")]
        command = [sys.executable, tools / "score_events.py", truth, work / "events.csv", *more]
        done = subprocess.run([str(part) for part in command], capture_output=True, text=True, check=True)
        scores = json.loads(done.stdout)
        alarms, foreign = scores["false_alarms_per_hour"], scores["distractors"]
        found[recording.stem] = scores["event"]["f1"]
        found[f"{recording.stem}, segments"] = scores["segment"]["f1"]
        found[f"{recording.stem}, false alarms an hour"] = alarms
        found[f"{recording.stem}, foreign"] = foreign["with_false_alarm"] / max(foreign["count"], 1)
        found[f"{recording.stem}, onset error ms"] = (scores["onset_error_ms"] or {}).get("mean_abs", float("nan"))
    return found


def judge(problem: str, seed: int, tools: Path, work: Path) -> dict[str, float]:
    """Train, evaluate, tag, adjust and tag again."""
    clips, rows = sides(problem), {}
    clips.to_csv(work / "clips.csv", index=False)
    begin = time.perf_counter()
    owl("train", work / "clips.csv", "--run", work / "clips", "--seed", seed, "--force", "--quiet")
    rows[f"{problem} training seconds"] = time.perf_counter() - begin
    judged = json.loads(owl("evaluate", work / "clips", "--json"))
    rows[f"{problem} clips"] = judged["balanced_accuracy"]
    at_8_khz(clips, work).to_csv(work / "8 kHz.csv", index=False)
    judged = json.loads(owl("evaluate", work / "clips", work / "8 kHz.csv", "--json"))
    rows[f"{problem} clips at 8 kHz"] = judged["balanced_accuracy"]
    clean = clips[clips["split"] != "test"]
    clean.to_csv(work / "dev.csv", index=False)
    owl("train", work / "dev.csv", "--run", work / "clean", "--seed", seed, "--force", "--quiet")
    rows |= {f"{name}, no background": value for name, value in tagged(work / "clean", problem, tools, work).items()}
    with_background(clips).to_csv(work / "dev.csv", index=False)
    owl(
        "train", work / "dev.csv", "--run", work / "run", "--seed", seed, "--force", "--quiet",
        "--background", "background",
    )  # fmt: skip
    rows |= tagged(work / "run", problem, tools, work)
    for by_db in (-40, -20, 20):
        files = at_another_level(problem, by_db, work)
        other = tagged(work / "run", problem, tools, work, files)
        rows |= {f"{file.stem}, {by_db} dB": other[file.stem] for file in files}
    owl("adjust", work / "run", DATA / "tune" / f"{problem}_tune.csv", "--quiet")
    return rows | {f"{name}, adjusted": value for name, value in tagged(work / "run", problem, tools, work).items()}


def main() -> None:
    seeds = [int(seed) for seed in (sys.argv[1] if len(sys.argv) > 1 else "0,1,2").split(",")]
    tools = Path(sys.argv[2] if len(sys.argv) > 2 else Path(__file__).resolve().parents[2] / "shared" / "real")
    if not (tools / "build.py").is_file():
        print(f"{tools} is not there: the real problems are not part of this repository, so nothing is measured")
        return
    set_up(tools)
    runs = {}
    for seed in seeds:
        with tempfile.TemporaryDirectory() as folder:
            for problem in ("drums", "voices"):
                runs[seed] = runs.get(seed, {}) | judge(problem, seed, tools, Path(folder))
        table = pd.DataFrame(runs)
        shown = pd.DataFrame({"mean": table.mean(axis=1), "low": table.min(axis=1), "high": table.max(axis=1)})
        shown["yardstick"] = [YARDSTICK.get(name.removesuffix(", adjusted"), float("nan")) for name in shown.index]
        print(shown.round(3).to_string(), flush=True)


if __name__ == "__main__":
    main()
