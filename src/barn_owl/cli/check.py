"""``barn-owl check``."""

from __future__ import annotations

import sys
from pathlib import Path

import click

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.errors import TableError

SHOWN, SHOWN_DOUBTFUL = 3, 10
"""Examples of a finding that are shown, and of doubtful labels, the clearest first."""


@click.command("check")
@click.argument("clips")
@click.option("--audio/--no-audio", default=True, help="Read the sound of every clip.")
@click.option("-o", "--out", type=common.PATH, help="Table of findings to write; - for stdout.")
@click.option("--fix", type=common.PATH, help="Repaired clip table to write.")
@click.option("--figure", type=common.PATH, help="Figure to write.")
@common.workers_option
@common.engine_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    clips: str,
    audio: bool,
    out: Path | None,
    fix: Path | None,
    figure: Path | None,
    workers: int,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Find defects in clips, labels and groups, and repair the table.

    Reports clips that are broken, silent, clipped, too short, duplicated or likely mislabeled, and labels that are
    rare, misspelled or in one group only. Exits with 1 if there are errors. Never changes sound.

    \b
    barn-owl check clips.csv
    barn-owl check clips.csv -o findings.csv --fix clean.csv \\
        --figure check.png
    """
    from barn_owl.clips.finding import SEVERITIES
    from barn_owl.features.export import ENDINGS as FEATURE_ENDINGS
    from barn_owl.tables import write_table

    common.check_outputs(figures=[figure], tables=[fix], endings={out: FEATURE_ENDINGS}, force=force)
    table = common.read_clips(clips)
    with voice.progress("reading clips") as progress:
        check = owl.check_clips(table, audio=audio, workers=workers, progress=progress)
    voice.table(check.by_label)
    _tell(voice, check)
    if out is not None:
        if common.is_stdout(out):
            write_table(check.findings, sys.stdout)
        else:
            owl.features.write_features(check.findings, out, force=force)
        voice.say(f"Wrote {len(check.findings)} findings to {out}.")
    if figure is not None:
        owl.save_figure(owl.show.check_figure(check), figure, force=True)
        voice.say(f"Wrote {figure}.")
    if fix is not None and not len(check.repaired):
        raise TableError(f"no usable clip is left to write to {fix}; fix the reported errors first")
    if fix is not None and 2 * len(check.repaired) < len(table) and not force:
        raise TableError(
            f"{fix} would lack {len(table) - len(check.repaired)} of {len(table)} clips, more than half: "
            f"{_causes(check)}. Fix that first, or add --force"
        )
    if fix is not None:
        common.write_clips(check.repaired, fix, force=force)
        voice.say(f"Wrote {len(check.repaired)} of {len(table)} clips to {fix}.")
    if fix is None and len(check.repaired) < len(table):
        voice.say(
            f"Next: barn-owl check {clips} --fix CLEAN.csv, which drops {len(table) - len(check.repaired)} clips"
        )
    else:
        voice.say(f"Next: barn-owl train {fix or clips} --run RUN")
    voice.result(counts={severity: check.count(severity) for severity in SEVERITIES}, findings=check.findings)
    left = check if fix is None else owl.check_clips(check.repaired, audio=False)
    if left.count("error"):
        raise click.exceptions.Exit(1)


def _causes(check: owl.clips.Check) -> str:
    """Return how many clips each finding drops, in words."""
    from barn_owl.clips.finding import KINDS

    dropping = check.findings[check.findings["finding"].map(lambda name: KINDS[name].drops)]
    return ", ".join(f"{count} {name}" for name, count in dropping["finding"].value_counts().items())


def _tell(voice: common.Terminal, check: owl.clips.Check) -> None:
    if not len(check.findings):
        voice.say("\nNo defects found.\n")
        return
    voice.say()
    for (severity, name), group in check.findings.groupby(["severity", "finding"], sort=False):
        voice.say(f"{severity}: {name} ({len(group)}); {group['action'].iloc[0]}")
        shown = SHOWN_DOUBTFUL if name == "doubtful label" else SHOWN
        for row in group.head(shown).itertuples():
            voice.say(f"    {row.file or row.label or 'table'}: {row.detail}")
        if len(group) > shown:
            voice.say(f"    ... and {len(group) - shown} more")
    voice.say(f"\n{check.summary}; -o FINDINGS.csv lists all of them.\n")
