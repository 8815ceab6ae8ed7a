"""Large tables, takes found in noise, copies found among thousands, and training with changed sound."""

import tempfile
import time
from contextlib import closing
from pathlib import Path

import numpy as np
import pandas as pd
from timing import tell

from barn_owl.audio import read_audio, resample, write_audio
from barn_owl.clips import (
    TakeSettings,
    check_clip_table,
    check_clips,
    find_takes,
    gather_folder,
    gather_table,
    split_clips,
)
from barn_owl.clips.duplicates import near_duplicates
from barn_owl.clips.inspection import inspect_clips
from barn_owl.demo import write_harbor
from barn_owl.demo.sounds import EVENTS, RATE_HZ
from barn_owl.learn import Plan
from barn_owl.runs import Work, train
from barn_owl.sound import SoundSettings
from barn_owl.sound.samples import SampleFile

ROWS, FILES = 100_000, 2_000


def large_table(folder: Path) -> None:
    rng = np.random.default_rng(0)
    for number in range(FILES):
        write_audio(folder / f"{number}.wav", np.zeros(8_000 * 5), 8_000, force=True)
    starts = rng.uniform(0, 4, ROWS).round(3)
    rows = {
        "file": [f"{n % FILES}.wav" for n in range(ROWS)],
        "start_s": starts,
        "end_s": starts + 1,
        "label": rng.integers(0, 50, ROWS).astype(str),
        "group": [f"g{n % FILES % 300}" for n in range(ROWS)],
    }
    pd.DataFrame(rows).to_csv(folder / "table.csv", index=False)
    begin = time.perf_counter()
    clips = gather_table(folder / "table.csv").clips
    gathered = time.perf_counter()
    check_clips(clips, audio=False)
    checked = time.perf_counter()
    split_clips(clips)
    done = time.perf_counter()
    tell("100,000 rows: seconds to gather", gathered - begin, "(for information)")
    tell("100,000 rows: seconds to check without audio", checked - gathered, "(for information)")
    tell("100,000 rows: seconds to split", done - checked, "(for information)")
    tell("100,000 rows: gather, check and split, seconds", done - begin, "< 20")
    alone = check_clip_table(pd.DataFrame({"file": [f"{n}.wav" for n in range(ROWS)], "label": rows["label"]}))
    begin = time.perf_counter()
    split_clips(alone)
    tell("100,000 files without groups: seconds to split", time.perf_counter() - begin, "(for information)")


def takes(folder: Path, sound: str = "hull-knock", count: int = 500, snr_db: float = 10.0) -> None:
    rng = np.random.default_rng(0)
    at, onsets, parts = 1.0, [], []
    for _ in range(count):
        event = np.asarray(EVENTS[sound](rng), dtype=np.float32)
        loud = np.flatnonzero(np.abs(event) > 0.05 * np.abs(event).max())
        event = event[loud[0] : loud[-1] + 1]
        width = min(RATE_HZ // 10, len(event))
        total = np.concatenate([[0.0], np.cumsum(event.astype(float) ** 2)])
        parts.append((at, event / np.sqrt((total[width:] - total[:-width]).max() / width)))
        onsets.append(at)
        at += len(event) / RATE_HZ + rng.uniform(0.8, 2.0)
    whole = rng.standard_normal(round((at + 1) * RATE_HZ)).astype(np.float32) * np.float32(10 ** (-snr_db / 20))
    for onset, event in parts:
        first = round(onset * RATE_HZ)
        whole[first : first + len(event)] += event
    write_audio(folder / "takes.wav", 0.1 * whole, RATE_HZ, force=True)
    found = find_takes(folder / "takes.wav", TakeSettings(max_gap_s=0.6))["onset_s"].to_numpy()
    error = np.abs(found[:, None] - np.array(onsets))
    tell("500 knocks 10 dB above noise: recall", float((error.min(axis=0) < 0.1).mean()), ">= 0.98")
    tell("500 knocks 10 dB above noise: precision", float((error.min(axis=1) < 0.1).mean()), ">= 0.98")
    tell("500 knocks 10 dB above noise: median onset error in ms", 1000 * float(np.median(error.min(axis=0))), "< 10")


def copies(folder: Path, clips: int = 4800, planted: int = 200) -> None:
    quay = write_harbor(folder / "quay", clips_per_label=clips // 7 + 1, minutes=0.5)
    table = gather_folder(quay.clips).clips.sample(clips, random_state=0, ignore_index=True)
    rng, rows = np.random.default_rng(0), []
    for number, file in enumerate(table["file"].head(planted * 2)):
        samples, rate_hz = read_audio(file)
        if not samples.any() or len(rows) == planted:
            continue
        samples = samples * min(1.0, 0.5 / float(np.abs(samples).max()))
        kind, path = number % 4, folder / f"copy_{number}.wav"
        if kind == 0:
            samples = samples * 0.3
        elif kind == 1:
            samples = samples[round(0.02 * rate_hz) :]
        elif kind == 2:
            samples = samples + 0.1 * samples.std() * rng.standard_normal(len(samples))
        else:
            path = path.with_suffix(".mp3")
            if rate_hz > 48_000:
                samples, rate_hz = resample(samples, rate_hz, 16_000), 16_000
        write_audio(path, np.clip(samples, -1, 1), rate_hz, force=True)
        rows.append({"file": str(path), "label": table["label"][number], "of": number})
    whole = check_clip_table(pd.concat([table, pd.DataFrame(rows)], ignore_index=True))
    wanted = {(row["of"], clips + number) for number, row in enumerate(rows)}
    begin = time.perf_counter()
    with closing(SampleFile()) as kept:
        measures = inspect_clips(whole, kept=kept)
        measured = time.perf_counter()
        pairs = near_duplicates(whole, measures, kept=kept)
    done = time.perf_counter()
    found = set(zip(pairs["first"], pairs["second"], strict=True))
    tell(f"{len(whole)} clips of 1 to 4 s: seconds to read and measure", measured - begin, "(for information)")
    tell(f"{len(whole)} clips: seconds to search for copies", done - measured, "(for information)")
    tell(f"{len(whole)} clips: both", done - begin, "< 60")
    tell("share of planted copies found", len(wanted & found) / len(wanted), ">= 0.95")
    tell("pairs found that are no copies", len(found - wanted), "0")


def changed_sound(folder: Path) -> None:
    clips = gather_folder(write_harbor(folder / "small", minutes=0.5).clips, names="{group}_{take}").clips

    def epoch(sound: SoundSettings) -> tuple[float, float]:
        plan = Plan(background=["water"], sound=sound, training={"epochs": 14})
        curves = train(clips, folder / "run", plan, work=Work(force=True, cache=folder / "cache")).curves
        return float(np.diff(curves["seconds"])[2:].min()), float(curves["waiting"][3:].median())

    plain, changed = [], []
    for _ in range(3):
        plain.append(epoch(SoundSettings()))
        changed.append(epoch(SoundSettings.everything()))
    tell("epoch with all changes of sound over one without", min(changed)[0] / min(plain)[0], "<= 1.5")
    tell("share of an epoch spent on its windows, without", min(plain)[1], "(for information)")
    tell("share of an epoch spent on its windows, with", min(changed)[1], "(for information)")


def main() -> None:
    for part in (large_table, takes, copies, changed_sound):
        with tempfile.TemporaryDirectory() as folder:
            part(Path(folder))


if __name__ == "__main__":
    main()
