"""``barn-owl demo``."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

import barn_owl as owl
from barn_owl import demo
from barn_owl.cli import common
from barn_owl.cli.tag import tag_aloud
from barn_owl.cli.training import train_aloud
from barn_owl.files import claim_folder

if TYPE_CHECKING:
    import pandas as pd

COLLAR_S = 0.2
CUT_S = 2.0
"""Shortest clip that is cut around an event of the night."""
FIGURE_S = 90.0
SCENES = 160


@click.command("demo")
@click.argument("folder", type=common.PATH, default=Path("saltmarsh-quay"))
@click.option("--minutes", type=click.FloatRange(0.5, 1440), default=10.0, help="Length of the night.")
@click.option(
    "--second-night", is_flag=True, help="Also train on the mistakes of the night, and compare on a second night."
)
@click.option("--clips", "clips_per_label", type=click.IntRange(12, 2000), default=60, help="Clips of each label.")
@common.seed_option
@common.workers_option
@common.force_option
@common.quiet_option
def command(
    folder: Path,
    minutes: float,
    second_night: bool,
    clips_per_label: int,
    seed: int | None,
    workers: int,
    force: bool,
    quiet: bool,
) -> None:
    """Synthesize a harbor, train on it, tag a night and score the events.

    Writes clips of six sounds and of water as background, recorded by eight simulated recorders, and two nights
    recorded by a ninth. Checks and repairs the clips, trains on them, tags the first night and scores the events.
    With --second-night, trains again with clips of the night's events and false alarms, and scores the second night
    with both models. Everything goes to FOLDER.
    """
    voice, begin, seed = common.Terminal(quiet=quiet), time.perf_counter(), seed or 0
    claim_folder(folder, force=force)
    voice.say(f"Writing a synthetic harbor to {folder}")
    with voice.progress("synthesizing sounds") as progress:
        quay = demo.write_harbor(
            folder, seed=seed, clips_per_label=clips_per_label, minutes=minutes, workers=workers, progress=progress
        )
    gathered = owl.gather_folder(quay.clips, names="{group}_{take}")
    common.write_clips(gathered.clips, folder / "clips.csv", force=True)
    voice.skipped(gathered.skipped.values())
    with voice.progress("checking clips") as progress:
        check = owl.check_clips(gathered.clips, workers=workers, progress=progress)
    voice.say(f"Checked the clips: {check.summary}; {len(check.repaired)} of {len(gathered.clips)} stay.")
    clips = check.repaired
    common.write_clips(clips, folder / "clean.csv", force=True)
    with voice.progress("analyzing clips") as progress:
        plan = owl.suggest_plan(clips, background=["water"], workers=workers, seed=seed, progress=progress).plan
    # A small harbor, to try things on, needs no more mixtures than clips.
    plan = plan.but(seed=seed, mixtures={"count": max(16, min(SCENES, len(clips) // 2))})
    work = owl.Work(workers=workers, force=force)
    voice.say(f"\nTraining a {plan.classifier} on {len(clips)} clips; training and test recorders are disjoint")
    run = train_aloud(voice, clips, folder / "run", plan, work)

    voice.say(f"\nTagging {minutes:g} minutes of the night")
    tagging = time.perf_counter()
    archive = tag_aloud(voice, run.model, [str(quay.recording)], run.model.decoding)
    events = archive.events
    if archive.stopped:
        raise KeyboardInterrupt
    speed = minutes * 60 / (time.perf_counter() - tagging)
    common.write_clips(events, folder / "events.csv", force=True)
    truth = owl.read_clip_table(quay.truth)
    found = owl.score_events(events, truth, collar_s=COLLAR_S)
    end_s = min(FIGURE_S, minutes * 60)
    figure = owl.show.tagging_figure(run.model, quay.recording, events, truth=truth, end_s=end_s)
    owl.save_figure(figure, folder / "night.png", force=True)
    by_label = found.by_label.drop(columns="false_alarms_per_hour").reset_index()
    voice.table(by_label, title=f"event scores, onset within {COLLAR_S:g} s")
    scores = run.evaluate().scores
    voice.say(
        f"\nDone in {time.perf_counter() - begin:.0f} s. Clips: balanced accuracy {scores.balanced_accuracy:.2f} on "
        f"{len(run.model.labels)} labels and unseen recorders (chance: {1 / len(run.model.labels):.2f})."
    )
    voice.say(
        f"Events: F1 {found.f1:.2f}, recall {found.recall:.2f}, precision {found.precision:.2f}; "
        f"tagged at {speed:.0f} times real time."
    )
    fooled = int((found.unknown["raised"] != "").sum())
    voice.say(f"Unknown sounds: {fooled} of {len(found.unknown)} raised an event.")
    if second_night:
        _second_night(voice, quay, clips, events, run, work)
    voice.say("\nNext, open:")
    voice.say(f"  {folder / 'night.png'}: spectrogram, scores, events and truth of the first {end_s:g} s")
    voice.say(f"  {folder / 'run' / 'report.html'}: scores, confusion matrix, mistakes to listen to")
    voice.say(f"  {folder / 'events.csv'}: the event table")
    voice.say("With your own clips, in one folder per label:")
    voice.say("  barn-owl gather MY-CLIPS -o clips.csv")
    voice.say("  barn-owl check clips.csv --fix clean.csv")
    voice.say("  barn-owl train clean.csv --run first")


def _second_night(
    voice: common.Terminal, quay: demo.Harbor, clips: pd.DataFrame, events: pd.DataFrame, run: owl.Run, work: owl.Work
) -> None:
    """Train again with the events and false alarms of the first night; score a second night with both models."""
    import pandas as pd

    begin, truth = time.perf_counter(), owl.read_clip_table(quay.truth)
    night = [
        owl.clips.clips_of_events(truth, CUT_S),
        owl.clips.clips_of_false_alarms(events, truth, CUT_S, label="water"),
    ]
    voice.say(f"\nTraining again with {len(night[0])} events and {len(night[1])} false alarms of the night")
    harder = owl.runs.split_like(pd.concat([clips, *night], ignore_index=True), run.folder)
    common.write_clips(harder, run.folder.parent / "all.csv", force=True)
    second = train_aloud(voice, harder, run.folder.parent / "second", run.plan, work)
    rows = []
    for name, model in (("clips alone", run.model), ("with the first night", second.model)):
        found = owl.score_events(
            owl.tag_recording(model, quay.second_recording), owl.read_clip_table(quay.second_truth), collar_s=COLLAR_S
        )
        rows.append(
            {"trained on": name, "F1": found.f1, "recall": found.recall, "precision": found.precision,
             "false alarms per hour": found.false_alarms_per_hour,
             "unknown sounds raised": f"{int((found.unknown['raised'] != '').sum())} of {len(found.unknown)}"}
        )  # fmt: skip
    voice.table(pd.DataFrame(rows), title="the second night")
    voice.say(f"Done with the second night in {time.perf_counter() - begin:.0f} s.")
