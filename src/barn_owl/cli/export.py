"""``barn-owl export``."""

from __future__ import annotations

from pathlib import Path

import click

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.errors import OutputError


@click.command("export")
@click.argument("model_path", metavar="MODEL", type=common.PATH)
@click.option("-o", "--out", type=common.PATH, required=True, help="File to write: .c, .onnx, .npz or .json.")
@click.option("--feature-input", "takes_features", is_flag=True, help="ONNX: take log-mel frames instead of samples.")
@common.force_option
@common.terminal_options
def command(model_path: Path, out: Path, takes_features: bool, force: bool, voice: common.Terminal) -> None:
    """Export a model: C source, an ONNX graph, or plain numbers.

    The ending of -o selects the format: C99 source with a program that tags a WAV file, an ONNX graph from samples to
    scores, or the weights as plain numbers.

    \b
    barn-owl export first -o owl.c
    barn-owl export first -o model.onnx
    barn-owl export first -o weights.npz
    """
    ending = out.suffix.lower()
    if takes_features and ending != ".onnx":
        raise click.UsageError("--feature-input is for an ONNX graph")
    model = owl.load_model(model_path)
    written = [out]
    if ending == ".c":
        written = owl.write_c(model, out, force=force)
    elif ending == ".onnx":
        owl.write_onnx(model, out, takes_features=takes_features, force=force)
    elif ending in (".npz", ".json"):
        owl.device.write_weights(model, out, force=force)
    else:
        raise OutputError(f"{out}: the ending must be .c, .onnx, .npz or .json")
    voice.say(f"Wrote {', '.join(map(str, written))}.")
    if ending == ".c":
        voice.say(f"Try it: cc -O3 -std=c99 {written[0]} {written[2]} -lm -o tag && ./tag < recording.wav")
        voice.say(
            f"The recording must be a WAV of {model.front_end.rate_hz} Hz; {written[1]} documents the interface."
        )
    voice.result(files=written)
