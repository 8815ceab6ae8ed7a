"""How many of 5 % exchanged labels `check` finds, and how many of its doubtful labels are exchanged.

usage: wrong_labels.py [DEMO]; DEMO is a folder that barn-owl demo has written.
"""

import os
import sys
import tempfile
from pathlib import Path

import numpy as np
import pandas as pd

import barn_owl as owl
from barn_owl.clips.doubtful import doubtful_labels
from barn_owl.clips.inspection import inspect_clips

DATA = Path(os.environ.get("REAL_SOUNDS") or Path(tempfile.gettempdir()) / "real-sounds")
PROBLEMS = ("drums", "voices", "letters", "instruments", "commands", "effects")
SHARE, SEEDS = 0.05, 5


def exchanged(labels: np.ndarray, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Return labels with a share of them exchanged for another label, and which are."""
    names, wrong = np.unique(labels), np.zeros(len(labels), dtype=bool)
    wrong[rng.choice(len(labels), max(1, round(SHARE * len(labels))), replace=False)] = True
    changed = labels.copy()
    changed[wrong] = [rng.choice(names[names != label]) for label in labels[wrong]]
    return changed, wrong


def main() -> None:
    """Print recall and precision of each problem."""
    tables = {name: DATA / name / "clips.csv" for name in PROBLEMS}
    if sys.argv[1:]:
        tables["demo"] = Path(sys.argv[1]) / "clips.csv"
    for name, path in tables.items():
        clips = owl.read_clip_table(path)
        inspections = inspect_clips(clips)
        rows = []
        for seed in range(SEEDS):
            labels, wrong = exchanged(clips["label"].to_numpy(dtype=object), np.random.default_rng(seed))
            found = [one.row for one in doubtful_labels(clips.assign(label=labels), inspections)]
            rows.append((wrong[found].sum() / wrong.sum(), wrong[found].mean() if found else np.nan, len(found)))
        recall, precision, count = pd.DataFrame(rows).mean()
        before = len(doubtful_labels(clips, inspections))
        print(f"{name}: recall {recall:.2f}, precision {precision:.2f}, {count:.0f} of {len(clips)} clips doubted "
              f"({before} with the labels as they are)")  # fmt: skip


if __name__ == "__main__":
    main()
