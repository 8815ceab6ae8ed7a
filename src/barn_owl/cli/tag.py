"""``barn-owl tag``."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.cli.hours import write_hours
from barn_owl.cli.measure import measure_tagging
from barn_owl.cli.score import same_files
from barn_owl.errors import AudioError, OutputError
from barn_owl.files import checked_target
from barn_owl.parallel import on_cluster

if TYPE_CHECKING:
    import pandas as pd

MIN_REPORTED_HOURS = 1.0
"""Amount of sound above which the speed is reported."""
DOUBTED = 3
"""Recordings that are checked for reasons for caution."""


@click.command("tag")
@click.argument("run", type=common.PATH)
@click.argument("recordings", nargs=-1, required=True)
@click.option(
    "-o",
    "--out",
    type=click.Path(path_type=Path, allow_dash=True),
    help="Event table to write; - for stdout. Optional with --store.",
)
@common.decoding_options
@click.option("--workers", type=click.IntRange(1, 64), default=2, help="Recordings to process in parallel.")
@click.option(
    "--store",
    type=common.PATH,
    help="Store of events: a folder of Parquet files, or NAME.sqlite. Skips recordings that are in it.",
)
@common.engine_option
@click.option(
    "--runtime",
    type=click.Choice(["own", "onnx"]),
    default="own",
    help="Inference engine: built in, or ONNX Runtime on its best device.",
)
@click.option("--figure", type=common.PATH, help="Figure of the first recording to write.")
@click.option("--truth", type=common.PATH, help="Truth table to draw below the events in the figure.")
@click.option(
    "--figure-span-s", "span_s", type=(float, float), metavar="FROM TO", help="Part of the recording to draw."
)
@click.option("--score-traces", "traces", type=common.PATH, help="Folder to write frame scores to (NPZ).")
@click.option("--excerpts", type=common.PATH, help="Folder to write each event to, as a sound file.")
@click.option("--around-s", type=click.FloatRange(min=0), default=0.2, help="Sound before and after each excerpt.")
@click.option("--cues", type=common.PATH, help="Folder to write WAV copies with cue points to.")
@click.option("--hours", type=common.PATH, help="Events by hour of the day to write: .csv or .png.")
@click.option("--start-times", "begins", type=common.PATH, help="Table with the columns file and begins.")
@click.option(
    "--time-zone", "zone", default="", metavar="ZONE", help="Time zone of file names without one: Europe/Lisbon."
)
@common.measure_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    run: Path,
    recordings: tuple[str, ...],
    out: Path | None,
    workers: int,
    store: Path | None,
    runtime: str,
    figure: Path | None,
    truth: Path | None,
    span_s: tuple[float, float] | None,
    traces: Path | None,
    excerpts: Path | None,
    around_s: float,
    cues: Path | None,
    hours: Path | None,
    begins: Path | None,
    zone: str,
    measure: bool,
    force: bool,
    voice: common.Terminal,
    **changes: float | None,
) -> None:
    """Detect events in long recordings.

    RUN is a run folder or a model file; RECORDINGS are files, folders, tables or URLs (s3://bucket/may/,
    https://host/night.flac) of any sample rate, length and number of channels. Reports and skips unreadable
    recordings. The ending of --out selects the format: .csv, .tsv, .parquet, .jsonl, or .vtt and .srt for players.

    \b
    barn-owl tag first night.flac -o events.csv --figure night.png
    barn-owl tag first night.flac -o events.csv --figure night.png \\
        --truth truth.csv --figure-span-s 0 90
    barn-owl tag first archive/ -o events.csv --store done.sqlite \\
        --hours hours.png
    barn-owl tag first s3://quay/2026/ --store months --engine tcp://host:8786
    barn-owl tag first night.flac --measure
    """

    from barn_owl.archive import with_clock
    from barn_owl.archive.formats import ENDINGS
    from barn_owl.archive.recordings import trace_files_of

    if measure:
        measure_tagging(voice, run, recordings[0], workers)
        return
    true = _truth_to_draw(truth, span_s, figure)
    model = owl.load_model(run)
    if out is None and store is None:
        raise OutputError("give -o TABLE, --store STORE, or both")
    common.check_outputs(figures=[figure], endings={hours: (".csv", *common.FIGURES), out: ENDINGS}, force=force)
    model = owl.device.on_runtime(model) if runtime == "onnx" else model
    decoding = model.decoding.but(**changes)
    files = owl.find_recordings(recordings, urls=common.table_urls())
    common.warn_if_learned_from(voice, run, files)
    _check_output(files, out=out, store=store, traces=traces, excerpts=excerpts, cues=cues, force=force)
    starts = _starts(files, begins, zone, needed=hours is not None)
    archive = tag_aloud(voice, model, files, decoding, workers=workers, store=store, traces=traces, starts=starts)
    if not archive.done and not archive.stopped:
        raise AudioError("no recording could be tagged")
    if archive.done:
        if out is not None:
            events = with_clock(archive.events, starts) if any(starts.values()) else archive.events
            common.write_table(events, out, force=force)
        _report(voice, archive, len(files), out, store)
        _report_work(voice, archive)
        if runtime == "onnx":
            _report_runtime(voice, archive, model)
        _caveat(voice, model, archive)
        _write_more(voice, archive, excerpts=excerpts, around_s=around_s, cues=cues, force=force)
        if hours is not None:
            write_hours(voice, owl.archive.hours_table(archive.events, starts, archive.processed_s), hours)
    if archive.stopped:
        raise KeyboardInterrupt
    if figure is not None:
        first = archive.done[0]
        trace = None if traces is None else owl.tag.read_trace(trace_files_of(files, traces)[first])
        own = archive.events_of([first])
        start_s, end_s = span_s or (0.0, None)
        true = None if true is None else same_files(true, own)
        drawn = owl.show.tagging_figure(
            model, first, own, truth=true, start_s=start_s, end_s=end_s, decoding=decoding, trace=trace
        )
        owl.save_figure(drawn, figure, force=True)
        voice.say(f"Wrote a figure of {first} to {figure}.")


def _truth_to_draw(
    truth: Path | None, span_s: tuple[float, float] | None, figure: Path | None
) -> pd.DataFrame | None:
    if figure is None and (truth is not None or span_s is not None):
        raise click.UsageError("--truth and --figure-span-s need --figure")
    return None if truth is None else owl.read_clip_table(truth, urls=common.table_urls())


def _check_output(
    files: list[str],
    *,
    out: Path | None,
    store: Path | None,
    traces: Path | None,
    excerpts: Path | None,
    cues: Path | None,
    force: bool,
) -> None:
    """Raise OutputError before any work when something could not be written after it, or would overwrite
    something.
    """
    from barn_owl.archive.recordings import trace_files_of
    from barn_owl.files import claim_folder

    if out is not None and out.suffix.lower() in (".vtt", ".srt") and len(files) > 1:
        raise OutputError(f"{out} holds the events of one recording, and there are {len(files)}; .csv holds all")
    if cues is not None and len({Path(file).stem for file in files}) < len(files):
        raise OutputError("recordings of the same name cannot be copied to one folder; tag them one by one")
    targets = []
    if traces is not None and store is None:  # existing results in the store are reused
        targets += list(trace_files_of(files, traces).values())
    if cues is not None:
        targets += [cues / f"{Path(file).stem}.wav" for file in files]
    for target in targets:
        checked_target(target, force=force)
    if store is not None:
        owl.archive.open_store(store)
    for folder in (traces, cues):
        if folder is not None:
            claim_folder(folder, force=True)
    if excerpts is not None:
        claim_folder(excerpts, force=force)


def tag_aloud(
    voice: common.Terminal,
    model: owl.Model,
    files: list[str],
    decoding: owl.DecodingSettings,
    *,
    workers: int = 2,
    store: Path | None = None,
    traces: Path | None = None,
    starts: Mapping[str, datetime | None] | None = None,
) -> owl.archive.Archive:
    """Tag recordings with a progress bar, until done or stopped by Ctrl-C."""
    what = Path(files[0]).name if len(files) == 1 else f"{len(files)} recordings"
    with voice.progress(f"tagging {what}, seconds", of_sound=True) as progress:
        archive = owl.tag_archive(
            model,
            files,
            decoding=decoding,
            store=store,
            score_traces=traces,
            workers=workers,
            starts=starts,
            progress=progress,
        )
    voice.skipped(archive.skipped.values())
    if archive.kept:
        voice.say(f"skipping {len(archive.kept)} recordings that are in the store")
    if archive.stopped:
        voice.warn(f"stopped after {len(archive.done)} of {len(files)} recordings")
    return archive


def _write_more(
    voice: common.Terminal,
    archive: owl.archive.Archive,
    *,
    excerpts: Path | None,
    around_s: float,
    cues: Path | None,
    force: bool,
) -> None:
    if excerpts is not None:
        events, lengths = archive.events, {file: owl.audio_info(file).duration_s for file in archive.done}
        ends = [min(end + around_s, lengths[file]) for file, end in zip(events["file"], events["end_s"], strict=True)]
        wider = events.assign(start_s=(events["start_s"].astype(float) - around_s).clip(lower=0), end_s=ends)
        if len(events):
            owl.clips.write_excerpts(wider, excerpts, force=force)
        voice.say(f"Wrote {len(events)} excerpts to {excerpts}.")
    if cues is not None:
        for file in archive.done:
            owl.archive.write_cues(file, archive.events_of([file]), cues / f"{Path(file).stem}.wav", force=force)
        voice.say(f"Wrote {len(archive.done)} WAV copies with cue points to {cues}.")


def _starts(files: list[str], begins: Path | None, zone: str, *, needed: bool) -> dict[str, datetime | None]:
    """Return start times of the recordings. Raises AudioError if a `needed` time is unknown."""
    from barn_owl.archive import starts_of_table

    if begins is not None:
        starts = starts_of_table(begins, files, zone=zone)
    else:
        starts = {file: owl.archive.recording_start(file, zone=zone) for file in files}
    unknown = [file for file, start in starts.items() if start is None]
    if needed and unknown:
        raise AudioError(
            f"--hours needs the start time of each recording, and {unknown[0]} has none"
            f"{f' (nor do {len(unknown) - 1} others)' if len(unknown) > 1 else ''}, neither in its name, as in "
            "night_20260314_221500.flac, nor in a broadcast chunk; rename them, or give --start-times TABLE with "
            "the columns file and begins"
        )
    return starts


def _caveat(voice: common.Terminal, model: owl.Model, archive: owl.archive.Archive) -> None:
    """Print reasons for caution about the events of the first recordings."""

    from barn_owl.tag.caveats import recording_caveats_of

    for file in archive.done[:DOUBTED]:
        for sentence in recording_caveats_of(model, file, archive.events_of([file]), archive.processed_s[file]):
            voice.warn(sentence)


def _report(
    voice: common.Terminal, archive: owl.archive.Archive, total: int, out: Path | None, store: Path | None
) -> None:
    counts = archive.counts()
    voice.table(counts)
    events, kept = int(counts["events"].sum()), f" Stored in {store}." if store is not None else ""
    written = f"Wrote {events} events" if out is not None else f"{events} events"
    voice.say(f"\n{written} in {len(archive.done)} of {total} recordings{'' if out is None else f' to {out}'}.{kept}")
    voice.result(
        events=events, recordings=len(archive.done), skipped=archive.skipped, out=out,
        seconds=round(archive.seconds, 2), work=archive.work,
    )  # fmt: skip


def _report_work(voice: common.Terminal, archive: owl.archive.Archive) -> None:
    """Print speed and time by stage; on a cluster also by worker."""
    work = archive.work
    hours = float(work["hours"].sum()) if len(work) else 0.0
    if hours < MIN_REPORTED_HOURS and not on_cluster():
        return
    busy = work[["decode", "features", "network"]].sum()
    shares = ", ".join(f"{name} {seconds / max(busy.sum(), 1e-9):.0%}" for name, seconds in busy.items())
    voice.say(
        f"{hours:.1f} h of sound in {archive.seconds:.0f} s: {3600 * hours / archive.seconds:.0f} times real time"
    )
    voice.say(f"of the work: {shares}; {work['megabytes'].sum():.1f} MB of scores came back")
    if on_cluster():
        waiting = (archive.seconds - work[["decode", "features", "network"]].sum(axis=1)).clip(lower=0)
        voice.table(work.assign(waiting=waiting), title="by worker, seconds")


def _report_runtime(voice: common.Terminal, archive: owl.archive.Archive, model: owl.Model) -> None:
    """Print the device of the network, and its share of the time."""
    device = getattr(model.classifier, "device", "")
    if not len(archive.work):
        return
    computing, workers = float(archive.work["network"].sum()), max(1, len(archive.work))
    share = computing / max(workers * archive.seconds, 1e-9)
    voice.say(f"the network was computed on {device}, which was busy {share:.0%} of the time")
