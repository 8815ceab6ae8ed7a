"""The command ``barn-owl``: its sections, lazily loaded commands, and how errors end."""

import importlib
import io
import signal
import sys
from typing import Any

import click

from barn_owl.wording import nearest_to

SECTIONS = {
    "Start here": {"demo": "Make up a harbor, train on it, tag a night, say how well it went."},
    "Clips": {
        "gather": "Make a clip table from folders per label and from tables of yours.",
        "check": "Say what is wrong with clips, and write a repaired table.",
        "cut": "Cut clips from recordings: takes, windows, background.",
        "harvest": "Find the parts that hold the label, where recordings have a label but no times.",
        "propose": "Propose which clips to label next.",
        "record": "Record takes of a sound, one after the other.",
        "split": "Split clips into training, validation and test, or into folds.",
        "augment": "Hear what changes do to clips, or write changed clips.",
    },
    "Sound": {
        "look": "Facts and figures of a file, a folder or a clip table.",
        "features": "Compute, export and rank features.",
    },
    "Model": {
        "plan": "Fit a plan to clips and say why, or check one.",
        "train": "Train a compact classifier on a clip table.",
        "evaluate": "Say how well a run does, and show its mistakes on a page.",
        "compare": "Set runs side by side: better, or chance?",
        "classify": "Name short clips.",
    },
    "Small devices": {
        "search": "Search for the best plan that a device can carry.",
        "shrink": "Make a model smaller: fewer channels, int8, or both.",
        "export": "Hand a model over: C source, an ONNX graph, plain numbers.",
    },
    "Recordings": {
        "tag": "Find events in long recordings.",
        "measure": "Say what this machine does, and what holds it up.",
        "hours": "Say what a store of months holds.",
        "listen": "Listen live, and say what is heard.",
        "review": "Go through events by ear, and say how good all of them are.",
        "find": "Find more like an example, without training.",
        "adjust": "Find decoding settings on recordings with a truth table.",
        "score": "Hold events against a truth table.",
    },
}
GUIDE = {
    "gather": "Gather",
    "check": "Check",
    "cut": "Cut and record takes",
    "record": "Cut and record takes",
    "split": "Split",
    "augment": "Make clips alike, and enlarge",
    "look": "Look and listen first",
    "features": "Look and listen first",
    "plan": "Train and compare",
    "train": "Train and compare",
    "evaluate": "Judge it honestly",
    "compare": "Judge it honestly",
    "classify": "Judge it honestly",
    "search": "Onto a small device",
    "shrink": "Onto a small device",
    "export": "Onto a small device",
    "tag": "Tag long recordings",
    "measure": "Months of recordings, several machines",
    "hours": "Months of recordings, several machines",
    "listen": "Close the loop",
    "review": "Close the loop",
    "find": "Close the loop",
    "harvest": "Close the loop",
    "propose": "Close the loop",
    "adjust": "From clips to recordings that sound different",
    "score": "From clips to recordings that sound different",
}
"""The section of the guide that explains a command."""
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
        if cmd_name in GUIDE:
            command.epilog = f'The guide explains it under "{GUIDE[cmd_name]}" (docs/guide.md).'
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:  # noqa: ARG002
        """Write the sections without importing any command."""
        width = max(map(len, COMMANDS))
        for section, commands in SECTIONS.items():
            with formatter.section(section):
                formatter.write_dl([(name.ljust(width), text) for name, text in commands.items()])

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        """Find the command; an unknown one gets a hint."""
        try:
            return super().resolve_command(ctx, args)
        except click.UsageError:
            hint = nearest_to(args[0], COMMANDS, else_say="commands: ")
            raise click.UsageError(f"there is no command {args[0]!r}; {hint}", ctx) from None


@click.group(cls=Sections, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="barn-owl-audio", prog_name="barn-owl", message="%(prog)s %(version)s")
def barn_owl() -> None:
    """From labeled clips to timestamped events in long recordings."""


def main(arguments: list[str] | None = None) -> None:
    """Run the command line and exit: 0 done, 1 failed, 2 bad input, 130 stopped by Ctrl-C."""
    # Told to end, a command keeps what is finished and takes its helpers with it, as on Ctrl-C.
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    sys.exit(run(arguments))


def run(arguments: list[str] | None = None) -> int:
    """Run the command line and return its exit code; a user's mistake is told without a traceback."""
    # Imported here: the help page needs neither.
    from barn_owl.errors import BarnOwlError, EngineError, OutputError, TrainingError
    from barn_owl.names import printable

    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):  # a name may hold bytes that are no text
            stream.reconfigure(errors="backslashreplace")
    try:
        # An exit code that a command asks for comes back as its result.
        code = barn_owl.main(args=arguments, prog_name="barn-owl", standalone_mode=False)
    except click.ClickException as error:
        error.show()
        return error.exit_code
    except (click.Abort, KeyboardInterrupt):
        click.echo("barn-owl: stopped", err=True)
        return 130
    except BarnOwlError as error:
        click.echo(f"barn-owl: {printable(str(error))}", err=True)
        return 1 if isinstance(error, TrainingError | OutputError | EngineError) else 2
    return code if isinstance(code, int) else 0
