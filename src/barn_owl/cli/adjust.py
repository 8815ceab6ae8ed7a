"""``barn-owl adjust``."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import click

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.cli.score import show_event_scores


@click.command("adjust")
@click.argument("model_path", metavar="MODEL", type=common.PATH)
@click.argument("truth", type=common.PATH, required=False)
@click.option(
    "--false-alarms",
    type=click.FloatRange(min=0),
    help="Maximize recall with at most this many false alarms per hour, instead of F1.",
)
@common.collar_option
@common.recordings_option
@click.option("-o", "--out", type=common.PATH, help="Model file to write.  [default: change MODEL]")
@click.option("--figure", type=common.PATH, help="Figure to write: detections over false alarms.")
@click.option("--dry-run", is_flag=True, help="Report the changes without making them.")
@click.option("--undo", is_flag=True, help="Restore the previous settings; needs no TRUTH.")
@common.workers_option
@common.engine_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    model_path: Path,
    truth: Path | None,
    false_alarms: float | None,
    collar_s: float,
    recordings: tuple[Path, ...],
    out: Path | None,
    figure: Path | None,
    dry_run: bool,
    undo: bool,
    workers: int,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Fit a model to recordings: with known events, or without.

    Chooses the settings of MODEL with the highest event F1 on the recordings of the table TRUTH, or the highest
    recall within a limit of false alarms, and stores them in MODEL. Also cross-validates them: settings are chosen
    without one recording and scored on it. MODEL keeps its own settings unless others are significantly better. If
    TRUTH has complete stretches (see barn-owl annotate), only these are used. Do not use these recordings for testing
    afterwards.

    With --recordings, adapts the networks to the sound of a place or a microphone, without known events and without
    training, and writes a new model (-o). It helps where the place sounds unlike the clips.

    \b
    barn-owl adjust first truth.csv --figure adjust.png
    barn-owl adjust first truth.csv --false-alarms 2
    barn-owl adjust first --recordings nights/ -o first-here.safetensors
    barn-owl adjust first --undo
    """
    if undo:
        _undo(voice, model_path, alone=truth is None and out is None and not recordings)
        return
    if recordings:
        if truth is not None or figure is not None or false_alarms is not None:
            raise click.UsageError("--recordings takes no TRUTH, --figure or --false-alarms")
        _adapt(voice, model_path, recordings, out, dry_run=dry_run, force=force)
        return
    if truth is None:
        raise click.UsageError("Missing argument 'TRUTH' (known events), or option --recordings (without them).")
    common.check_outputs(figures=[figure], endings={out: ()}, force=force)
    model = owl.load_model(model_path)
    known = owl.read_clip_table(truth, urls=common.table_urls())
    common.warn_if_learned_from(voice, model_path, list(known["file"].unique()))
    common.say_complete(voice, known, truth)
    with voice.progress("scoring recordings") as progress:
        found = owl.adjust(
            model, known, collar_s=collar_s, workers=workers,
            progress=progress,
            goal="f1" if false_alarms is None else "recall",
            false_alarms_per_hour=10.0 if false_alarms is None else false_alarms,
        )  # fmt: skip
    _show(voice, model.decoding, found, collar_s)
    if not found.reached:
        voice.warn(f"no settings stay within {false_alarms:g} false alarms per hour; using the closest")
    if dry_run:
        voice.say("\nNothing was changed.")
    elif out is not None:
        replace(model, decoding=found.decoding, previous_decoding=model.decoding).save(out, force=True)
        voice.say(f"\nWrote {out}.")
    elif not found.kept:
        owl.runs.set_decoding(model_path, found.decoding)
        voice.say(f"\nStored the settings in {model_path}. To undo: barn-owl adjust {model_path} --undo")
    if figure is not None:
        owl.save_figure(owl.show.adjusting_figure(found), figure, force=True)
        voice.say(f"Wrote {figure}.")
    voice.result(
        decoding=found.decoding.model_dump(exclude_none=True), scores=found.scores.as_dict(), kept=found.kept,
        cross_validated=found.cross_validated.reset_index(), before=found.before.reset_index(), curve=found.curve,
        reached=found.reached,
    )  # fmt: skip


def _undo(voice: common.Terminal, path: Path, *, alone: bool) -> None:
    if not alone:
        raise click.UsageError("--undo takes only MODEL")
    decoding = owl.runs.undo_decoding(path)
    voice.say(f"Restored the previous settings of {path}.")
    voice.result(decoding=decoding.model_dump(exclude_none=True))


def _adapt(
    voice: common.Terminal, path: Path, recordings: tuple[Path, ...], out: Path | None, *, dry_run: bool, force: bool
) -> None:
    if out is None and not dry_run:
        raise click.UsageError("--recordings writes a new model; name it with -o")
    common.check_outputs(endings={out: ()}, force=force)
    adapted = owl.adapt(path, recordings)
    voice.say(
        f"Adapted to {adapted.sounds['before'].sum()} sounds in {adapted.seconds / 60:.1f} min of recordings: "
        f"their share of the normalization statistics is {adapted.share:.0%}."
    )
    voice.table(adapted.sounds, title="sounds found")
    if out is not None and not dry_run:
        adapted.model.save(out, force=True)
        voice.say(f"Wrote {out}. Score both models on a recording with known events before you rely on the new one.")
    voice.result(share=adapted.share, seconds=adapted.seconds, sounds=adapted.sounds)


def _show(voice: common.Terminal, own: owl.DecodingSettings, found: owl.tag.Adjusted, collar_s: float) -> None:
    before, after = own.model_dump(), found.decoding.model_dump()
    f1, f1_before = (float(table["f1"].mean()) for table in (found.cross_validated, found.before))
    voice.say(f"Cross-validated F1: {f1:.2f} with new settings, {f1_before:.2f} with the model's own.")
    for key in after:
        if before[key] != after[key] and key != "labels":
            voice.say(f"{key}: {before[key]} -> {after[key]}")
    for label, settings in after["labels"].items():
        voice.say(f"{label}: " + ", ".join(f"{key} {value}" for key, value in settings.items() if value is not None))
    show_event_scores(voice, found.scores, collar_s)
    voice.table(
        found.cross_validated.reset_index(),
        title="cross-validated: each recording scored with settings chosen on the others",
    )
    if found.kept:
        voice.say("No significant difference: keeping the model's own settings.")
