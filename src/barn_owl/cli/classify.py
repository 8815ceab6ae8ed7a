"""``barn-owl classify``."""

from __future__ import annotations

from pathlib import Path

import click
import numpy as np

import barn_owl as owl
from barn_owl.cli.common import (
    Terminal,
    check_outputs,
    clips_of,
    engine_option,
    force_option,
    is_stdout,
    json_option,
    out_file_option,
    quiet_option,
    workers_option,
    write_clips,
)
from barn_owl.errors import TableError


@click.command("classify", short_help="Name short clips.")
@click.argument("model_path", metavar="MODEL", type=click.Path(path_type=Path))
@click.argument("what", nargs=-1, required=True)
@out_file_option
@click.option("--least", type=click.FloatRange(0, 1), help="Score under which a clip is undecided, for all labels.")
@click.option("--page", type=click.Path(path_type=Path), help="Page to listen to them on, and to correct.")
@workers_option
@engine_option
@force_option
@json_option
@quiet_option
def command(
    model_path: Path,
    what: tuple[str, ...],
    out: Path,
    least: float | None,
    page: Path | None,
    workers: int,
    force: bool,
    as_json: bool,
    quiet: bool,
) -> None:
    """Say what WHAT are: sound files, folders of them, or clip tables, labeled or not.

    MODEL is a run's folder or a model file. The table that is written has the best label of each clip as predicted,
    its score, and the score of every label; a clip whose score is under the threshold of the model is undecided. A
    clip in which no label is heard, by the rule of tag, is none of them, and the column reason says why.

    \b
    barn-owl classify first new-clips/ -o named.csv --page named.html
    barn-owl classify first clips.csv -o - --least 0.7
    """

    from barn_owl.evaluate import NONE, UNDECIDED, refused, undecided

    voice, model = Terminal(quiet=quiet or is_stdout(out), as_json=as_json), owl.load_model(model_path)
    check_outputs(pages=[page], tables=[out], force=force)
    clips = clips_of(what)
    with voice.progress("reading clips") as progress:
        predictions, skipped = owl.predict(
            model, owl.clips.check_clip_table(clips), workers=workers, progress=progress
        )
    for reason in skipped.values():
        voice.warn(f"passed over: {reason}")
    if not len(predictions):
        raise TableError("none of the clips could be used")
    unsure = undecided(model, predictions) if least is None else predictions["score"].to_numpy() < least
    predictions["reason"] = refused(model, predictions)
    none = (predictions["reason"] != "").to_numpy()
    predictions.loc[unsure, "predicted"] = UNDECIDED
    predictions.loc[none, "predicted"] = NONE
    write_clips(predictions, out, force=force)
    counts = predictions.groupby("predicted")["score"].agg(["size", "mean", "min"]).reset_index()
    voice.table(counts.set_axis(["predicted", "clips", "mean score", "lowest"], axis=1))
    if not model.thresholds and least is None:
        voice.say("The model has no thresholds, so every clip gets a label; barn-owl evaluate RUN --wish sets them.")
    if page is not None:
        owl.show.write_listening_page(model, predictions, page, title=f"Clips named by {model_path.name}")
    if none.any():
        voice.say(
            f"{none.mean():.0%} are refused: in {int(none.sum())} clips no label is heard, as tag would say too."
        )
    unsure &= ~none
    voice.say(f"\nWrote {len(predictions)} clips to {out}, {int(np.sum(unsure))} of them undecided.")
    if page is not None:
        voice.say(f"Next: open {page} in a browser")
    voice.result(
        {
            "clips": len(predictions),
            "undecided": int(np.sum(unsure)),
            "none": int(none.sum()),
            "labels": dict(zip(counts["predicted"], counts["size"].tolist(), strict=True)),
            "refused": list(skipped.values()),
            "out": str(out),
        }
    )
