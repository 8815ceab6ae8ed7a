"""Judge Barn Owl on the real problems, through its command line, with default settings.

usage: judge.py [--sets drums,voices,letters,instruments,commands] [--seeds 0,1,2]
                [--steps clips,events,adjust,few,groups] [--out FOLDER]

clips : train on the training split, choose on the validation split, balanced accuracy on the test split.
events : train on both of those splits and on background, tag the long recordings as they are and in another room,
with the model as trained and adapted to each recording.
adjust : the same without the validation clips, before and after `adjust` on a recording that is made of those.
few : as clips, with 3, 5, 10 and 20 clips a label to train on, and a third as many to choose on.
groups : as clips, with 20 clips a label from 2, 4 and 8 groups to train on.

Prints a line of JSON for each measure, and at the end their means over the seeds.
"""

import argparse
import json
import resource
import subprocess
import sys
from pathlib import Path

import pandas as pd
from recorded import DATA

import barn_owl
from barn_owl.audio import audio_info

OWL = str(Path(sys.executable).with_name("barn-owl"))
FOLDERS = {
    "drums": ("long", "tune"), "voices": ("long", "tune"),
    "instruments": ("long2", "tune2"), "commands": ("long2", "tune2"),
}  # fmt: skip
FEW = (3, 5, 10, 20)
GROUPS, GROUP_CLIPS = (2, 4, 8), 20


