"""The command ``barn-owl``: sections, lazy loading of commands, and error handling."""

import copy
import importlib
import io
import math
import os
import signal
import sys
from contextlib import suppress
from pathlib import Path
from typing import Any

import click

from barn_owl.wording import nearest_to

SECTIONS = {
    "Start": {"demo": "Synthesize a harbor, train on it, tag a night and score the events."},
    "Clips": {
        "gather": "Build a clip table from folders and existing tables.",
        "check": "Find defects in clips, labels and groups, and repair the table.",
        "cut": "Cut clips from recordings: takes, windows or background.",
        "record": "Record takes of one sound into a clip table.",
        "split": "Split clips into training, validation and test, or into folds.",
    },
    "Sound and features": {
        "look": "Show facts and figures of sounds, or augmented variants.",
        "features": "Compute, export and rank features.",
    },
    "Training": {
        "plan": "Fit a plan to clips, with reasons, or check a plan.",
        "train": "Train a classifier on clips.",
        "evaluate": "Evaluate a run, or compare runs.",
        "classify": "Classify short clips.",
    },
    "Recordings": {
        "tag": "Detect events in long recordings.",
        "score": "Score events against a truth table.",
        "adjust": "Fit a model to recordings: with known events, or without.",
        "listen": "Tag live sound from a microphone, a pipe or a simulated device.",
        "hours": "Count events by label and hour of the day.",
    },
    "Annotation": {
        "annotate": "Mark the events of recordings on their spectrogram.",
        "review": "Review events by ear and estimate precision and recall.",
        "find": "Find similar sounds in recordings, without training.",
        "harvest": "Extract labeled parts from recordings without times.",
        "propose": "Select the most informative clips to label next.",
    },
    "Small devices": {
        "shrink": "Make a model smaller: prune, quantize, or search for a device.",
        "export": "Export a model: C source, an ONNX graph, or plain numbers.",
    },
}
GUIDES = {
    "gather": "gather-and-clean",
    "check": "gather-and-clean",
    "cut": "gather-and-clean",
    "record": "gather-and-clean",
    "split": "evaluate",
    "look": "look-and-listen",
    "features": "features",
    "plan": "train",
    "train": "train",
    "evaluate": "evaluate",
    "classify": "evaluate",
    "tag": "tag",
    "score": "tag",
    "adjust": "adjust",
    "listen": "live",
    "hours": "archives-and-clusters",
    "annotate": "annotate",
    "review": "review-and-active-learning",
    "find": "review-and-active-learning",
    "harvest": "review-and-active-learning",
    "propose": "review-and-active-learning",
    "shrink": "small-devices",
    "export": "small-devices",
}
"""The how-to guide of each command, a page in ``docs/how-to``."""
METAVARS = {"s": "SECONDS", "hz": "HZ", "db": "DB", "kb": "KB"}
"""Metavar of an option with a unit, by the last part of its name."""
MAX_MESSAGE = 4000
"""Characters of an error message."""
MIN_ADDRESS_SPACE = 500_000 * 1024
"""Bytes of address space that tagging with a single worker needs; with less, linear algebra retries forever."""
ROOMY_ADDRESS_SPACE = 4 << 30
"""Bytes of address space below which linear algebra uses a single thread."""
COMMANDS = {name: text for section in SECTIONS.values() for name, text in section.items()}


class Sections(click.Group):
    """A group that shows its commands by section and imports each only when it is called."""

    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002
        """Names of the commands in the order of the help page."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:  # noqa: ARG002
        """Import the command."""
        if cmd_name not in COMMANDS:
            return None
        command: click.Command = importlib.import_module(f"barn_owl.cli.{cmd_name}").command
        for parameter in command.params:
            if isinstance(parameter.type, click.FloatRange | type(click.FLOAT)):
                parameter.type = _without_nan(parameter.type)
            if isinstance(parameter, click.Option) and not parameter.is_flag:
                parameter.metavar = parameter.metavar or _metavar(parameter)
                if parameter.show_default is None:
                    parameter.show_default = parameter.default != ""
        if cmd_name in GUIDES:
            command.epilog = f"How-to guide: docs/how-to/{GUIDES[cmd_name]}.md"
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:  # noqa: ARG002
        """Write the sections without importing any command."""
        width = max(map(len, COMMANDS))
        for section, commands in SECTIONS.items():
            with formatter.section(section):
                formatter.write_dl([(name.ljust(width), text) for name, text in commands.items()])

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        """Find the command; suggest one for an unknown name."""
        try:
            return super().resolve_command(ctx, args)
        except click.UsageError:
            hint = nearest_to(args[0], COMMANDS, else_say="commands: ")
            raise click.UsageError(f"there is no command {args[0]!r}; {hint}", ctx) from None


def _without_nan(kind: Any) -> Any:
    """Return a type of numbers that refuses NaN, which is within every range."""
    checked, convert = copy.copy(kind), kind.convert

    def converted(value: Any, parameter: click.Parameter | None, context: click.Context | None) -> Any:
        number = convert(value, parameter, context)
        if isinstance(number, float) and math.isnan(number):
            kind.fail(f"{value!r} is not a number.", parameter, context)
        return number

    checked.convert = converted
    return checked


def _metavar(option: click.Option) -> str | None:
    """The unit or kind of an option's value; None where click shows it, as for choices."""
    if option.nargs != 1 or isinstance(option.type, click.Choice):
        return None
    suffix = (option.name or "").rpartition("_")[2]
    if suffix in METAVARS:
        return METAVARS[suffix]
    if isinstance(option.type, click.Path):
        return "PATH"
    if isinstance(option.type, click.FloatRange | type(click.FLOAT)):
        return "MINUTES" if suffix == "minutes" else "NUMBER"
    return "N" if isinstance(option.type, click.IntRange | type(click.INT)) else None


