"""``barn-owl hours``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.files import is_file

if TYPE_CHECKING:
    import pandas as pd


@click.command("hours")
@click.argument("source", metavar="STORE|EVENTS", type=common.PATH)
@click.option("--model", default="", help="Model or settings to read, if the store has several.")
@click.option("--day", default="", metavar="YYYY-MM-DD", help="Only this day.")
@click.option("--recorder", default="", help="Only this recorder.")
@click.option("-o", "--out", type=common.PATH, help="Events by hour of the day to write: .csv or .png.")
@click.option("--events", "events_out", type=common.PATH, help="Event table to write.")
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    source: Path,
    model: str,
    day: str,
    recorder: str,
    out: Path | None,
    events_out: Path | None,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Count events by label and hour of the day.

    STORE is what tag --store wrote: recordings, failures and events. It may be larger than memory. EVENTS is an event
    table; its hours are known if the names of the recordings, or their files, state when they begin.

    \b
    barn-owl hours months -o hours.png
    barn-owl hours events.csv -o hours.csv
    barn-owl hours months --day 2026-05-01 --recorder quay-3 --events day.csv
    """

    from barn_owl.archive.entries import StoreQuery
    from barn_owl.archive.formats import ENDINGS
    from barn_owl.archive.store import hours_of, is_store, open_for_reading, the_model

    common.check_outputs(endings={out: (".csv", *common.FIGURES), events_out: ENDINGS}, force=force)
    if is_file(source) and not is_store(source):
        if model or day or recorder or events_out is not None:
            raise click.UsageError("--model, --day, --recorder and --events go with a store")
        _of_table(voice, owl.read_events(source, urls=common.table_urls()), out)
        return
    opened = open_for_reading(source)
    own = the_model(opened, model)
    query = StoreQuery(model=own, day=day, recorder=recorder)
    known = [one for one in opened.recordings(own) if query.takes(one)]
    done, failed = [one for one in known if not one.reason], [one for one in known if one.reason]
    table = hours_of(done)
    hours = sum(one.duration_s for one in done) / 3600
    days, recorders = {one.day for one in done if one.begins}, {one.recorder for one in done}
    events = sum(one.events for one in done)
    voice.say(
        f"{len(done)} recordings, {hours:.1f} h, of {len(recorders)} recorders on {len(days)} days: {events} events"
    )
    counts = table.drop(columns="recorded_s").sum()
    if len(counts):
        voice.table(counts.rename_axis("label").rename("events with a clock").reset_index())
    for one in failed:
        voice.warn(f"failed: {one.reason}")
    if events_out is not None:
        found = owl.archive.read_store(source, model=own, day=day, recorder=recorder)
        owl.write_events(found, events_out, force=force)
        voice.say(f"Wrote {len(found)} events to {events_out}.")
    if out is not None:
        write_hours(voice, table, out)
    by_label, reasons = counts.to_dict(), {one.file: one.reason for one in failed}
    voice.result(recordings=len(done), hours=round(hours, 3), events=events, by_label=by_label, failed=reasons)


def _of_table(voice: common.Terminal, events: pd.DataFrame, out: Path | None) -> None:
    """Count the events of a table, from the times in the names of its recordings."""
    files = list(dict.fromkeys(events["file"]))
    starts = {file: owl.archive.recording_start(file) for file in files}
    ends = events.groupby("file")["end_s"].max()
    seconds = {file: owl.audio_info(file).duration_s if is_file(file) else float(ends[file]) for file in files}
    table = owl.archive.hours_table(events, starts, seconds)
    counts = table.drop(columns="recorded_s").sum()
    known = sum(start is not None for start in starts.values())
    voice.say(f"{len(events)} events in {len(files)} recordings, {known} of them with a known start")
    if known:
        voice.table(counts.rename_axis("label").rename("events with a clock").reset_index())
    else:
        voice.warn("no recording states when it begins, neither in its name (night_20260314_221500.flac) nor inside")
    if out is not None:
        write_hours(voice, table, out)
    voice.result(recordings=len(files), events=len(events), by_label=counts.to_dict())


def write_hours(voice: common.Terminal, table: pd.DataFrame, path: Path) -> None:
    """Write events by hour as a table or a figure, by the ending of `path`."""
    from barn_owl.tables import write_table

    if path.suffix.lower() == ".csv":
        write_table(table, path, force=True, index="hour")
    else:
        owl.save_figure(owl.show.hours_figure(table), path, force=True)
    voice.say(f"Wrote events by hour of the day to {path}.")
