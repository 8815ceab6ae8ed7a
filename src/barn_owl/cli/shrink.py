"""``barn-owl shrink``."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import click

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.cli.evaluate import show_scores
from barn_owl.cli.search import search_aloud
from barn_owl.cli.training import EpochReporter
from barn_owl.files import claim_folder, is_file


@click.command("shrink")
@click.argument("source", metavar="RUN | CLIPS")
@click.option("--run", "folder", type=common.PATH, required=True, help="Folder to write the run to.")
@click.option(
    "--share", type=click.FloatRange(0, 1, min_open=True, max_open=True), help="Share of the weights to keep."
)
@click.option("--flash-kb", type=click.FloatRange(min=1), help="Flash that code and weights may take in int8, in kB.")
@click.option("--int8", is_flag=True, help="Quantize to int8; alone, without pruning.")
@click.option("--device", metavar="DEVICE", help="Search: name or TOML file of the device.  [default: this-machine]")
@click.option("--minutes", type=click.FloatRange(min=0, min_open=True), default=20.0, help="Search: time budget.")
@click.option("--float32", "floats", is_flag=True, help="Search: budget for float32 instead of int8.")
@click.option("--random", "is_random", is_flag=True, help="Search: at random without early stopping, as a baseline.")
@click.option("--resume", is_flag=True, help="Search: resume an interrupted search.")
@common.plan_option
@common.seed_option
@common.workers_option
@common.engine_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    source: str,
    folder: Path,
    share: float | None,
    flash_kb: float | None,
    int8: bool,
    device: str | None,
    minutes: float,
    floats: bool,
    is_random: bool,
    resume: bool,
    plan_path: Path | None,
    seed: int | None,
    workers: int,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Make a model smaller: prune, quantize, or search for a device.

    Of a RUN, removes channels from the cnn and fine-tunes it, quantizes it to int8, or both. Writes an ordinary run,
    to evaluate, tag with, and compare with RUN.

    With CLIPS, searches front ends, network sizes and training settings. Trains no candidate that exceeds the memory
    or time of the device, and does not use the test split.

    \b
    barn-owl shrink first --share 0.33 --run small
    barn-owl shrink first --flash-kb 64 --int8 --run tiny
    barn-owl shrink first --int8 --run rounded
    barn-owl shrink clips.csv --device core-256k --minutes 20 --run found
    """
    searches = source == "-" or is_file(source)
    shrinks = share is not None or flash_kb is not None or int8
    if searches == shrinks:
        raise click.UsageError(
            "--share, --flash-kb and --int8 shrink a run; a clip table is searched for"
            if searches
            else "give --share, --flash-kb or --int8"
        )
    if searches:
        search_aloud(
            voice, source, folder, device=device or "this-machine", minutes=minutes, floats=floats,
            is_random=is_random, resume=resume, plan_path=plan_path, seed=seed, workers=workers, force=force,
        )  # fmt: skip
        return
    run_path = Path(source)
    if share is not None and flash_kb is not None:
        raise click.UsageError("--share and --flash-kb exclude each other")
    takes_out = share is not None or flash_kb is not None
    run = owl.open_run(run_path, urls=common.table_urls())
    claim_folder(folder, force=force)
    work = owl.Work(workers=workers, force=True)
    kept: dict[str, object] = {}
    if takes_out:
        target = folder / "in-floats" if int8 else folder
        with voice.progress("reading clips") as reading:
            own = replace(work, reading=reading, watch=EpochReporter(voice), on_start=voice.begins)
            shrunk = owl.shrink(run, target, share=share, flash_kb=flash_kb, work=own)
        run = shrunk.run
        voice.table(
            shrunk.rounds, title="after each round, on validation mixtures of clips that the network was trained on"
        )
        voice.table(shrunk.channels, title="channels of each convolution")
        owl.save_figure(owl.show.shrink_figure(shrunk), folder / "shrink.png", force=True)
        kept = {"rounds": shrunk.rounds, "channels": shrunk.channels}
    if int8:
        with voice.progress("reading clips") as reading:
            run = owl.device.quantize_run(run, folder, work=replace(work, reading=reading))
    owl.show.write_results(run)
    if run.tested is not None:
        owl.show.write_comparison_page(
            owl.compare_runs([run_path, folder], workers=workers), folder / "compared.html", force=True
        )
        show_scores(voice, run.tested)
    else:
        voice.warn("no test clips, so the models are not compared")
    cost = run.model.cost
    voice.say(
        f"\nWrote the run to {folder}: {cost.weights:,} weights, {cost.multiply_adds:,} multiply-adds per second."
    )
    if run.tested is not None:
        voice.say(f"Comparison with the original: {folder / 'compared.html'}")
    voice.say(f"Next: barn-owl export {folder} -o model.c")
    scores = {} if run.tested is None else run.tested.scores.as_dict()
    voice.result(run=folder, weights=cost.weights, **kept, **scores)
