"""Accuracy against clips per label, for each classifier: the demo's harbor, recorders held out."""

import sys
import tempfile
from pathlib import Path

import pandas as pd

from barn_owl.classifiers.kind import names
from barn_owl.clips import gather_folder, limit_clips, split_clips
from barn_owl.demo import write_harbor
from barn_owl.learn import Plan
from barn_owl.runs import Work, train_classifiers

COUNTS = (5, 10, 20, 40)


def main() -> None:
    classifiers = sys.argv[1].split(",") if len(sys.argv) > 1 else names()
    rows = {}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        quay = write_harbor(folder / "quay", clips_per_label=80, minutes=0.5)
        clips = split_clips(gather_folder(quay.clips, names="{group}_{take}").clips)
        test = clips[clips["split"] == "test"]
        for count in COUNTS:
            # As many clips for training, a third as many to validate; the test is the same for all.
            parts = [test]
            for split, share in (("train", count), ("validation", max(2, count // 3))):
                parts.append(limit_clips(clips[clips["split"] == split].reset_index(drop=True), share))
            table = pd.concat(parts, ignore_index=True)
            plan = Plan(background=["water"])
            ranking = train_classifiers(
                table, folder / str(count), plan, classifiers=classifiers, work=Work(cache=folder / "cache")
            )
            rows[f"{count} clips a label"] = dict(
                zip(ranking["classifier"], ranking["test_balanced_accuracy"], strict=True)
            )
            print(pd.DataFrame(rows).round(3).to_string(), flush=True)


if __name__ == "__main__":
    main()
