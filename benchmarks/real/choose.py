"""Choose the defaults of training and decoding again, over all five real problems.

usage: choose.py [--sets drums,voices,letters,instruments,commands] [--seeds 0] [--only WORDS,OF,NAMES]

Settings are changed separately. Test clips take no part: a model is trained on the training split, a quarter of whose
groups it chooses on, and is evaluated on the clips of the validation split and on the recording that unseen.py
composes from them, over unseen background. Of commands, three dissimilar voices are used. Prints a row for each
change: balanced accuracy, event F1 and CPU seconds of each problem, and the means.
"""

import argparse
import tempfile
import time
from pathlib import Path
from typing import Any

import pandas as pd
from judge import FOLDERS, Judge
from recorded import DATA
from unseen import KEPT_OUT

import barn_owl

CHANGES: dict[str, dict[str, Any]] = {
    "as it is": {},
    "levels relative to 1 s": {"level": {"span_s": 1.0}},
    "a frame every 10 ms": {"front_end": {"hop_ms": 10.0}},
    "a frame every 20 ms": {"front_end": {"hop_ms": 20.0}},
    "time and bands only": {"cnn": {"kinds": ["2d"]}},
    "along time only": {"cnn": {"kinds": ["1d"]}},
    "tiny": {"cnn": {"size": "tiny"}},
    "24 epochs": {"training": {"epochs": 24}},
    "72 epochs": {"training": {"epochs": 72}},
    "whole clips 0.3": {"mixtures": {"whole_clips": 0.3}},
    "whole clips 0.7": {"mixtures": {"whole_clips": 0.7}},
    "synthetic sounds 0.1": {"mixtures": {"unknown": 0.1}},
    "synthetic sounds 0.25": {"mixtures": {"unknown": 0.25}},
    "from 3 dB": {"mixtures": {"snr_low_db": 3.0}},
    "no shift along the bands": {"augment": {"shift_bands": 0.0}},
    "no reverberation": {"augment": {"reverb": 0.0}},
    "no low-pass filter": {"augment": {"low_pass": 0.0}},
    "low-pass filter 0.1": {"augment": {"low_pass": 0.1}},
    "low-pass filter 0.3": {"augment": {"low_pass": 0.3}},
}
DECODING: dict[str, dict[str, float]] = {
    "threshold 0.4": {"threshold": 0.4, "release_threshold": 0.25},
    "threshold 0.6": {"threshold": 0.6, "release_threshold": 0.45},
    "from 0.1 s on": {"min_duration_s": 0.1},
    "sure to 0.5": {"min_known_probability": 0.5},
    "sure to 0.7": {"min_known_probability": 0.7},
    "begins again from 0.7": {"retrigger_threshold": 0.7},
    "averaged over 0.2 s": {"smoothing_s": 0.2},
}


SOUND = ".wav", ".flac"
JUDGED_VOICES = ["awb", "ked", "caribbean_m7"]
WATCHED_VOICES = ["kal", "rp_f4", "ambi_dark_woosh"]
"""Groups of commands to judge on, and to choose the best epoch on."""


def held_out(judge: Judge) -> pd.DataFrame:
    """The clips without the test split; the former validation split is evaluated."""
    clips = judge.clips[judge.clips["split"] != "test"]
    clips = clips[~clips["group"].isin(KEPT_OUT)]
    if judge.problem == "commands":
        places = dict.fromkeys(WATCHED_VOICES, "validation") | dict.fromkeys(JUDGED_VOICES, "test")
        return clips.assign(split=clips["group"].map(places).fillna("train"))[["file", "label", "group", "split"]]
    groups = sorted(clips.loc[clips["split"] == "train", "group"].astype(str).unique())
    chosen_on = clips["group"].astype(str).isin(groups[1::4])
    split = clips["split"].where(~(chosen_on & (clips["split"] == "train")), "choose")
    names = {"train": "train", "choose": "validation", "validation": "test"}
    every = judge.with_background(clips.assign(split=split.map(names)))
    return every.loc[~every["group"].isin(KEPT_OUT), ["file", "label", "group", "split"]]


def measured(judge: Judge, name: str, folder: Path) -> list[tuple[str, str, float]]:
    """Train with a change; return the change, measures and values."""
    table = folder / "clips.csv"
    held_out(judge).to_csv(table, index=False)
    clips = barn_owl.read_clip_table(table)
    plan = barn_owl.suggest_plan(clips[clips["split"] != "test"]).plan.but(seed=judge.seed, background=["background"])
    begin = time.process_time()
    run = barn_owl.train(clips, folder / "run", plan.but(**CHANGES[name]), work=barn_owl.Work(workers=1))
    found = [(name, "CPU s", time.process_time() - begin)]
    found.append((name, "clips", run.evaluate().scores.balanced_accuracy))
    if judge.problem not in FOLDERS:
        return found
    truth_table = DATA / "unseen" / f"{judge.problem}_unseen.csv"
    recording = next(path for path in truth_table.parent.glob(f"{truth_table.stem}.*") if path.suffix in SOUND)
    trace = barn_owl.tag.compute_trace(run.model, recording)
    truth = barn_owl.read_clip_table(truth_table).assign(file=trace.file)
    decoding = {name: {}} if CHANGES[name] else {name: {}, **DECODING}
    for own, change in decoding.items():
        events = barn_owl.tag.tag_trace(run.model, trace, decoding=run.model.decoding.but(**change))
        scores = barn_owl.score_events(events, truth, seconds={trace.file: trace.duration_s})
        found.append((own, "events", scores.f1))
    return found


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--sets", default="drums,voices,letters,instruments,commands")
    parser.add_argument("--seeds", default="0")
    parser.add_argument("--only", default="")
    given = parser.parse_args()
    rows: list[tuple[str, str, str, float]] = []
    for name in CHANGES:
        if given.only and not any(word in name for word in given.only.split(",")):
            continue
        for problem in given.sets.split(","):
            for seed in map(int, given.seeds.split(",")):
                with tempfile.TemporaryDirectory() as folder:
                    found = measured(Judge(problem, seed, Path(folder)), name, Path(folder))
                rows += [(problem, *one) for one in found]
        table = pd.DataFrame(rows, columns=["problem", "change", "measure", "value"])
        by_problem = table.pivot_table("value", "change", ["measure", "problem"], sort=False)
        means = table.pivot_table("value", "change", "measure", sort=False)
        print(by_problem.round(3).to_string(), means.round(3).to_string(), sep="\n\n", flush=True)


if __name__ == "__main__":
    main()
