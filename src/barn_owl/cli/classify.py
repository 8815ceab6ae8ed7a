"""``barn-owl classify``."""

from __future__ import annotations

from pathlib import Path

import click
import numpy as np

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.errors import TableError

SHOWN = 40
"""Clips that are shown without a table to write."""


@click.command("classify")
@click.argument("model_path", metavar="MODEL", type=common.PATH)
@click.argument("what", nargs=-1, required=True)
@click.option("-o", "--out", type=common.PATH, help="Table to write; - for stdout.  [default: show it]")
@click.option("--min-score", "least", type=click.FloatRange(0, 1), help="Clips with a lower score are undecided.")
@click.option("--page", type=common.PATH, help="Page to write, for listening and corrections.")
@common.workers_option
@common.engine_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    model_path: Path,
    what: tuple[str, ...],
    out: Path | None,
    least: float | None,
    page: Path | None,
    workers: int,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Classify short clips.

    MODEL is a run folder or a model file; WHAT are sound files, folders of them or clip tables. Finds the label with
    the highest score as predicted, its score, and the score of every label. predicted is (undecided) below the
    threshold of the label, and (none) where no label reaches the score that tag needs; the column reason explains it.

    \b
    barn-owl classify first new-clips/*.flac
    barn-owl classify first new-clips/ -o named.csv --page named.html
    barn-owl classify first clips.csv -o - --min-score 0.7
    """

    from barn_owl.evaluate import NONE, UNDECIDED, rejected, undecided

    model = owl.load_model(model_path)
    common.check_outputs(pages=[page], tables=[out], force=force)
    clips = common.clips_of(what)
    with voice.progress("reading clips") as progress:
        predictions, skipped = owl.predict(
            model, owl.clips.check_clip_table(clips), workers=workers, progress=progress
        )
    voice.skipped(skipped.values())
    if not len(predictions):
        raise TableError("no clip could be read")
    unsure = undecided(model, predictions) if least is None else predictions["score"].to_numpy() < least
    predictions["reason"] = rejected(model, predictions)
    none = (predictions["reason"] != "").to_numpy()
    predictions.loc[unsure, "predicted"] = UNDECIDED
    predictions.loc[none, "predicted"] = NONE
    if out is not None:
        common.write_clips(predictions, out, force=force)
    else:
        voice.table(predictions.head(SHOWN)[["file", "predicted", "score", "reason"]])
        if len(predictions) > SHOWN:
            voice.say(f"... and {len(predictions) - SHOWN} more clips; -o FILE writes them all, with all scores")
    counts = predictions.groupby("predicted")["score"].agg(["size", "mean", "min"]).reset_index()
    voice.table(counts.set_axis(["predicted", "clips", "mean score", "lowest"], axis=1))
    if not model.thresholds and least is None:
        voice.say(
            "The model has no thresholds, so every clip gets a label; barn-owl evaluate RUN --target sets them."
        )
    if page is not None:
        owl.show.write_listening_page(
            model, predictions, page, title=f"Clips classified by {model_path.name}", force=True
        )
    if none.any():
        voice.say(
            f"Rejected {int(none.sum())} clips ({none.mean():.0%}): no label reaches the score that an event needs."
        )
    unsure &= ~none
    written = f"Wrote {len(predictions)} clips to {out}" if out is not None else f"{len(predictions)} clips"
    voice.say(f"\n{written}, {int(np.sum(unsure))} of them undecided.")
    if page is not None:
        voice.say(f"Next: open {page} in a browser")
    voice.result(
        clips=len(predictions), undecided=int(np.sum(unsure)), none=int(none.sum()),
        labels=dict(zip(counts["predicted"], counts["size"], strict=True)), skipped=list(skipped.values()), out=out,
    )  # fmt: skip
