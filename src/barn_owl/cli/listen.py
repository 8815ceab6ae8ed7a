"""``barn-owl listen``."""

from __future__ import annotations

import json
import math
import os
import sys
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.console import Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.errors import AudioError, OutputError, PlanError
from barn_owl.files import checked_target, is_file

if TYPE_CHECKING:
    from barn_owl.audio import Source
    from barn_owl.live import Listener, LiveEvent, Notifier

SHOWN, BAR = 8, 30
"""Last events in the live view, and characters of a bar at full score."""
QUIETEST_DB = -80.0
"""Level at which the bar of the level is empty."""
SIMULATED = "simulated:"
OUTPUT_ENDINGS = (".csv", ".jsonl")
MAX_LINE = 100_000
"""Bytes of the first line of a table that are read to recognize it."""
LINE = ["begins", "start_s", "end_s", "label", "score"]


@click.command("listen")
@click.argument("run", type=common.PATH)
@click.option("--microphone", metavar="NAME", help="Device; simulated:PATH for a file or folder; - for raw samples.")
@click.option("--rate-hz", type=click.IntRange(1, 10_000_000), help="Sample rate of the microphone or pipe.")
@click.option(
    "--sample-type", default="int16", metavar="TYPE",
    help="Pipe: uint8, int16, int24, int32, float32 or float64.",
)  # fmt: skip
@click.option("--channels", type=click.IntRange(1, 64), default=1, help="Pipe: number of channels.")
@click.option("--speed", type=float, default=1.0, help="Simulated microphone: times real time, or inf.")
@click.option("--stop-after-s", type=click.FloatRange(min=0, min_open=True), help="Stop after this much sound.")
@common.decoding_options
@click.option("-o", "--out", type=common.PATH, help="Table (.csv, .jsonl) to append events to.")
@click.option("--excerpts", type=common.PATH, help="Folder to write each event to, as a sound file.")
@click.option("--around-s", type=click.FloatRange(0, 20), default=1.0, help="Sound before and after each excerpt.")
@click.option("--run-command", metavar="COMMAND", help="Command to run per event: {label} {start_s} {end_s} {score}.")
@click.option("--post", metavar="URL", help="HTTP address to post each event to, as JSON.")
@click.option(
    "--undelivered", type=common.PATH,
    help="File (JSON Lines) for events that could not be posted; posted when the address answers again.",
)  # fmt: skip
@click.option(
    "--notify-interval-s", type=click.FloatRange(min=0), default=0.0,
    help="Minimum time between two notifications of a label.",
)  # fmt: skip
@click.option("--lines", is_flag=True, help="Print one line per event, also on a terminal.")
@common.force_option
@common.terminal_options
def command(
    run: Path,
    microphone: str | None,
    rate_hz: int | None,
    sample_type: str,
    channels: int,
    speed: float,
    stop_after_s: float | None,
    out: Path | None,
    excerpts: Path | None,
    around_s: float,
    run_command: str | None,
    post: str | None,
    undelivered: Path | None,
    notify_interval_s: float,
    lines: bool,
    force: bool,
    voice: common.Terminal,
    **changes: float | None,
) -> None:
    """Tag live sound from a microphone, a pipe or a simulated device.

    Runs until Ctrl-C or the end of the input, with the default microphone unless --microphone names another source.
    Reports the same events as tag. --json prints each event as a line of JSON.

    \b
    barn-owl listen first
    barn-owl listen first --microphone simulated:night.flac --speed 10
    barn-owl listen first --run-command 'notify-send {label} {score}' \\
        --notify-interval-s 60
    arecord -t raw -f S16_LE -r 16000 | barn-owl listen first --microphone - \\
        --rate-hz 16000 --json
    """
    if undelivered is not None and post is None:
        raise click.UsageError("--undelivered needs --post")
    model = owl.load_model(run)
    source = _source(microphone, rate_hz, sample_type, channels, speed)
    lead_s = None if excerpts is None else around_s
    listener = owl.Listener(model, source, decoding=model.decoding.but(**changes), lead_s=lead_s)
    events = 0
    with ExitStack() as opened:
        table = opened.enter_context(_appended_table(out, force=force))
        notifiers = []
        for notifier in _notifiers(run_command, post, undelivered, excerpts, notify_interval_s, source.rate_hz):
            opened.callback(_close, voice, notifier)
            notifiers.append(notifier)
        _report_first(voice, listener, speed)
        stop = opened.enter_context(common.stopping())
        with _view(voice, listener, lines=lines) as view:
            for found in listener.steps(stop):
                for event in found:
                    events += 1
                    view.add(event)
                    if voice.as_json:
                        click.echo(json.dumps(event.record(), ensure_ascii=False))
                    if table is not None:
                        table(event)
                    for notifier in notifiers:
                        notifier.notify(event)
                view.warn([*listener.warnings(), *(text for notifier in notifiers for text in notifier.warnings())])
                view.refresh()
                if stop_after_s is not None and listener.seconds >= stop_after_s:
                    stop.set()
    _report(voice, listener, events, out)