def owl(*arguments: object) -> tuple[str, float]:
    """Run a command; return its output and CPU seconds."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    done = subprocess.run([OWL, *map(str, arguments)], capture_output=True, text=True)
    if done.returncode:
        sys.exit(f"barn-owl {arguments[0]} failed: {done.stderr[-800:]}")
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return done.stdout, after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


class Judge:
    """Measures of a problem and seed, printed as they come."""

    def __init__(self, problem: str, seed: int, out: Path) -> None:
        self.problem, self.seed, self.out = problem, seed, out
        folder = DATA / problem
        clips = pd.read_csv(folder / "clips.csv").merge(pd.read_csv(folder / "split.csv"), on="file")
        self.clips = clips.assign(file=[str(folder / file) for file in clips["file"]])
        self.measures: list[dict[str, object]] = []

    def note(self, measure: str, value: float) -> None:
        found = {"problem": self.problem, "seed": self.seed, "measure": measure, "value": round(float(value), 4)}
        self.measures.append(found)
        print(json.dumps(found), flush=True)

    def train(self, clips: pd.DataFrame, name: str) -> tuple[Path, float]:
        """Train on a clip table with splits; the run, and seconds of CPU."""
        table, run = self.out / f"{self.problem}-{name}.csv", self.out / f"{self.problem}-{name}"
        clips[["file", "label", "group", "split"]].to_csv(table, index=False)
        background = ["--background", "background"] if (clips["label"] == "background").any() else []
        return run, owl("train", table, "--run", run, "--seed", self.seed, "--force", "--quiet", *background)[1]

    def accuracy(self, clips: pd.DataFrame, measure: str) -> None:
        run, cpu_s = self.train(clips, "clips")
        self.note(measure, json.loads(owl("evaluate", run, "--json")[0])["balanced_accuracy"])
        self.note(f"{measure}, CPU seconds", cpu_s)

    def few(self) -> None:
        for count in FEW:
            shuffled = self.clips.sample(frac=1, random_state=self.seed)
            own = dict(iter(shuffled.groupby("split")))
            some = own["train"].groupby("label").head(count), own["validation"].groupby("label").head(-(-count // 3))
            self.accuracy(pd.concat([*some, own["test"]]), f"clips, {count} a label")

    def groups(self) -> None:
        train = self.clips[self.clips["split"] == "train"]
        order = train["group"].value_counts().sample(frac=1, random_state=self.seed).index
        for count in GROUPS:
            some = train[train["group"].isin(order[:count])].sample(frac=1, random_state=self.seed)
            if count <= len(order) and some["label"].nunique() == train["label"].nunique():
                some = some.groupby("label").head(GROUP_CLIPS)
                rest = self.clips[self.clips["split"] != "train"]
                self.accuracy(pd.concat([some, rest]), f"clips, {GROUP_CLIPS} a label from {count} groups")

    def with_background(self, clips: pd.DataFrame) -> pd.DataFrame:
        """Add clips of background (every third source for validation), unless there are some."""
        if (clips["label"] == "background").any():
            return clips
        background = pd.read_csv(DATA / "background" / "clips.csv")
        place = background["group"].astype(str).map(sorted(background["group"].astype(str).unique()).index)
        return pd.concat([clips, background.assign(
            file=[str(DATA / "background" / file) for file in background["file"]],
            split=["validation" if number % 3 == 1 else "train" for number in place],
        )])  # fmt: skip

    def events(self) -> None:
        run, cpu_s = self.train(self.with_background(self.clips[self.clips["split"] != "test"]), "events")
        self.note("events, CPU seconds", cpu_s)
        promised = json.loads((run / "rehearsal.json").read_text())
        self.note("rehearsal, event F1", promised["event_f1"])
        self.note("rehearsal, event F1 with 10 events a minute", promised["at_density"]["event_f1"])
        self.tag(run, FOLDERS[self.problem][0], "")
        self.tag(run, "room", ", another room")

    def adjust(self) -> None:
        """A training continues to train on validation clips, so the model that is adjusted on them has none."""
        clips = self.clips[self.clips["split"] == "train"]
        groups = sorted(clips.loc[clips["label"] != "background", "group"].astype(str).unique())
        held = clips["group"].astype(str).isin(groups[1::4]) & (clips["label"] != "background")
        clips = clips.assign(split=held.map({True: "validation", False: "train"}))
        folder, tune = FOLDERS[self.problem]
        run, _ = self.train(self.with_background(clips), "adjusted")
        self.tag(run, folder, ", fewer clips")
        owl("adjust", run, DATA / tune / f"{self.problem}_tune.csv", "--quiet")
        self.tag(run, folder, ", adjusted")

    def tag(self, run: Path, folder: str, what: str) -> None:
        for recording in sorted((DATA / folder).glob(f"{self.problem}_*min*")):
            if recording.suffix == ".csv":
                continue
            owl("tag", run, recording, "-o", self.out / "events.csv", "--force", "--quiet")
            truth = barn_owl.read_clip_table(recording.with_suffix(".csv")).assign(file=str(recording))
            events = barn_owl.read_events(self.out / "events.csv").assign(file=str(recording))
            seconds = {str(recording): audio_info(recording).duration_s}
            scores = barn_owl.score_events(events, truth, seconds=seconds)
            self.note(f"{recording.stem}{what}, event F1", scores.f1)
            self.note(f"{recording.stem}{what}, false alarms per hour", scores.false_alarms_per_hour)
            events = barn_owl.tag_recording(barn_owl.adapt(run, recording).model, recording)
            adapted = barn_owl.score_events(events, truth, seconds=seconds)
            self.note(f"{recording.stem}{what}, adapted, event F1", adapted.f1)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--sets", default="drums,voices,letters,instruments,commands")
    parser.add_argument("--seeds", default="0,1,2")
    parser.add_argument("--steps", default="clips,events,adjust,few,groups")
    parser.add_argument("--out", type=Path, default=DATA / "results")
    given = parser.parse_args()
    if not (DATA / "background" / "clips.csv").is_file():
        print(f"Nothing is measured: {DATA} does not hold the real problems; see benchmarks/real/README.md.")
        return
    given.out.mkdir(parents=True, exist_ok=True)
    measures = []
    for seed in map(int, given.seeds.split(",")):
        for problem in given.sets.split(","):
            judge = Judge(problem, seed, given.out)
            for step in given.steps.split(","):
                if step == "clips":
                    judge.accuracy(judge.clips, "clips")
                elif step in {"few", "groups"} or problem in FOLDERS:
                    getattr(judge, step)()
            measures += judge.measures
    table = pd.DataFrame(measures).groupby(["problem", "measure"], sort=False)["value"]
    print(table.agg(["mean", "min", "max"]).round(3).to_string())


if __name__ == "__main__":
    main()
