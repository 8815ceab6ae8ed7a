"""``barn-owl export``."""

from __future__ import annotations

from pathlib import Path

import click

import barn_owl as owl
from barn_owl.cli.common import Terminal, force_option, json_option, quiet_option
from barn_owl.errors import OutputError


@click.command("export", short_help="Hand a model over to other programs.")
@click.argument("model_path", metavar="MODEL", type=click.Path(path_type=Path))
@click.option("-o", "--out", type=click.Path(path_type=Path), required=True, help=".c, .onnx, .npz or .json")
@click.option("--takes-features", is_flag=True, help="An ONNX graph of log-mel frames rather than of samples.")
@force_option
@json_option
@quiet_option
def command(model_path: Path, out: Path, takes_features: bool, force: bool, as_json: bool, quiet: bool) -> None:
    """Write MODEL (a run or a model file) as something that needs no Python.

    By the ending of -o: C99 source with a program that tags a WAV file, an ONNX graph with samples in and scores out,
    or its plain numbers.

    \b
    barn-owl export first -o owl.c
    barn-owl export first -o model.onnx
    barn-owl export first -o weights.npz
    """
    voice = Terminal(quiet=quiet, as_json=as_json)
    ending = out.suffix.lower()
    if takes_features and ending != ".onnx":
        raise click.UsageError("--takes-features is for an ONNX graph")
    model = owl.load_model(model_path)
    written = [out]
    if ending == ".c":
        written = owl.write_c(model, out, force=force)
    elif ending == ".onnx":
        owl.write_onnx(model, out, takes_features=takes_features, force=force)
    elif ending in (".npz", ".json"):
        owl.device.write_weights(model, out, force=force)
    else:
        raise OutputError(f"{out}: the ending says what is written: .c, .onnx, .npz or .json")
    voice.say(f"Wrote {', '.join(map(str, written))}.")
    if ending == ".c":
        voice.say(f"Try it: cc -O3 -std=c99 {written[0]} {written[2]} -lm -o tag && ./tag < recording.wav")
        voice.say(f"The recording must be a WAV of {model.front_end.rate_hz} Hz; see {written[1]} for how to use it.")
    voice.result({"files": [str(path) for path in written]})
