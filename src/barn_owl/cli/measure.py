"""Throughput of this machine, a part of ``barn-owl tag`` and ``barn-owl train``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import barn_owl as owl

if TYPE_CHECKING:
    import pandas as pd

    from barn_owl.cli import common

SHOWN = {"real_time": "times real time", "cores": "cores busy", "gain": "speedup over 1"}


def measure_tagging(voice: common.Terminal, run: Path, recording: str, most_workers: int | None) -> None:
    """Time each stage of tagging on one worker and on several, and report the bottleneck."""
    with voice.progress("measuring") as progress:
        speed = owl.archive.measure_throughput(
            owl.load_model(run), recording, most_workers=most_workers, progress=progress
        )
    voice.table(speed.stages.rename(columns=SHOWN), title="tagging by stage, one core")
    voice.table(speed.workers.rename(columns=SHOWN), title="tagging, several workers")
    for sentence in speed.advice:
        voice.say(sentence)
    voice.result(stages=speed.stages, workers=speed.workers, cores=speed.cores, advice=speed.advice)


def measure_training(voice: common.Terminal, clips: pd.DataFrame, plan: owl.Plan, most_workers: int | None) -> None:
    """Time a short training with one worker and several."""
    table = owl.runs.measure_training(clips, plan, most_workers=most_workers)
    voice.table(table.rename(columns=SHOWN), title="a short training")
    best = table.loc[table["training_s"].idxmin()]
    voice.say(f"fastest with {best['workers']:.0f} workers, {best['cores']:.1f} cores busy")
    voice.result(training=table)
