"""``barn-owl adjust``."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import click

import barn_owl as owl
from barn_owl.cli.common import Terminal, check_outputs, collar_option, json_option, quiet_option
from barn_owl.cli.score import show_event_scores


@click.command("adjust", short_help="Find decoding settings.")
@click.argument("model_path", metavar="MODEL", type=click.Path(path_type=Path))
@click.argument("truth", type=click.Path(path_type=Path), required=False)
@click.option(
    "--false-alarms",
    type=click.FloatRange(min=0),
    help="Most false alarms an hour: the best recall under that, instead of the best F1.",
)
@collar_option
@click.option(
    "-o", "--out", type=click.Path(path_type=Path), help="Model file to write; left out, MODEL itself is changed."
)
@click.option("--figure", type=click.Path(path_type=Path), help="Figure of detections against false alarms.")
@click.option("--dry-run", is_flag=True, help="Say what would be changed, and change nothing.")
@click.option("--undo", is_flag=True, help="Restore the settings from before the last change; needs no TRUTH.")
@click.option("--force", is_flag=True, help="Overwrite what is there.")
@json_option
@quiet_option
def command(
    model_path: Path,
    truth: Path | None,
    false_alarms: float | None,
    collar_s: float,
    out: Path | None,
    figure: Path | None,
    dry_run: bool,
    undo: bool,
    force: bool,
    as_json: bool,
    quiet: bool,
) -> None:
    """Find the decoding settings of MODEL that are best on the recordings of the table TRUTH, and keep them in it.

    The goal is the best F1 of events, or the best recall with at most so many false alarms an hour. Settings are also
    chosen without each recording in turn and judged on that one: those figures are the honest ones. Use recordings
    that you will not judge by afterwards.

    \b
    barn-owl adjust first truth.csv --figure adjust.png
    barn-owl adjust first truth.csv --false-alarms 2
    barn-owl adjust first --undo
    """
    voice = Terminal(quiet=quiet, as_json=as_json)
    if undo:
        _undo(voice, model_path, alone=truth is None and out is None)
        return
    if truth is None:
        raise click.UsageError("Missing argument 'TRUTH'.")
    check_outputs(figures=[figure], endings={out: ()}, force=force)
    model = owl.load_model(model_path)
    with voice.progress("scoring recordings") as progress:
        found = owl.adjust(
            model, owl.read_clip_table(truth), collar_s=collar_s, progress=progress,
            goal="f1" if false_alarms is None else "recall",
            false_alarms_per_hour=10.0 if false_alarms is None else false_alarms,
        )  # fmt: skip
    _show(voice, model.decoding, found, collar_s)
    if not found.reached:
        voice.warn(f"no settings keep under {false_alarms:g} false alarms an hour; these come nearest")
    if dry_run:
        voice.say("\nNothing is changed.")
    elif out is not None:
        replace(model, decoding=found.decoding, previous_decoding=model.decoding).save(out)
        voice.say(f"\nWrote {out}.")
    elif not found.kept:
        owl.runs.set_decoding(model_path, found.decoding)
        voice.say(f"\nThe settings are kept in {model_path}. To undo that: barn-owl adjust {model_path} --undo")
    if figure is not None:
        owl.save_figure(owl.show.adjusting_figure(found), figure)
        voice.say(f"Wrote {figure}.")
    voice.result(
        {
            "decoding": found.decoding.model_dump(exclude_none=True),
            "scores": found.scores.as_dict(),
            "honest": found.honest.reset_index().to_dict("records"),
            "before": found.before.reset_index().to_dict("records"),
            "kept": found.kept,
            "curve": found.curve.to_dict("records"),
            "reached": found.reached,
        }
    )


def _undo(voice: Terminal, path: Path, *, alone: bool) -> None:
    if not alone:
        raise click.UsageError("--undo takes the model alone")
    decoding = owl.runs.undo_decoding(path)
    voice.say(f"Restored the settings of {path} from before the last change.")
    voice.result({"decoding": decoding.model_dump(exclude_none=True)})


def _show(voice: Terminal, own: owl.DecodingSettings, found: owl.tag.Adjusted, collar_s: float) -> None:
    before, after = own.model_dump(), found.decoding.model_dump()
    f1, f1_before = (float(table["f1"].mean()) for table in (found.honest, found.before))
    voice.say(
        f"On what they were not chosen on: F1 {f1:.2f} with other settings, {f1_before:.2f} with the model's own."
    )
    for key in after:
        if before[key] != after[key] and key != "labels":
            voice.say(f"{key}: {before[key]} becomes {after[key]}")
    for label, settings in after["labels"].items():
        voice.say(f"{label}: " + ", ".join(f"{key} {value}" for key, value in settings.items() if value is not None))
    show_event_scores(voice, found.scores, collar_s)
    voice.table(found.honest.reset_index(), title="chosen without, judged on")
    if found.kept:
        voice.say("That is no more than chance: the model's own settings stay.")
