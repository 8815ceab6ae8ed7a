"""``barn-owl gather``."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

import click

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.errors import TableError
from barn_owl.files import is_file

MAX_SHOWN_SKIPPED = 5


@click.command("gather")
@click.argument("sources", type=common.PATH, nargs=-1, required=True)
@click.option(
    "--column",
    "columns",
    multiple=True,
    metavar="OURS=YOURS",
    help="Column of a table to use: label=class; repeatable.",
)
@click.option("--encoding", help="Encoding of a table that is not UTF-8, such as cp1252.")
@click.option("--audio", type=common.PATH, help="Folder of the files of a table.  [default: its own]")
@click.option("--names", metavar="PATTERN", help='Pattern of file names, "{group}_{take}", or a regular expression.')
@click.option(
    "--label-folder", type=click.Choice(["first", "last"]), default="first", help="Nested folder that is the label."
)
@click.option("--labels", "label_map", type=common.PATH, help="Table with old and new labels.")
@click.option("--relabel", "renamed", multiple=True, metavar="OLD=NEW", help="Rename a label; OLD= drops it.")
@click.option("--keep-label", "kept", multiple=True, metavar="LABEL", help="Keep this label; others become 'other'.")
@click.option("--corrections", type=common.PATH, help="Table with a column correct_label, from evaluate or a page.")
@click.option("--limit", type=click.IntRange(min=1), help="Maximum clips per label, drawn evenly from its groups.")
@common.out_file_option
@common.seed_option
@common.force_option
@common.terminal_options
def command(
    sources: tuple[Path, ...],
    columns: tuple[str, ...],
    encoding: str | None,
    audio: Path | None,
    names: str | None,
    label_folder: Literal["first", "last"],
    label_map: Path | None,
    renamed: tuple[str, ...],
    kept: tuple[str, ...],
    corrections: Path | None,
    limit: int | None,
    out: Path,
    seed: int | None,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Build a clip table from folders and existing tables.

    \b
    barn-owl gather recordings -o clips.csv
    barn-owl gather recordings --names "{group}_{take}" -o clips.csv
    barn-owl gather sheet.csv --column file=name --column label=class \\
        -o clips.csv
    barn-owl gather recordings sheet.csv --relabel bell=bell-buoy \\
        --relabel test= -o clips.csv
    barn-owl gather clips.csv --corrections first/corrections.csv \\
        -o corrected.csv
    """
    common.check_outputs(tables=[out], force=force)
    tables = [source for source in sources if is_file(source)]
    if (columns or audio or encoding) and not tables:
        raise click.UsageError("--column, --encoding and --audio go with a table")
    if names and len(tables) == len(sources):
        raise click.UsageError("--names goes with a folder")
    gathered = owl.clips.gather_together(
        [
            owl.clips.gather_table(source, columns=_pairs("--column", columns), audio_folder=audio, encoding=encoding)
            if source in tables
            else owl.gather_folder(source, names=names, label_folder=label_folder)
            for source in sources
        ]
    )
    folders = [source for source in sources if source not in tables]
    if folders and not (gathered.clips["label"] != "").any():
        raise TableError(
            f"no clip has a label: all {len(gathered.clips)} files are in {folders[0]} itself, and folders name the "
            f"labels; gather {folders[0].absolute().parent}, or read labels off the names: --names '{{label}}_{{}}'"
        )
    clips = owl.clips.relabel(
        gathered.clips, (owl.clips.read_label_map(label_map) if label_map else {}) | _pairs("--relabel", renamed)
    )
    if corrections:
        clips, changed = owl.clips.correct_labels(clips, owl.clips.read_corrections(corrections))
        voice.say(f"Corrected {changed} labels.")
    if kept:
        clips = owl.clips.other_label(clips, kept, most=limit, seed=seed or 0)
    if limit:
        clips = owl.clips.limit_clips(clips, limit, seed=seed or 0)
    gathered = owl.clips.Gathered(clips=clips, skipped=gathered.skipped)
    common.write_clips(clips, out, force=force)
    _report(voice, gathered, out)


def _pairs(option: str, pairs: tuple[str, ...]) -> dict[str, str]:
    for pair in pairs:
        if "=" not in pair:
            raise click.UsageError(f"{option} takes two names with = between them; got {pair!r}")
    return dict(pair.split("=", 1) for pair in pairs)


def _report(voice: common.Terminal, gathered: owl.clips.Gathered, out: Path) -> None:
    clips = gathered.clips
    counts = clips.groupby("label", sort=True).size().rename("clips").reset_index()
    if "group" in clips:
        counts["groups"] = clips.groupby("label")["group"].nunique().to_numpy()
    voice.table(counts)
    for reason in list(gathered.skipped.values())[:MAX_SHOWN_SKIPPED]:
        voice.warn(f"skipped: {reason}")
    if len(gathered.skipped) > MAX_SHOWN_SKIPPED:
        voice.warn(f"... and {len(gathered.skipped) - MAX_SHOWN_SKIPPED} more skipped")
    voice.say(f"\nWrote {len(clips)} clips of {len(counts)} labels to {out}; {len(gathered.skipped)} skipped.")
    voice.say(f"Next: barn-owl check {out}")
    labels = dict(zip(counts["label"], counts["clips"], strict=True))
    voice.result(clips=len(clips), labels=labels, skipped=gathered.skipped, out=out)
