"""``barn-owl gather``."""

from pathlib import Path

import click

from barn_owl.cli.common import (
    Voice,
    force_option,
    is_stdout,
    json_option,
    out_file_option,
    quiet_option,
    write_clips,
)
from barn_owl.clips import Gathered, gather_folder, gather_table

SHOWN_REFUSALS = 5


@click.command("gather", short_help="Make a clip table.")
@click.argument("folder", type=click.Path(path_type=Path), required=False)
@click.option("--table", type=click.Path(path_type=Path), help="A table of yours instead of a folder per label.")
@click.option(
    "--column", "columns", multiple=True, metavar="OURS=YOURS", help="Which of its columns is which: label=class."
)
@click.option("--audio", type=click.Path(path_type=Path), help="Where the table's files are, if not beside it.")
@click.option("--names", metavar="PATTERN", help='What file names say, such as "{group}_{take}".')
@out_file_option
@force_option
@json_option
@quiet_option
def command(
    folder: Path | None,
    table: Path | None,
    columns: tuple[str, ...],
    audio: Path | None,
    names: str | None,
    out: Path,
    force: bool,
    as_json: bool,
    quiet: bool,
) -> None:
    """Make a clip table from a FOLDER that holds a folder for each label, or from a table you have.

    \b
    barn-owl gather recordings -o clips.csv
    barn-owl gather recordings --names "{group}_{take}" -o clips.csv
    barn-owl gather --table sheet.csv --column file=name --column label=class -o clips.csv
    """
    if (folder is None) == (table is None):
        raise click.UsageError("give either a FOLDER or --table")
    voice = Voice(quiet=quiet or is_stdout(out), as_json=as_json)
    if folder is not None:
        if columns or audio:
            raise click.UsageError("--column and --audio go with --table")
        gathered = gather_folder(folder, names=names)
    else:
        if names:
            raise click.UsageError("--names goes with a FOLDER")
        gathered = gather_table(str(table), columns=_pairs(columns), audio_folder=audio)
    write_clips(gathered.clips, out, force=force)
    _report(voice, gathered, out)


def _pairs(columns: tuple[str, ...]) -> dict[str, str]:
    for column in columns:
        if "=" not in column:
            raise click.UsageError(f"--column takes OURS=YOURS, such as label=class; got {column!r}")
    return dict(column.split("=", 1) for column in columns)


def _report(voice: Voice, gathered: Gathered, out: Path) -> None:
    clips = gathered.clips
    counts = clips.groupby("label", sort=True).size().rename("clips").reset_index()
    if "group" in clips:
        counts["groups"] = clips.groupby("label")["group"].nunique().to_numpy()
    voice.table(counts)
    for reason in list(gathered.refused.values())[:SHOWN_REFUSALS]:
        voice.warn(f"left out: {reason}")
    if len(gathered.refused) > SHOWN_REFUSALS:
        voice.warn(f"... and {len(gathered.refused) - SHOWN_REFUSALS} more files left out")
    voice.say(f"\nWrote {len(clips)} clips of {len(counts)} labels to {out}; {len(gathered.refused)} files left out.")
    voice.say(f"Next: barn-owl train {out} --run RUN")
    voice.result(
        {
            "clips": len(clips),
            "labels": dict(zip(counts["label"], counts["clips"].tolist(), strict=True)),
            "refused": gathered.refused,
            "out": str(out),
        }
    )
