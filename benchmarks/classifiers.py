"""Classifiers by problem: balanced accuracy on unseen recorders, compared with a general library's classifiers.

python benchmarks/classifiers.py [clips per label] [problems, with commas]; the yardstick dependency group adds
the general library.
"""

import sys
import tempfile
import warnings
from pathlib import Path

import numpy as np
import pandas as pd
from problems import PROBLEMS, make_problem

from barn_owl.classifiers.kind import names
from barn_owl.clips import load_frames
from barn_owl.features import pool
from barn_owl.learn import Plan
from barn_owl.runs import Work, suggest_plan, train_classifiers


def general_library(clips: pd.DataFrame, plan: Plan) -> dict[str, float]:
    """Balanced accuracy of general classifiers on mean and deviation of log-mel over whole clips.

    They train on the training split, like our classifiers; the best is chosen on the test split.
    """
    from sklearn.ensemble import HistGradientBoostingClassifier, RandomForestClassifier
    from sklearn.linear_model import LogisticRegression
    from sklearn.metrics import balanced_accuracy_score
    from sklearn.neighbors import KNeighborsClassifier
    from sklearn.neural_network import MLPClassifier
    from sklearn.pipeline import make_pipeline
    from sklearn.preprocessing import StandardScaler
    from sklearn.svm import SVC

    frames, table, _ = load_frames(clips, plan.front_end)
    rows = np.stack([pool(part) for part in frames.parts])
    known, test = ((table["split"] == split).to_numpy() for split in ("train", "test"))
    scores = {}
    for made in (
        LogisticRegression(max_iter=2000), LogisticRegression(C=0.05, max_iter=2000), KNeighborsClassifier(5),
        SVC(C=10), SVC(C=1), RandomForestClassifier(500, random_state=0),
        HistGradientBoostingClassifier(random_state=0),
        MLPClassifier(max_iter=500, random_state=0),
    ):  # fmt: skip
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            said = make_pipeline(StandardScaler(), made).fit(rows[known], table["label"][known]).predict(rows[test])
        name, score = type(made).__name__, balanced_accuracy_score(table["label"][test], said)
        scores[name] = max(score, scores.get(name, 0))
    return scores


def judge(clips: pd.DataFrame, folder: Path, classifiers: list[str]) -> tuple[dict[str, float], Plan]:
    suggestion = suggest_plan(clips)
    ranking = train_classifiers(clips, folder, suggestion.plan, classifiers=classifiers, work=Work(force=True))
    return dict(zip(ranking["classifier"], ranking["test_balanced_accuracy"], strict=True)), suggestion.plan


def main() -> None:
    clips = int(sys.argv[1]) if len(sys.argv) > 1 else 24
    problems = sys.argv[2].split(",") if len(sys.argv) > 2 else list(PROBLEMS)
    classifiers = sys.argv[3].split(",") if len(sys.argv) > 3 else names()
    rows = {}
    for problem in problems:
        for noisy in (False, True):
            with tempfile.TemporaryDirectory() as folder:
                table = make_problem(problem, Path(folder) / "clips", clips, noisy=noisy)
                scores, plan = judge(table, Path(folder) / "runs", classifiers)
                best = max(scores.values())
                try:
                    general = general_library(table, plan)
                    scores |= {"general best": max(general.values()), "ahead by": best - max(general.values())}
                except ImportError:
                    print("the yardstick dependency group is not installed: no general library alongside")
                rows[f"{problem}, {'noisy' if noisy else 'clean'}"] = scores
                print(pd.DataFrame(rows).T.round(3).to_string(), flush=True)


if __name__ == "__main__":
    main()
