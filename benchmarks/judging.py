"""Judging: all scores with their intervals, the page of a thousand clips, and opening it in a browser."""

import shutil
import tempfile
import time
from pathlib import Path

import numpy as np
from timing import tell

from barn_owl.clips import gather_folder
from barn_owl.demo import write_harbor
from barn_owl.evaluate import PredictionArrays, Scores
from barn_owl.learn import Plan
from barn_owl.runs import train
from barn_owl.show import write_report

CLIPS, LABELS, MILLION = 20_000, 20, 1_000_000


def answers(clips: int, labels: int, groups: int) -> PredictionArrays:
    rng = np.random.default_rng(0)
    true = rng.integers(0, labels, clips)
    logits = rng.standard_normal((clips, labels))
    logits[np.arange(clips), true] += 2
    scores = np.exp(logits)
    scores /= scores.sum(axis=1, keepdims=True)
    one = np.eye(labels, dtype=bool)
    names = [f"label {number}" for number in range(labels)]
    return PredictionArrays(
        labels=names,
        truth=one[true],
        scores=scores,
        predicted=one[scores.argmax(axis=1)],
        groups=np.arange(clips) % groups,
    )


def seconds(work: object) -> float:
    begin = time.perf_counter()
    work()  # type: ignore[operator]
    return time.perf_counter() - begin


def main() -> None:
    for groups in (8, 200, CLIPS):
        judged = answers(CLIPS, LABELS, groups)
        spent = seconds(lambda judged=judged: Scores(arrays=judged, rounds=1000).overall)
        tell(f"all scores, {CLIPS} clips, {LABELS} labels, 1000 rounds over {groups} groups: seconds", spent, "< 5")
    judged = answers(MILLION, 10, 1000)
    tell(
        "all scores of a million clips, no intervals: seconds",
        seconds(lambda: Scores(arrays=judged, rounds=0).overall),
        "about 2",
    )

    with tempfile.TemporaryDirectory() as folder:
        quay = write_harbor(Path(folder) / "quay", clips_per_label=715, minutes=0.5)
        clips = gather_folder(quay.clips, names="{group}_{take}").clips
        run = train(clips, Path(folder) / "run", Plan(classifier="logistic", background=["water"]))
        page, evaluation = Path(folder) / "report.html", run.evaluate()
        spent = seconds(lambda: write_report(run, evaluation, page))
        tell(f"page of {len(evaluation.predictions)} clips: seconds", spent, "< 20")
        tell("page: megabytes", page.stat().st_size / 1e6, "< 15")
        chromium = shutil.which("chromium")
        if chromium is None:
            print("opening the page: skipped, no Chromium on this machine")
            return
        from playwright.sync_api import sync_playwright

        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path=chromium, args=["--no-sandbox", "--disable-gpu"])
            opened = browser.new_page()
            tell("page opens in Chromium: seconds", seconds(lambda: opened.goto(page.as_uri())), "< 2")
            browser.close()


if __name__ == "__main__":
    main()