def _notifiers(
    run_command: str | None,
    post: str | None,
    undelivered: Path | None,
    excerpts: Path | None,
    interval_s: float,
    rate_hz: int,
) -> Iterator[Notifier]:
    if run_command is not None:
        yield owl.live.command_notifier(run_command, interval_s=interval_s)
    if post is not None:
        yield owl.live.http_notifier(post, interval_s=interval_s, undelivered=undelivered)
    if excerpts is not None:
        yield owl.live.Notifier(partial(_write_excerpt, excerpts, rate_hz))


def _close(voice: common.Terminal, notifier: Notifier) -> None:
    notifier.close()
    for text in notifier.warnings():
        voice.warn(text)
    if notifier.dropped or notifier.failed or notifier.undelivered:
        kept = f"; {notifier.undelivered} kept for later" if notifier.undelivered else ""
        voice.warn(f"notifications: {notifier.sent} sent, {notifier.failed} failed, {notifier.dropped} dropped{kept}")


def _report_first(voice: common.Terminal, listener: Listener, speed: float) -> None:
    latency_s = listener.latency_s / (speed if math.isfinite(speed) and speed > 1 else 1)
    voice.say(
        f"Listening for {', '.join(listener.model.event_labels)}. Events are reported within {latency_s:.1f} s of "
        "their end. Ctrl-C stops."
    )


def _report(voice: common.Terminal, listener: Listener, events: int, out: Path | None) -> None:
    if listener.breaks:
        voice.warn(f"lost {listener.lost_s:.1f} s of sound in {listener.breaks} gaps")
    voice.say(f"\nDetected {events} events in {_length(listener.seconds)}" + (f"; added to {out}." if out else "."))


def _length(seconds: float) -> str:
    if seconds < 600:
        return f"{seconds:.1f} s"
    return f"{seconds / 60:.0f} min" if seconds < 7200 else f"{seconds / 3600:.1f} h"


def _source(microphone: str | None, rate_hz: int | None, sample_type: str, channels: int, speed: float) -> Source:
    from barn_owl.audio import RawPipe, SimulatedMicrophone, SoundCard

    if microphone == "-":
        if rate_hz is None:
            raise PlanError("raw samples have no rate: give --rate-hz")
        # Unbuffered, since a thread that waits in a buffered read could not be left behind at the end.
        pipe = open(sys.stdin.fileno(), "rb", buffering=0, closefd=False)  # noqa: SIM115 - it is open already
        return RawPipe(pipe, rate_hz, sample_type=sample_type, channels=channels)
    if microphone is None or not microphone.startswith(SIMULATED):
        return SoundCard(microphone, rate_hz)
    files = owl.find_recordings([microphone.removeprefix(SIMULATED)])
    rates = {owl.audio_info(file).rate_hz for file in files}
    rate = rate_hz or max(rates)
    blocks = (block for file in files for block in owl.audio.stream_audio(file, rate_hz=rate))
    return SimulatedMicrophone(blocks, rate, speed=speed)


@contextmanager
def _appended_table(path: Path | None, *, force: bool) -> Iterator[Callable[[LiveEvent], None] | None]:
    """Yield a function that appends an event to a table, new or from an earlier call."""
    if path is None:
        yield None
        return
    import pandas as pd

    from barn_owl.tables import append_rows, csv_text

    as_csv = path.suffix.lower() == ".csv"
    columns = ["file", *LINE[1:], LINE[0]]
    header = csv_text(pd.DataFrame(columns=columns)) if as_csv else ""
    continues = not force and is_file(path) and path.stat().st_size > 0
    path = checked_target(path, force=True, endings=OUTPUT_ENDINGS, make_folders=True)
    try:
        if continues and not _continues(path, header):
            raise OutputError(f"{path} is not a table of listen; choose another name, or --force to overwrite it")
        with path.open("a" if continues else "w", encoding="utf-8", errors="backslashreplace", newline="") as file:
            file.write("" if continues else header)

            def append(event: LiveEvent) -> None:
                record = {"file": "live", **event.record()}
                if as_csv:
                    append_rows(pd.DataFrame([record], columns=columns), file)
                else:
                    file.write(json.dumps(record, ensure_ascii=False) + "\n")
                    file.flush()
                    os.fsync(file.fileno())

            yield append
    except OSError as error:
        # A reader of standard output that went away is no fault of this file.
        if isinstance(error, OutputError | BrokenPipeError):
            raise
        raise OutputError(f"{path} cannot be written: {error.strerror or error}") from error


