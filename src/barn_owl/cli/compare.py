"""Comparison of runs, a part of ``barn-owl evaluate``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import barn_owl as owl
from barn_owl.cli import common

SHOWN_KEYS = 12


def compare_aloud(
    voice: common.Terminal,
    runs: Sequence[Path],
    clips: str | None,
    *,
    split: str,
    out: Path | None,
    workers: int,
    force: bool,
) -> None:
    """Compare runs on the same clips: scores, recall by label, plans, and significance of the differences."""
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
