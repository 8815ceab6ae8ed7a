"""Shared by commands: options, progress, tables, final messages."""

from __future__ import annotations

import json
import logging
import signal
import sys
import threading
import time
import tomllib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from rich.console import Console
from rich.markup import escape
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeElapsedColumn, TimeRemainingColumn
from rich.table import Table
from rich.text import Text

import barn_owl as owl
from barn_owl.cli.remedies import with_remedies
from barn_owl.errors import OutputError, TableError
from barn_owl.files import checked_target, is_file, is_folder
from barn_owl.names import as_text, is_url, printable
from barn_owl.parallel.engine import LOCAL

if TYPE_CHECKING:
    import pandas as pd

PLAIN_LINE_SHARE = 0.1
TABLE_ENDINGS = (".csv", ".tsv", ".parquet")
WRITTEN_ENDINGS = (".csv", ".txt", ".parquet", "")
FIGURES = (".png", ".svg", ".pdf")
PAGES = (".html", ".htm")
PLAIN_WIDTH = 160
"""Width of tables without a terminal."""

PATH = click.Path(path_type=Path)
TABLE_URLS = "barn_owl.table_urls"
"""Key of the option ``--table-urls`` in the context of a command."""


class _Recording(click.Path):
    """A path, or a URL as it is: a path would join its slashes."""

    name = "path"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Return a URL as text, another name as a path."""
        return value if isinstance(value, str) and is_url(value) else super().convert(value, param, ctx)


RECORDING = _Recording(path_type=Path)

quiet_option = click.option("--quiet", is_flag=True, help="Print only errors.")
force_option = click.option("--force", is_flag=True, help="Overwrite existing files.")
recordings_option = click.option(
    "--recordings",
    multiple=True,
    type=RECORDING,
    help="Unlabeled recording, or folder of them, that the model is for; repeatable.",
)
seed_option = click.option("--seed", type=click.IntRange(min=0), help="Random seed.")
workers_option = click.option("--workers", type=click.IntRange(1, 64), default=2, help="Number of parallel workers.")
collar_option = click.option(
    "--collar-s", type=click.FloatRange(min=0, min_open=True), default=0.2, help="Tolerance for onsets, in seconds."
)
plan_option = click.option("--plan", "plan_path", type=PATH, help="Plan: TOML file with all settings.")
set_option = click.option(
    "--set", "settings", multiple=True, metavar="KEY=VALUE",
    help="Setting of the plan to change, such as training.epochs=12; repeatable.",
)  # fmt: skip
measure_option = click.option(
    "--measure", is_flag=True, help="Only measure throughput with one worker to --workers, and find the bottleneck."
)
out_file_option = click.option("-o", "--out", type=PATH, required=True, help="Table to write; - for stdout.")


DECODING_OPTIONS = [
    click.option("--threshold", type=float, help="Score that an event must reach at least once."),
    click.option("--release-threshold", type=float, help="Score below which an event ends."),
    click.option(
        "--min-known-probability",
        type=float,
        help="Probability that it has any of the reported labels; rejects unknown sounds.",
    ),
    click.option("--smoothing-s", type=float, help="Length of the moving average over the scores."),
    click.option("--min-duration-s", type=float, help="Drop shorter events."),
    click.option("--max-duration-s", type=float, help="Drop longer events."),
    click.option("--max-gap-s", type=float, help="Merge events of one label across gaps up to this long."),
    click.option("--refractory-s", type=float, help="Time after an event during which its label cannot begin again."),
    click.option("--retrigger-threshold", type=float, help="Onset score that begins a new event; 1 turns this off."),
    click.option("--max-overlap", type=float, help="Overlap above which only the higher score is kept; 1 keeps all."),
]


def decoding_options(command: Callable[..., None]) -> Callable[..., None]:
    """Add the options of the event decoder; they arrive as keyword arguments."""
    for option in reversed(DECODING_OPTIONS):
        command = option(command)
    return command


def engine_option(command: Callable[..., None]) -> Callable[..., None]:
    """Add ``--engine``: it chooses where the command processes many files."""

    @click.option(
        "--engine",
        "where",
        default=LOCAL,
        metavar="local|ADDRESS|FILE",
        help="Where to compute: local, or a dask scheduler (tcp://host:8786, or its scheduler file).",
    )
    @wraps(command)
    def within(*arguments: Any, where: str, **options: Any) -> None:
        with owl.engine(where, warn=Terminal(quiet=bool(options.get("quiet"))).warn):
            command(*arguments, **options)

    return within


class _TerminalHandler(logging.Handler):
    """Prints warnings of the library as single lines."""

    def __init__(self, console: Console) -> None:
        super().__init__()
        self._console = console

    def emit(self, record: logging.LogRecord) -> None:
        """Print a record."""
        text = printable(with_remedies(record.getMessage()))
        self._console.print(text, markup=False, soft_wrap=True, style="yellow")


class Terminal:
    """Output of a command: messages and progress on standard error, results on standard output."""

    def __init__(self, *, quiet: bool = False, as_json: bool = False) -> None:
        self.quiet = quiet or as_json
        self.as_json = as_json
        self.errors = Console(stderr=True, highlight=False)
        # Results that a program reads are never wrapped or colored.
        self.results = Console(highlight=False, width=None if sys.stdout.isatty() else PLAIN_WIDTH)
        self._hear_warnings()

    def _hear_warnings(self) -> None:
        logger = logging.getLogger("barn_owl")
        logger.handlers = [_TerminalHandler(self.errors)]
        logger.setLevel(logging.ERROR if self.quiet else logging.WARNING)
        logger.propagate = False
        # Its retries and odd replies are reported by the notifier.
        logging.getLogger("urllib3").setLevel(logging.ERROR)

    def say(self, text: str = "") -> None:
        """Print a line."""
        if not self.quiet:
            self.results.print(printable(with_remedies(text)), markup=False, soft_wrap=True)

    def begins(self, name: str, number: int, total: int) -> None:
        """Report which of several trainings starts."""
        self.say(f"{number} of {total}: {name}")

    def warn(self, text: str) -> None:
        """Print a warning on standard error."""
        if not self.quiet:
            self.errors.print(printable(with_remedies(text)), markup=False, soft_wrap=True, style="yellow")

    def skipped(self, reasons: Iterable[str]) -> None:
        """Warn about skipped items, with reasons."""
        for reason in reasons:
            self.warn(f"skipped: {reason}")

    def table(self, table: pd.DataFrame, *, title: str = "") -> None:
        """Print a small table; numbers below 10 with two digits."""
        if self.quiet:
            return
        shown = Table(title=title or None, title_justify="left", title_style="bold", header_style="bold", box=None)
        for name in table.columns:
            shown.add_column(str(name), justify="left" if table[name].dtype.kind not in "iuf" else "right")
        for row in table.itertuples(index=False):
            shown.add_row(*[Text(printable(_cell(value))) for value in row])
        self.results.print(shown)

    def result(self, **content: Any) -> None:
        """Print the result as JSON with ``--json``; see `_plain`."""
        if self.as_json:
            click.echo(json.dumps(_plain(content), ensure_ascii=False, indent=2, allow_nan=False))

    @contextmanager
    def progress(self, doing: str, *, of_sound: bool = False) -> Iterator[Callable[[float, float], None]]:
        """Yield a progress callback: a progress bar on a terminal, else plain lines.

        of_sound : the numbers are seconds of sound, so the speed relative to real time is shown, too.
        """
        if self.quiet:
            yield lambda _done, _total: None
        elif self.errors.is_terminal:
            columns = [TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeElapsedColumn()]
            speed = [TextColumn("{task.fields[speed]}")] if of_sound else []
            begin = time.monotonic()
            with Progress(*columns, TextColumn("left"), TimeRemainingColumn(), *speed, console=self.errors) as bars:
                bar = bars.add_task(escape(printable(doing)), total=None, speed="")

                def report(done: float, total: float) -> None:
                    times = f"{done / max(time.monotonic() - begin, 1e-3):.0f} x real time"
                    bars.update(bar, completed=round(done), total=round(total), speed=times)
                    if done >= total:
                        bars.stop()  # or it would draw over the next message

                yield report
        else:
            yield self._plain_progress(doing, of_sound=of_sound)

    def _plain_progress(self, doing: str, *, of_sound: bool) -> Callable[[float, float], None]:
        reported, begin = [0.0], time.monotonic()

        def report(done: float, total: float) -> None:
            if done / total >= reported[0] + PLAIN_LINE_SHARE or (done >= total and reported[0] < 1):
                reported[0] = done / total
                taken_s = time.monotonic() - begin
                left_s = taken_s * (total - done) / done if done else 0.0
                left = f", about {_time(left_s)} left" if left_s >= 1 else ""
                speed = f", {done / max(taken_s, 1e-3):.0f} times real time" if of_sound else ""
                click.echo(f"{printable(doing)}: {done:.0f} of {total:.0f}, {_time(taken_s)}{speed}{left}", err=True)

        return report


def _plain(value: Any) -> Any:
    """Return a value as JSON can represent it: paths as text, tables as lists of rows, numbers that are not finite as
    null."""
    import pandas as pd

    from barn_owl.evaluate.scores import plain_number

    if isinstance(value, pd.DataFrame):
        return _plain(value.to_dict("records"))
    if isinstance(value, Mapping):
        return {str(name): _plain(one) for name, one in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(one) for one in value]
    return str(value) if isinstance(value, Path) else plain_number(value)


def _time(seconds: float) -> str:
    if seconds < 100:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 6000 else f"{seconds / 3600:.1f} h"


def _cell(value: Any) -> str:
    import pandas as pd

    if isinstance(value, float):
        if pd.isna(value):
            return "–"
        return f"{value:.{2 if abs(value) < 10 else 1 if abs(value) < 100 else 0}f}"
    return str(value)


def terminal_options(command: Callable[..., None]) -> Callable[..., None]:
    """Add ``--json`` and ``--quiet``; the command gets a `Terminal`, silent where standard output takes a table."""

    @click.option("--json", "as_json", is_flag=True, help="Print the result as JSON on standard output.")
    @quiet_option
    @wraps(command)
    def within(*arguments: Any, as_json: bool, quiet: bool, **options: Any) -> None:
        quiet = quiet or any(isinstance(value, Path) and is_stdout(value) for value in options.values())
        command(*arguments, voice=Terminal(quiet=quiet, as_json=as_json), **options)

    return within


def table_urls_option(command: Callable[..., None]) -> Callable[..., None]:
    """Add ``--table-urls``; the readers of this module look it up, so commands do not receive it."""

    def allow(context: click.Context, _parameter: click.Parameter, value: bool) -> None:
        context.meta[TABLE_URLS] = value

    return click.option(
        "--table-urls", is_flag=True, expose_value=False, callback=allow,
        help="Open sound that a table, plan or run names by URL.",
    )(command)  # fmt: skip


def table_urls() -> bool:
    """Return whether the command may open URLs of tables."""
    context = click.get_current_context(silent=True)
    return bool(context and context.meta.get(TABLE_URLS))


def is_stdout(path: Path | None) -> bool:
    """Return whether the path of an option is standard output."""
    return str(path) == "-"


def check_outputs(
    *,
    force: bool,
    tables: Sequence[Path | None] = (),
    figures: Sequence[Path | None] = (),
    pages: Sequence[Path | None] = (),
    endings: dict[Path | None, Sequence[str]] | None = None,
) -> None:
    """Raise OutputError before any work is done if an output cannot be written.

    tables : clip tables; one may go to standard output. endings : further files, with the endings that each may
    have; an empty list allows any ending and standard output.
    """
    requested: list[tuple[Path, Sequence[str]]] = []
    kinds: list[tuple[Sequence[Path | None], Sequence[str]]] = [
        (tables, WRITTEN_ENDINGS), (figures, FIGURES), (pages, PAGES)
    ]  # fmt: skip
    for some, own in kinds:
        requested += [(target, own) for target in some if target is not None]
    requested += [(target, own) for target, own in (endings or {}).items() if target is not None]
    to_stdout = [own for target, own in requested if is_stdout(target)]
    if any(own in (FIGURES, PAGES) for own in to_stdout):
        raise OutputError("figures, pages, models and folders cannot go to standard output (-); name a file")
    if len(to_stdout) > 1:
        raise OutputError("only one table can go to standard output (-); name a file for the other")
    for target, own in requested:
        if not is_stdout(target):
            checked_target(target, force=force, endings=own)


def settings_of(pairs: Sequence[str]) -> dict[str, Any]:
    """Return the changes of a plan that ``--set`` names: ``["training.epochs=12"]`` is ``{"training": {"epochs":
    12}}``."""
    changes: dict[str, Any] = {}
    for pair in pairs:
        key, equals, text = pair.partition("=")
        if not equals or not key.strip():
            raise click.UsageError(f"--set takes KEY=VALUE, such as training.epochs=12; got {pair!r}")
        try:
            value = tomllib.loads(f"value = {text}")["value"]
        except tomllib.TOMLDecodeError:
            value = text  # a word without quotes
        section, _, name = key.strip().rpartition(".")
        if section:
            changes.setdefault(section, {})[name] = value
        else:
            changes[name] = value
    return changes


def is_sound_file(what: str) -> bool:
    """Return whether an argument names a sound file, rather than a table, a folder or standard input."""
    return what != "-" and is_file(what) and Path(what).suffix.lower() not in TABLE_ENDINGS


def read_clips(path: str) -> pd.DataFrame:
    """Read a clip table from a path, or from standard input for ``-``."""
    return owl.read_clip_table(sys.stdin if path == "-" else path, urls=table_urls())


def say_complete(voice: Terminal, truth: pd.DataFrame, path: Path) -> None:
    """Say how much of the recordings a truth table states as complete, if it limits them."""
    from barn_owl.clips.completeness import complete_minutes

    minutes = complete_minutes(truth)
    if minutes is not None:
        voice.say(f"Using the {minutes:.1f} min that {path} states as complete.")


def say_complete_recordings(voice: Terminal, recordings: Iterable[Path]) -> None:
    """Say it for each table among recordings."""
    for path in recordings:
        if path.suffix.lower() in (".csv", ".tsv", ".parquet") and is_file(path):
            say_complete(voice, owl.read_clip_table(path, may_be_empty=True, urls=table_urls()), path)


def warn_if_learned_from(voice: Terminal, run: Path, files: Sequence[str]) -> None:
    """Warn about recordings that a run was trained on: their scores are too good."""
    known = owl.model.learned_from(run, files)
    if known:
        more = f" and {len(known) - 1} more" if len(known) > 1 else ""
        voice.warn(f"{run} was trained on {known[0]}{more}: scores there are too good; score it on other recordings")


def write_clips(clips: pd.DataFrame, path: Path, *, force: bool) -> None:
    """Write a clip table to a path, or to standard output for ``-``."""
    owl.write_clip_table(clips, sys.stdout if is_stdout(path) else path, force=force)


def clips_of(what: Sequence[str]) -> pd.DataFrame:
    """Rows for sound files, folders of them and clip tables, labeled or not."""
    import pandas as pd

    return pd.concat([_rows(one) for one in what], ignore_index=True)


def _rows(what: str) -> pd.DataFrame:
    """Rows for a sound file, a folder of them, or a clip table."""

    import pandas as pd

    from barn_owl.audio import AUDIO_ENDINGS, sound_files_below

    if is_sound_file(what):
        return pd.DataFrame({"file": [as_text(what)], "label": [""]})
    if what != "-" and is_folder(what):
        files = sound_files_below(what)
        if not files:
            raise TableError(f"{what} holds no sound files ({', '.join(sorted(AUDIO_ENDINGS))})")
        return pd.DataFrame({"file": [str(path) for path in files], "label": ""})
    return read_clips(what)


def write_table(events: pd.DataFrame, out: Path, *, force: bool) -> None:
    """Write events to standard output as CSV, or to a file in the format of its ending."""
    if is_stdout(out):
        write_clips(events, out, force=force)
    else:
        owl.write_events(events, out, force=force)


@contextmanager
def stopping() -> Iterator[threading.Event]:
    """Set the event on Ctrl-C and SIGTERM, so that work is finished; a second Ctrl-C ends at once."""
    stop = threading.Event()

    def end(number: int, _frame: Any) -> None:
        stop.set()
        signal.signal(number, before[signal.Signals(number)])

    numbers = [getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP") if hasattr(signal, name)]
    before = {number: signal.getsignal(number) for number in numbers}
    before = {number: handler for number, handler in before.items() if handler != signal.SIG_IGN}
    for number in before:
        signal.signal(number, end)
    try:
        yield stop
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