def _continues(path: Path, header: str) -> bool:
    """Return whether a file is a table of this command; a last line that a crash cut off is ended."""
    with path.open("rb+") as file:
        if not _is_ours(file.readline(MAX_LINE).decode("utf-8", "replace"), header):
            return False
        file.seek(-1, os.SEEK_END)
        if file.read(1) != b"\n":
            file.write(b"\r\n" if header else b"\n")
    return True


def _is_ours(first: str, header: str) -> bool:
    """Return whether the first line of a file is that of a table of this command, CSV with a header or JSON Lines."""
    if header:
        return first == header
    try:
        record = json.loads(first)
    except (ValueError, RecursionError):
        return False
    return isinstance(record, dict) and {"file", *LINE} <= set(record)


def _write_excerpt(folder: Path, rate_hz: int, event: LiveEvent) -> None:
    from barn_owl.clips import label_folder

    place = label_folder(folder, event.label)
    stamp = event.begins.strftime("%Y%m%d_%H%M%S") + f"_{event.begins.microsecond // 1000:03d}"
    number, path = 1, place / f"{stamp}.flac"
    while path.exists():
        number, path = number + 1, place / f"{stamp}_{number}.flac"
    if event.excerpt is None:
        return
    try:
        owl.write_audio(path, event.excerpt, rate_hz, force=True)
    except (AudioError, OutputError) as error:
        raise OSError(str(error)) from error


class Lines:
    """A line an event."""

    def __init__(self, voice: common.Terminal) -> None:
        self._voice = voice

    def add(self, event: LiveEvent) -> None:
        """Print an event."""
        self._voice.say(_line(event))
        sys.stdout.flush()

    def warn(self, texts: list[str]) -> None:
        """Print a problem of the source or of a notification."""
        for text in texts:
            self._voice.warn(text)

    def refresh(self) -> None:
        """Nothing moves."""


def _line(event: LiveEvent) -> str:
    return (
        f"{event.begins:%H:%M:%S}  {event.start_s:10.2f} s  {event.end_s - event.start_s:6.2f} s  {event.score:.2f}"
        f"  {event.label}"
    )


class Screen(Lines):
    """Bars of the scores now, the level, and the last events."""

    def __init__(self, voice: common.Terminal, listener: Listener, live: Live) -> None:
        super().__init__(voice)
        self._listener, self._live, self._last = listener, live, list[str]()
        self._warned = ""

    def add(self, event: LiveEvent) -> None:
        """Remember it for the next picture."""
        self._last = [*self._last, _line(event)][-SHOWN:]

    def warn(self, texts: list[str]) -> None:
        """Show the last event below."""
        self._warned = texts[-1] if texts else self._warned

    def refresh(self) -> None:
        """Update the display."""
        self._live.update(self.drawn())

    def drawn(self) -> Group:
        """Return the content of the display."""
        listener, bars = self._listener, Table.grid(padding=(0, 1))
        level = listener.level_db
        share = min(max(1 - level / QUIETEST_DB, 0.0), 1.0) if math.isfinite(level) else 0.0
        bars.add_row("level", Text(_bar(share), style="cyan"), f"{max(level, -120):.0f} dB")
        for label, score in zip(listener.model.labels, listener.scores, strict=True):
            if label in listener.model.event_labels:
                on = score >= listener.decoding.of(label).threshold
                bars.add_row(
                    Text(label), Text(_bar(float(score)), style="bold yellow" if on else "blue"), f"{score:.2f}"
                )
        head = Text(f"listening for {_length(listener.seconds)}", style="bold")
        lines = [Text(line) for line in self._last] or [Text("nothing yet", style="dim")]
        warned = [Text(self._warned, style="yellow")] if self._warned else []
        return Group(head, bars, Text(), Text("last events", style="bold"), *lines, *warned)


def _bar(share: float) -> str:
    full = round(share * BAR)
    return "█" * full + "·" * (BAR - full)


@contextmanager
def _view(voice: common.Terminal, listener: Listener, *, lines: bool) -> Iterator[Lines]:
    if lines or voice.quiet or not voice.results.is_terminal:
        yield Lines(voice)
        return
    with Live(console=voice.results, refresh_per_second=8, transient=False) as live:
        yield Screen(voice, listener, live)
