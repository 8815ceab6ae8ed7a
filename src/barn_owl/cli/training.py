"""A training with its messages: progress, expectation, scores; shared by commands that train."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.cli.evaluate import show_scores
from barn_owl.files import is_file

if TYPE_CHECKING:
    import pandas as pd


def train_aloud(
    voice: common.Terminal,
    clips: pd.DataFrame,
    folder: Path,
    plan: owl.Plan | None,
    work: owl.Work,
    *,
    resume: bool = False,
) -> owl.Run:
    """Train with a progress report; show the scores of rehearsal and test."""

    import pandas as pd

    from barn_owl.runs.run import UNLABELED

    with voice.progress("reading clips") as reading:
        teller = EpochReporter(voice)
        try:
            stages = replace(work, reading=reading, watch=teller, stage=lambda what: voice.say(f"{what} ..."))
            run = owl.train(clips, folder, plan, resume=resume, work=stages)
            voice.say("drawing figures and the report ...")
            owl.show.write_results(run)
        except KeyboardInterrupt:
            if is_file(folder / "predictions.csv"):
                voice.warn(f"stopped; {folder} has the best model. To continue, add --resume to the same command")
            raise
    skipped = folder / "skipped.csv"
    if is_file(skipped):
        voice.warn(f"{len(pd.read_csv(skipped))} clips could not be used; see {skipped}")
    for sentence in run.learning.words:
        voice.say(sentence)
    if is_file(heard := folder / UNLABELED):
        labels = owl.read_clip_table(heard, may_be_empty=True, urls=common.table_urls())["label"]
        counts = (
            ", ".join(f"{count} {label}" for label, count in labels[labels != ""].value_counts().items()) or "none"
        )
        voice.say(f"Unlabeled sounds that it learned from: {counts}; {sum(labels == '')} in doubt got no label.")
        voice.say(f"To hear them: barn-owl review {heard} --serve")
    show_expectation(voice, run)
    if run.tested is not None:
        show_scores(voice, run.tested)
    else:
        voice.warn("no test clips, so the run is not evaluated")
    return run


def show_expectation(voice: common.Terminal, run: owl.Run) -> None:
    """Show the expected performance on recordings, with reasons for caution."""

    import pandas as pd

    expected = run.expectation
    if expected is None:
        voice.warn("no rehearsal: it needs two validation clips of a label; performance on recordings is unknown")
        return
    rows = [
        {"label": label, "true": int(row["true"]), "f1": row["f1"], "precision": row["precision"],
         "recall": row["recall"]}
        for label, row in expected["labels"].items()
    ]  # fmt: skip
    voice.table(pd.DataFrame(rows), title="expected performance on recordings (rehearsal with validation clips)")
    off, usual = expected["onset_error_s"], expected["at_density"]
    voice.say(
        f"With {usual['events_per_minute']:g} events per minute (rehearsal.events_per_minute): event F1 "
        f"{usual['event_f1']:.2f}, {usual['false_alarms_per_hour']:.0f} false alarms per hour "
        f"({usual['quiet_alarms_per_hour']:.0f} per hour of quiet, {100 * usual['alarms_per_event']:.0f} per 100 "
        f"events){'' if off is None else f', onset error {1000 * off:.0f} ms'}. "
        f"Listen to {run.folder / 'rehearsal.flac'}"
    )
    spread = run.group_spread
    if spread.low == spread.low:
        low, high = spread.range_of(usual["event_f1"])
        voice.say(
            f"With sounds of a new group (maker, speaker, room): event F1 between {low:.2f} and {high:.2f} for 8 of "
            f"10 groups, judged by {len(spread.by_group)} held-out groups."
        )
    if spread.advice:
        voice.warn(spread.advice)
    for caveat in run.recording_caveats:
        voice.warn(caveat)


class EpochReporter:
    """Prints a line at every tenth of the epochs and at the last; for classifiers without epochs, a line per
    candidate.
    """

    def __init__(self, voice: common.Terminal) -> None:
        self.voice, self.next, self.refit = voice, 0, False

    def __call__(self, line: owl.learn.Progress) -> None:
        """Take a line of the curves."""
        has_epochs = not math.isnan(line.train_loss)
        if line.refit and not self.refit:
            self.refit, self.next = True, 1
            self.voice.say(f"Training on with the training and validation clips{':' if has_epochs else '.'}")
        judged = f"{line.validation_loss:>16.3f} {line.validation_recall:>7.2f} {line.validation_f1:>5.2f}"
        if not has_epochs:
            if not line.refit:
                self._head(f"{'candidate':>9} {'validation loss':>16} {'recall':>7} {'F1':>5}")
                self.voice.say(f"{line.epoch:>9} {judged}")
            return
        self._head(
            f"{'epoch':>9} {'train loss':>11} {'validation loss':>16} {'recall':>7} {'F1':>5} "
            f"{'waiting':>8} {'left':>7}"
        )
        if line.epoch < self.next and line.epoch < line.epochs:
            return
        self.next = line.epoch + max(1, line.epochs // 10)
        left = line.seconds / line.epoch * (line.epochs - line.epoch)
        if line.refit:
            judged = " " * len(judged)
        self.voice.say(
            f"{line.epoch:>4}/{line.epochs:<4} {line.train_loss:>11.3f} {judged} {line.waiting:>8.0%} {left:>5.0f} s"
        )

    def _head(self, heading: str) -> None:
        if not self.next:
            self.next = 1
            self.voice.say(heading)
