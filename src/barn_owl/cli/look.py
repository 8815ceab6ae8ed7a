"""``barn-owl look``."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

import click
import numpy as np

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.cli.augment import write_variants_aloud
from barn_owl.files import claim_folder, is_folder

if TYPE_CHECKING:
    import pandas as pd

LONG_S = 60.0
UNITS = {"duration_s": "s", "rate_hz": "Hz", "bandwidth_hz": "Hz", "loudness_lufs": "LUFS"}


@click.command("look")
@click.argument("what")
@click.option("-o", "--out", type=common.PATH, help="Figure to write for a file, or folder for many.")
@click.option("--examples", type=click.IntRange(1, 12), default=6, help="Clips per label in the gallery.")
@click.option("--variants", type=click.IntRange(1, 1000), help="Write this many augmented variants of each clip.")
@click.option(
    "--background", multiple=True, metavar="LABEL",
    help="Variants: label whose clips are mixed into the others; repeatable.",
)  # fmt: skip
@click.option("--probability", "often", type=click.FloatRange(0, 1), default=0.3,
              help="Variants: probability of each change, if the plan sets none.")  # fmt: skip
@click.option("--yes", is_flag=True, help="Variants: write without asking.")
@common.plan_option
@common.seed_option
@common.workers_option
@common.engine_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    what: str,
    out: Path | None,
    examples: int,
    variants: int | None,
    background: tuple[str, ...],
    often: float,
    yes: bool,
    plan_path: Path | None,
    seed: int | None,
    workers: int,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Show facts and figures of sounds, or augmented variants.

    Prints duration, sample rate, levels, loudness, silence and effective bandwidth. --out writes figures. For a file:
    waveform, spectrogram, log-mel and cepstrum, or an overview if it is longer than a minute. For many clips: a
    gallery by label, mean spectra, the filter bank, and the facts as a table.

    --variants changes the sound as the section [sound] of the plan says. Of a sound file, writes variants to listen
    to and a figure; of a clip table, reports the size, asks, and writes sound files and their table. Training does
    not need these files: it augments clips on the fly.

    \b
    barn-owl look night.flac -o night.png
    barn-owl look clips.csv -o look
    barn-owl look knock.wav --variants 8 -o variants
    """
    plan = owl.read_plan(plan_path, urls=common.table_urls()) if plan_path else owl.Plan()
    if variants is not None:
        if out is None:
            raise click.UsageError("--variants needs -o FOLDER")
        write_variants_aloud(
            voice, what, out, plan, variants=variants, background=background, often=often, yes=yes, seed=seed,
            force=force,
        )  # fmt: skip
        return
    front_end = plan.front_end
    for caveat in front_end.caveats:
        voice.warn(caveat)
    path = Path(what)
    if common.is_sound_file(what):
        _look_at_file(voice, path, out, front_end, force=force)
        return
    if is_folder(path):
        gathered = owl.gather_folder(path)
        clips, unread = gathered.clips, gathered.skipped
    else:
        clips, unread = common.read_clips(what), {}
    _look_at_table(voice, clips, unread, out, front_end, examples=examples, workers=workers, force=force)


def _look_at_file(
    voice: common.Terminal, path: Path, out: Path | None, front_end: owl.FrontEnd, *, force: bool
) -> None:
    common.check_outputs(figures=[out], force=force)
    facts = asdict(owl.audio.file_facts(path))
    for name, value in facts.items():
        shown = f"{value:.5g}" if isinstance(value, float) else value
        unit = UNITS.get(name, "dB" if name.endswith("_db") else "")
        if name == "loudness_lufs" and np.isnan(value):
            shown, unit = "too short for a loudness (under 0.4 s); see rms_db", ""
        voice.say(f"{name:<15} {shown} {unit}".rstrip())
    if out is not None:
        if facts["duration_s"] > LONG_S:
            with voice.progress("drawing, seconds") as progress:
                figure = owl.show.overview_figure(path, progress=progress)
        else:
            samples, rate_hz = owl.read_audio(path)
            is_short = np.isnan(facts["loudness_lufs"])
            loudness = f"RMS {facts['rms_db']:.1f} dB" if is_short else f"{facts['loudness_lufs']:.1f} LUFS"
            loudness += f", peak {facts['peak_db']:.1f} dB"
            title = f"{path.name}: {facts['duration_s']:.2f} s, {loudness}"
            if facts["duration_s"] < front_end.frame_ms / 1000:
                front_end = front_end.but(pad_short=True)
                voice.warn(f"{path} is shorter than a frame ({front_end.frame_ms:g} ms); padded with silence")
            figure = owl.show.clip_figure(samples, rate_hz, front_end, title=title)
        owl.save_figure(figure, out, force=True)
        voice.say(f"\nWrote {out}.")
    voice.result(**facts)


def _look_at_table(
    voice: common.Terminal,
    clips: pd.DataFrame,
    unread: dict[str, str],
    out: Path | None,
    front_end: owl.FrontEnd,
    *,
    examples: int,
    workers: int,
    force: bool,
) -> None:
    from barn_owl.tables import write_table

    if out is not None:
        claim_folder(out, force=force)
    with voice.progress("reading files") as progress:
        facts, skipped = owl.audio.facts_table(clips["file"].unique(), workers=workers, progress=progress)
    skipped = unread | skipped
    voice.skipped(skipped.values())
    joined = clips[["file", "label"]].merge(facts, on="file")
    by_label = joined.groupby("label").agg(
        clips=("file", "size"),
        seconds=("duration_s", "sum"),
        shortest=("duration_s", "min"),
        longest=("duration_s", "max"),
        rate=("rate_hz", _span),
        rms=("rms_db", "median"),
        loudness=("loudness_lufs", "median"),  # of files that are long enough
        silent=("silent_share", "mean"),
        clipped=("clipped", lambda counts: int((counts > 0).sum())),
        bandwidth=("bandwidth_hz", lambda values: int(np.median(values))),
    )
    voice.table(by_label.reset_index())
    voice.say(
        "seconds in all, shortest, longest; RMS in dB, loudness in LUFS (of clips over 0.4 s), bandwidth in Hz: "
        "medians; silent: mean share; clipped: clips"
    )
    if out is not None:
        write_table(facts, out / "facts.csv", force=True)
        owl.save_figure(owl.show.gallery_figure(clips, front_end, examples=examples), out / "gallery.png", force=True)
        mel = front_end.but(features=["log-mel"])
        with voice.progress("computing spectra") as progress:
            frames, kept, _ = owl.load_frames(clips, mel, workers=workers, progress=progress)
        means = np.stack([frames[clip].mean(axis=0) for clip in range(len(frames))])
        spectra = {label: means[(kept["label"] == label).to_numpy()] for label in kept["label"].unique()}
        owl.save_figure(owl.show.spectra_figure(spectra, mel.centers_hz), out / "spectra.png", force=True)
        owl.save_figure(owl.show.filter_bank_figure(mel), out / "filter-bank.png", force=True)
        voice.say(f"\nWrote facts.csv, gallery.png, spectra.png and filter-bank.png to {out}.")
        voice.say("Next: barn-owl features CLIPS -o features.csv --rank ranking.csv")
    voice.result(labels=by_label.reset_index()[["label", "clips", "seconds"]], skipped=skipped)


def _span(rates: pd.Series[int]) -> str:
    low, high = rates.min(), rates.max()
    return str(low) if low == high else f"{low} to {high}"
