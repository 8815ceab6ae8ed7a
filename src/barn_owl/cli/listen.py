"""``barn-owl listen``."""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

import click
from rich.console import Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.errors import AudioError, OutputError, PlanError
from barn_owl.files import checked_target

if TYPE_CHECKING:
    from barn_owl.audio import Source
    from barn_owl.live import Listener, LiveEvent, Notifier

SHOWN, BAR = 8, 30
"""Last events in the live view, and characters of a bar at full score."""
QUIETEST_DB = -80.0
"""Level at which the bar of the level is empty."""
SIMULATED = "simulated:"
OUT_ENDINGS = (".csv", ".jsonl")
LINE = ["begins", "start_s", "end_s", "label", "score"]


@click.command("listen")
@click.argument("run", type=common.PATH)
@click.option("--microphone", metavar="NAME", help="Device; simulated:PATH for a file or folder; - for raw samples.")
@click.option("--rate-hz", type=click.IntRange(min=1), help="Sample rate of the microphone or pipe.")
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
    barn-owl listen first --run-command 'notify-send {label} {score}' --notify-interval-s 60
    arecord -t raw -f S16_LE -r 16000 | barn-owl listen first --microphone - --rate-hz 16000 --json
    """
    model = owl.load_model(run)
    lead_s = None if excerpts is None else around_s
    notices = [
        made(what, interval_s=notify_interval_s)
        for made, what in ((owl.live.command_notifier, run_command), (owl.live.http_notifier, post))
        if what is not None
    ]
    source = _source(microphone, rate_hz, sample_type, channels, speed)
    if excerpts is not None:
        notices.append(owl.live.Notifier(partial(_write_excerpt, excerpts, source.rate_hz)))
    listener = owl.Listener(model, source, decoding=model.decoding.but(**changes), lead_s=lead_s)
    _say_first(voice, listener, speed)
    total = {"events": 0}
    with _added_to(out, force=force) as table, common.stopping() as stop, _view(voice, listener, lines=lines) as view:
        for found in listener.steps(stop):
            for event in found:
                total["events"] += 1
                view.add(event)
                if voice.as_json:
                    click.echo(json.dumps(event.record(), ensure_ascii=False))
                _add(table, event)
                for one in notices:
                    one.give(event)
            view.warn([*listener.warnings(), *(text for one in notices for text in one.warnings())])
            view.refresh()
            if stop_after_s is not None and listener.seconds >= stop_after_s:
                stop.set()
    _finish(voice, listener, notices, total["events"], out)


def _say_first(voice: common.Terminal, listener: Listener, speed: float) -> None:
    latency_s = listener.latency_s / (speed if math.isfinite(speed) and speed > 1 else 1)
    voice.say(
        f"Listening for {', '.join(listener.model.event_labels)}. Events are reported within {latency_s:.1f} s of "
        "their end. Ctrl-C stops."
    )


def _finish(
    voice: common.Terminal, listener: Listener, notices: list[Notifier], events: int, out: Path | None
) -> None:
    for one in notices:
        one.close()
        for text in one.warnings():
            voice.warn(text)
        if one.left_out or one.failed:
            voice.warn(f"notifications: {one.done} sent, {one.failed} failed, {one.left_out} dropped")
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
        # Without a buffer: a thread that waits in one cannot be left behind at the end.
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
def _added_to(path: Path | None, *, force: bool) -> Iterator[TextIO | None]:
    """Open a table that events are added to as they come."""
    if path is None:
        yield None
        return
    path = checked_target(path, force=force, endings=OUT_ENDINGS, make_folders=True)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with path.open("w", encoding="utf-8", errors="backslashreplace", newline="") as file:
            if path.suffix.lower() == ".csv":
                file.write(",".join(["file", *LINE[1:], LINE[0]]) + "\r\n")
            yield file
    except OSError as error:
        raise OutputError(f"{path} cannot be written: {error.strerror or error}") from error


def _add(table: TextIO | None, event: LiveEvent) -> None:
    """Write an event; flushed, so that nothing is lost when the machine goes down."""
    if table is None:
        return
    import csv

    record = event.record()
    if table.name.lower().endswith(".csv"):
        csv.writer(table).writerow(["live", *(record[name] for name in LINE[1:]), record["begins"]])
    else:
        table.write(json.dumps({"file": "live", **record}, ensure_ascii=False) + "\n")
    table.flush()


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
        owl.write_audio(path, event.excerpt, rate_hz)
    except (AudioError, OutputError) as error:
        raise OSError(str(error)) from error


class Lines:
    """A line an event."""

    def __init__(self, voice: common.Terminal) -> None:
        self._voice = voice

    def add(self, event: LiveEvent) -> None:
        """Print what was detected."""
        self._voice.say(_line(event))
        sys.stdout.flush()

    def warn(self, texts: list[str]) -> None:
        """Say what happened to the sound, or to what was to be done."""
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
        """Show the last one below."""
        self._warned = texts[-1] if texts else self._warned

    def refresh(self) -> None:
        """Draw what there is now."""
        self._live.update(self.drawn())

    def drawn(self) -> Group:
        """What is on the screen."""
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