@click.group(cls=Sections, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="barn-owl-audio", prog_name="barn-owl", message="%(prog)s %(version)s")
def barn_owl() -> None:
    """Train compact sound classifiers on labeled clips and detect events in long recordings."""


def main(arguments: list[str] | None = None) -> None:
    """Run the command line and exit: 0 done, 1 failed, 2 bad input, 130 stopped by Ctrl-C."""
    # On SIGTERM and when its terminal is closed, too, a command keeps finished work and stops its helper processes.
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    if hasattr(signal, "SIGHUP") and signal.getsignal(signal.SIGHUP) != signal.SIG_IGN:  # as with nohup
        signal.signal(signal.SIGHUP, signal.default_int_handler)
    sys.exit(run(arguments))


def run(arguments: list[str] | None = None) -> int:
    """Run the command line and return its exit code; a user's mistake ends with a message, not a traceback."""
    # Imported here: the help page needs neither.
    from barn_owl.cli.remedies import with_remedies
    from barn_owl.errors import BarnOwlError, EngineError, OutputError, TrainingError

    _prepare_streams()
    try:
        _check_surroundings(sys.argv[1:] if arguments is None else arguments)
        # An exit code that a command asks for comes back as its result.
        code = barn_owl.main(args=arguments, prog_name="barn-owl", standalone_mode=False)
        sys.stdout.flush()
    except click.ClickException as error:
        error.show()
        return error.exit_code
    except (click.Abort, KeyboardInterrupt):
        _report("stopped")
        return 130
    except BarnOwlError as error:
        _report(with_remedies(str(error)))
        return 1 if isinstance(error, TrainingError | OutputError | EngineError) else 2
    except MemoryError:
        _report("out of memory; use fewer --workers, or a machine with more")
        return 1
    except BrokenPipeError:  # whoever reads the output has seen enough
        _discard_output()
        return 1
    except OSError as error:  # such as a full disk
        _report(f"{error.filename or 'the output'}: {error.strerror or error}")
        _discard_output()
        return 1
    except Exception as error:
        if not _is_process_limit(error):
            raise
        _report("no further thread or process can be started; raise the limit (ulimit -u), or use --workers 1")
        return 1
    return code if isinstance(code, int) else 0


def _is_process_limit(error: BaseException | None) -> bool:
    """Return whether an error is due to a limit of threads and processes, also by its cause."""
    while error is not None:
        if isinstance(error, BlockingIOError) or "can't start new thread" in str(error):
            return True
        error = error.__cause__ or error.__context__
    return False


def _report(text: str) -> None:
    from barn_owl.names import printable, shortened

    with suppress(OSError):  # standard error may be full, too
        click.echo(f"barn-owl: {printable(shortened(text, MAX_MESSAGE))}", err=True)


def _prepare_streams() -> None:
    """Make the standard streams usable: a closed stream reads nothing and discards output."""
    for name, mode in (("stdin", "r"), ("stdout", "w"), ("stderr", "w")):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, Path(os.devnull).open(mode))  # noqa: SIM115 - as long as the process
        elif mode == "w" and isinstance(stream, io.TextIOWrapper):  # file names may have bytes that are no text
            stream.reconfigure(errors="backslashreplace")


def _discard_output() -> None:
    """Let the interpreter end without another error when it flushes standard output."""
    with suppress(OSError, ValueError):
        null = os.open(os.devnull, os.O_WRONLY)
        os.dup2(null, sys.stdout.fileno())
        os.close(null)


def _check_surroundings(arguments: list[str]) -> None:
    """Raise OutputError where no command can work: in a deleted folder, or with too little address space."""
    from barn_owl.errors import OutputError

    try:
        Path.cwd()
    except OSError as error:
        raise OutputError("the working folder does not exist any more; change to another one") from error
    try:
        import resource
    except ImportError:  # not on this system
        return
    limit = resource.getrlimit(resource.RLIMIT_AS)[0]
    if 0 <= limit < MIN_ADDRESS_SPACE and not {"-h", "--help", "--version"} & set(arguments):
        raise OutputError(
            f"the address space is limited to {limit // 1024} kB (ulimit -v); "
            f"at least {MIN_ADDRESS_SPACE // 1024} kB are needed"
        )
    if 0 <= limit < ROOMY_ADDRESS_SPACE:  # linear algebra reserves memory for each of its threads
        os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
