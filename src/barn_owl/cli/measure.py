"""``barn-owl measure``."""

from __future__ import annotations

from pathlib import Path

import click

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.errors import PlanError

SHOWN = {"real_time": "times real time", "cores": "cores busy", "gain": "speedup over 1"}


@click.command("measure")
@click.argument("run", required=False, type=common.PATH)
@click.argument("recording", required=False)
@click.option("--training", metavar="CLIPS", help="Clip table for a short training to measure.")
@common.plan_option
@click.option(
    "--max-workers",
    "most_workers",
    type=click.IntRange(1, 256),
    help="Highest number of workers to try.  [default: cores]",
)
@common.table_urls_option
@common.terminal_options
def command(
    run: Path | None,
    recording: str | None,
    training: str | None,
    plan_path: Path | None,
    most_workers: int | None,
    voice: common.Terminal,
) -> None:
    """Measure throughput on this machine and find the bottleneck.

    Times each stage of tagging RECORDING with the model of RUN (disk, decoding, features, network) on one worker and
    on several, reports how many cores are busy, and advises what to change. --training measures a short training
    instead or as well.

    \b
    barn-owl measure first night.flac
    barn-owl measure --training clips.csv --plan plan.toml
    """
    if training is None and (run is None or recording is None):
        raise PlanError("give RUN and RECORDING to measure tagging, or --training CLIPS")
    report: dict[str, object] = {}
    if run is not None and recording is not None:
        with voice.progress("measuring") as progress:
            speed = owl.archive.measure_throughput(
                owl.load_model(run), recording, most_workers=most_workers, progress=progress
            )
        voice.table(speed.stages.rename(columns=SHOWN), title="tagging by stage, one core")
        voice.table(speed.workers.rename(columns=SHOWN), title="tagging, several workers")
        for sentence in speed.advice:
            voice.say(sentence)
        report |= {"stages": speed.stages, "workers": speed.workers, "cores": speed.cores, "advice": speed.advice}
    if training is not None:
        plan = owl.read_plan(plan_path, urls=common.table_urls()) if plan_path is not None else None
        table = owl.runs.measure_training(common.read_clips(training), plan, most_workers=most_workers)
        voice.table(table.rename(columns=SHOWN), title="a short training")
        best = table.loc[table["training_s"].idxmin()]
        voice.say(f"fastest with {best['workers']:.0f} workers, {best['cores']:.1f} cores busy")
        report["training"] = table
    voice.result(**report)
