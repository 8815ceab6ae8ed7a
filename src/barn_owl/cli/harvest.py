"""``barn-owl harvest``."""

from __future__ import annotations

from pathlib import Path

import click

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.errors import TableError


@click.command("harvest")
@click.argument("recordings")
@common.out_file_option
@click.option("--per-recording", "most", type=click.IntRange(min=1), default=5, help="Maximum parts per recording.")
@click.option("--min-score", "least", type=click.FloatRange(0, 1), default=0.8, help="Score that a part must have.")
@click.option("--background", metavar="LABEL", help="Also take stretches in which nothing stands out, as this label.")
@click.option("--excerpts", type=common.PATH, help="Folder to write the parts to as sound files.")
@click.option("--cache", type=common.PATH, help="Folder to cache features in.")
@click.option("--page", type=common.PATH, help="Page to write, for listening and corrections.")
@click.option("--seed", type=click.IntRange(min=0), default=0, help="Random seed.")
@common.workers_option
@common.engine_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    recordings: str,
    out: Path,
    most: int,
    least: float,
    background: str | None,
    excerpts: Path | None,
    cache: Path | None,
    page: Path | None,
    seed: int,
    workers: int,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Extract labeled parts from recordings without times.

    RECORDINGS is a clip table of whole recordings. Takes a part if similar parts occur in other recordings with the
    same label and hardly in those with other labels. Writes a clip table for train. Each label needs at least three
    recordings.

    \b
    barn-owl harvest recordings.csv -o harvested.csv --background background \\
        --page harvested.html
    barn-owl train harvested.csv --run first
    """
    common.check_outputs(pages=[page], tables=[out], force=force)
    table = common.read_clips(recordings)
    with voice.progress("searching recordings") as progress:
        found = owl.harvest(
            table, per_recording=most, least=least, background=background, cache=cache, workers=workers, seed=seed,
            progress=progress,
        )  # fmt: skip
    voice.skipped(found.skipped)
    for label, reason in found.skipped_labels.items():
        voice.warn(f"no parts of {label}: {reason}")
    voice.table(found.rounds, title="share of held-out recordings whose label their parts predict")
    if not len(found.clips):
        raise TableError("no part reaches --min-score; lower it, or give more recordings of each label")
    counts = found.clips.groupby("label").agg(
        parts=("score", "size"), recordings=("file", "nunique"), lowest=("score", "min"), mean=("score", "mean")
    )
    voice.table(counts.reset_index())
    if excerpts is not None:
        owl.clips.write_excerpts(found.clips, excerpts, force=force)
        voice.say(f"Wrote {len(found.clips)} sound files to {excerpts}.")
    common.write_clips(found.clips, out, force=force)
    voice.say(f"\nWrote {len(found.clips)} parts to {out}.")
    if page is not None:
        items = owl.annotation.review_items(found.clips, stretches=0, listens=False)
        named = [str(label) for label in table["label"].unique() if label]
        labels = [*named, *([background] if background and background not in named else [])]
        use = f"Save the answers, then: barn-owl review {out} --stretches 0 --answers answers.jsonl -o checked.csv"
        owl.show.write_review_page(
            owl.show.Review(items, labels=labels), page, title=f"Harvest of {recordings}", use=use, force=force
        )
        voice.say(f"Next: open {page} in a browser, or barn-owl train {out} --run first")
    else:
        voice.say(f"Next: barn-owl train {out} --run first")
    voice.result(
        parts=len(found.clips), labels=counts["parts"].to_dict(), skipped_labels=found.skipped_labels,
        skipped=found.skipped, held_out=found.rounds["held_out"].max(), out=out,
    )  # fmt: skip
