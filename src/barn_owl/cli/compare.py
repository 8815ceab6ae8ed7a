"""``barn-owl compare``."""

from __future__ import annotations

from pathlib import Path

import click

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.clips.splits import SPLITS

SHOWN_KEYS = 12


@click.command("compare")
@click.argument("runs", nargs=-1, required=True, type=common.PATH)
@click.option("--clips", metavar="TABLE", help="Evaluate all runs on these clips instead of their common test clips.")
@click.option("--split", type=click.Choice(SPLITS), default="test", help="Split to compare on.")
@click.option("-o", "--out", type=common.PATH, help="Page (.html) or figure (.png, .svg, .pdf) to write.")
@common.workers_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    runs: tuple[Path, ...],
    clips: str | None,
    split: str,
    out: Path | None,
    workers: int,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Compare runs on the same clips, with significance tests.

    Tests each of RUNS against the first one by a paired bootstrap over groups.

    \b
    barn-owl compare first second
    barn-owl compare classifiers/* -o comparison.html
    """
    common.check_outputs(endings={out: (".html", ".htm", *common.FIGURES)}, force=force)
    with voice.progress("reading clips") as progress:
        compared = owl.compare_runs(
            runs, None if clips is None else common.read_clips(clips), split=split, workers=workers, progress=progress
        )
    comparison = compared.comparison
    for name, count in comparison.skipped.items():
        voice.warn(f"skipping {count} clips of {name} that are not in the test of all runs")
    if sum(comparison.skipped.values()) > comparison.clips:
        voice.say("To train on more clips with the same test clips: barn-owl train CLIPS --run NEW --split-from RUN")
    shown = comparison.scores[
        ["balanced_accuracy", "balanced_accuracy_low", "balanced_accuracy_high", "macro_f1", "roc_area", "log_loss"]
    ].set_axis(["balanced accuracy", "from", "to", "macro F1", "ROC area", "log loss"], axis=1)
    voice.table(shown.join(compared.costs).reset_index(), title=f"{comparison.clips} common clips")
    voice.table(comparison.by_label.reset_index(), title="recall by label")
    if len(compared.plans):
        voice.table(compared.plans.head(SHOWN_KEYS).reset_index(), title="differences between the plans")
        if len(compared.plans) > SHOWN_KEYS:
            voice.say(f"... and {len(compared.plans) - SHOWN_KEYS} more keys; the page lists them")
    for sentence in comparison.words:
        voice.say(sentence)
    if out is not None:
        if out.suffix.lower() in (".html", ".htm"):
            owl.show.write_comparison_page(compared, out, force=True)
        else:
            owl.save_figure(owl.show.comparison_figure(comparison), out, force=True)
        voice.say(f"\nWrote {out}.")
    tables = {"scores": comparison.scores, "pairs": comparison.pairs, "by_label": comparison.by_label,
              "plans": compared.plans, "costs": compared.costs}  # fmt: skip
    indexed = {name: table.reset_index() for name, table in tables.items()}
    voice.result(clips=comparison.clips, changes=comparison.changes, **indexed)
