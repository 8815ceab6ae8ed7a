"""``barn-owl cut``."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.clips.takes import TakeSettings
from barn_owl.errors import AudioError, PlanError, TableError

if TYPE_CHECKING:
    import pandas as pd

TAKES = TakeSettings()


@click.command("cut")
@click.argument("recordings", nargs=-1, required=True, type=common.PATH)
@common.out_file_option
@click.option("--label", default="", help="Label of the clips.")
@click.option("--length-s", type=float, default=TAKES.length_s, help="Length of every clip.")
@click.option("--windows", is_flag=True, help="Cut into adjacent windows instead of detecting takes.")
@click.option("--step-s", type=float, help="Step between windows.  [default: their length]")
@click.option("--background", "count", type=click.IntRange(min=1), help="RECORDINGS is a truth table: draw this many"
              " clips between its events.")  # fmt: skip
@click.option("--around-events", is_flag=True, help="RECORDINGS is a truth table: cut one clip around each event.")
@click.option("--false-alarms", type=common.PATH, help="With --around-events: event table of a"
              " model; its false alarms become clips of --label.")  # fmt: skip
@click.option("--place", type=click.Choice(["random", "start", "center"]), help="Position of the event in its clip.")
@click.option(
    "--threshold-db", type=float, help=f"Level above the quiet that starts a take.  [default: {TAKES.threshold_db:g}]"
)
@click.option("--release-db", type=float, help=f"Level below which it ends.  [default: {TAKES.release_db:g}]")
@click.option("--max-gap-s", type=float, help=f"Longest pause within a take.  [default: {TAKES.max_gap_s:g}]")
@click.option("--min-duration-s", type=float, help=f"Shortest take.  [default: {TAKES.min_duration_s:g}]")
@click.option("--write", "folder", type=common.PATH, help="Folder to write the clips to as WAV files.")
@click.option("--figure", type=common.PATH, help="Draw the cuts on the first recording's waveform.")
@common.seed_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    recordings: tuple[Path, ...],
    out: Path,
    label: str,
    length_s: float,
    windows: bool,
    step_s: float | None,
    count: int | None,
    around_events: bool,
    false_alarms: Path | None,
    place: str | None,
    threshold_db: float | None,
    release_db: float | None,
    max_gap_s: float | None,
    min_duration_s: float | None,
    folder: Path | None,
    figure: Path | None,
    seed: int | None,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Cut clips from recordings: takes, windows or background.

    By default, detects each take in RECORDINGS by its onset and cuts one clip of fixed length around it, with the
    onset at a random position. Writes a clip table; --write also writes sound files.

    \b
    barn-owl cut knocks.wav --label hull-knock -o knocks.csv \\
        --figure knocks.png
    barn-owl cut night.flac --windows --length-s 2 --step-s 1 -o windows.csv
    barn-owl cut truth.csv --background 50 --label water -o background.csv
    barn-owl cut truth.csv --around-events --false-alarms events.csv \\
        --label water -o more.csv
    """

    common.check_outputs(figures=[figure], tables=[out], force=force)
    _refuse_together(windows=windows, count=count, around_events=around_events, false_alarms=false_alarms)
    if length_s <= 0 or (step_s is not None and step_s <= 0):
        raise PlanError("length_s and step_s must be greater than 0")
    takes = TAKES.but(
        length_s=length_s,
        place=place,
        threshold_db=threshold_db,
        release_db=release_db,
        max_gap_s=max_gap_s,
        min_duration_s=min_duration_s,
    )

    def cut(recording: Path, number: int) -> pd.DataFrame:
        if count:
            truth = common.read_clips(str(recording))
            common.say_complete(voice, truth, recording)
            return owl.clips.draw_background(
                truth, length_s, count, label=label or "background", seed=(seed or 0) + number
            )
        if around_events:
            truth = common.read_clips(str(recording))
            return _around_events(voice, truth, false_alarms, length_s, label, (seed or 0) + number)
        if windows:
            return owl.clips.cut_windows(recording, length_s, step_s=step_s, label=label)
        return owl.clips.find_takes(recording, takes, label=label, seed=(seed or 0) + number)

    clips, missed = _cut_each(voice, recordings, cut)
    if figure is not None:
        first = clips["file"].iloc[0]
        owl.save_figure(owl.show.cuts_figure(first, clips[clips["file"] == first]), figure, force=True)
        voice.say(f"Wrote {figure}.")
    if folder is not None:
        clips = owl.clips.write_excerpts(clips, folder, force=force)
        voice.say(f"Wrote {len(clips)} sound files to {folder}.")
    common.write_clips(clips, out, force=force)
    voice.say(f"Wrote {len(clips)} clips to {out}.")
    voice.say(f"Next: barn-owl look {out} -o look, then barn-owl check {out}")
    voice.result(clips=len(clips), missed=missed, out=out)


def _refuse_together(*, windows: bool, count: int | None, around_events: bool, false_alarms: Path | None) -> None:
    if sum(map(bool, (windows, count, around_events))) > 1:
        raise click.UsageError("--windows, --background and --around-events are different ways to cut")
    if false_alarms and not around_events:
        raise click.UsageError("--false-alarms goes with --around-events")


def _around_events(
    voice: common.Terminal, truth: pd.DataFrame, false_alarms: Path | None, length_s: float, label: str, seed: int
) -> pd.DataFrame:
    import pandas as pd

    cuts = [owl.clips.clips_of_events(truth, length_s, seed=seed)]
    if false_alarms:
        found = owl.read_events(false_alarms, urls=common.table_urls())
        wrong = owl.clips.clips_of_false_alarms(found, truth, length_s, label=label or "background")
        voice.say(f"{len(wrong)} false alarms")
        cuts += [wrong] if len(wrong) else []
    return pd.concat(cuts, ignore_index=True)


def _cut_each(
    voice: common.Terminal, recordings: tuple[Path, ...], cut: Callable[[Path, int], pd.DataFrame]
) -> tuple[pd.DataFrame, list[str]]:
    """Cut recordings in turn; report and skip failures."""

    import pandas as pd

    tables, missed = [], []
    for number, recording in enumerate(recordings):
        try:
            tables.append(cut(recording, number))
        except AudioError as error:
            missed.append(str(error))
            voice.warn(f"skipped: {error}")
        else:
            voice.say(f"{recording}: {len(tables[-1])} clips")
    if not tables:
        raise AudioError(f"none of the recordings can be cut; the first: {missed[0]}")
    if not sum(map(len, tables)):
        raise TableError("no take found: nothing rises above the quiet. Lower --threshold-db and --release-db")
    return pd.concat(tables, ignore_index=True), missed
