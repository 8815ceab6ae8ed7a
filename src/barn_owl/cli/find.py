"""``barn-owl find``."""

from __future__ import annotations

from pathlib import Path

import click

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.errors import PlanError

SHOWN = 12
"""Matches that are printed."""


@click.command("find")
@click.argument("examples", nargs=-1, required=True)
@click.option(
    "--in", "places", multiple=True, required=True, type=common.RECORDING,
    help="Recording, folder or table to search; repeatable.",
)  # fmt: skip
@common.out_file_option
@click.option("--max-matches", "most", type=click.IntRange(min=1), default=50, help="Maximum number of matches.")
@click.option("--min-score", "least", type=click.FloatRange(0, 1), default=0.5, help="Minimum similarity.")
@click.option("--at", nargs=2, type=float, help="Start and end of the example in its file, in seconds.")
@click.option("--label", help="Label of the matches.  [default: that of the example, or its file name]")
@click.option("--cache", type=common.PATH, help="Folder to cache features in.")
@click.option("--page", type=common.PATH, help="Page to write, for listening and labeling.")
@common.workers_option
@common.engine_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    examples: tuple[str, ...],
    places: tuple[Path, ...],
    out: Path,
    most: int,
    least: float,
    at: tuple[float, float] | None,
    label: str | None,
    cache: Path | None,
    page: Path | None,
    workers: int,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Find similar sounds in recordings, without training.

    EXAMPLES are sound files, folders or clip tables. Compares spectrograms, so it finds the same sound rather than
    the same kind of sound. Scores are similarities, not probabilities.

    \b
    barn-owl find knock.wav --in archive/ -o found.csv --page found.html
    barn-owl find night.flac --at 12.4 13.1 --label knock --in night.flac \\
        -o found.csv --cache features
    """
    common.check_outputs(pages=[page], tables=[out], force=force)
    clips = owl.clips.check_clip_table(common.clips_of(examples))
    if at is not None:
        if len(clips) > 1:
            raise PlanError("--at is for a single example; for several, give a clip table with start_s and end_s")
        if label is None and not clips["label"].iloc[0]:
            raise PlanError("--at needs --label: a part of a recording has no name of its own")
        clips = owl.clips.check_clip_table(clips.assign(start_s=at[0], end_s=at[1]))
    if label is not None:
        clips = clips.assign(label=label)
    files = owl.find_recordings(places, urls=common.table_urls())
    with voice.progress("searching recordings") as progress:
        found = owl.annotation.find_similar(
            clips, files, most=most, least=least, cache=cache, workers=workers, progress=progress
        )
    voice.skipped(found.attrs["skipped"])
    common.write_table(found, out, force=force)
    shown = found.drop(columns="example").head(SHOWN)
    times = {name: [f"{second:.2f}" for second in shown[name]] for name in ("start_s", "end_s")}
    voice.table(shown.assign(file=[Path(file).name for file in shown["file"]], **times))
    if len(found):
        voice.say(
            "Scores are similarities, not probabilities: a sound that is not in the recordings still has a best "
            "match. Listen to the first few before using the list."
        )
    voice.say(
        f"\nWrote {len(found)} matches to {out}."
        + (f" No match reaches {least:g}; lower --min-score." if not len(found) else "")
    )
    if page is not None and len(found):
        items = owl.annotation.review_items(found, stretches=0, listens=False)
        use = f"Save the answers, then: barn-owl review {out} --answers answers.jsonl -o reviewed.csv --stretches 0"
        owl.show.write_review_page(owl.show.Review(items), page, title="Similar sounds", use=use, force=force)
        voice.say(f"Next: open {page} in a browser")
    voice.result(found=len(found), out=out, skipped=found.attrs["skipped"])
