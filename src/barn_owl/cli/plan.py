"""``barn-owl plan``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

import barn_owl as owl
from barn_owl.cli import common

if TYPE_CHECKING:
    import pandas as pd


@click.command("plan")
@click.argument("source")
@click.option("-o", "--out", type=common.PATH, help="Plan to write, with reasons; - for stdout.")
@click.option("--labels", type=click.IntRange(2, 10_000), default=10, help="Number of labels, when checking a plan.")
@click.option("--device", metavar="DEVICE", help="Device to estimate memory and time for: name or TOML file.")
@click.option(
    "--background", multiple=True, metavar="LABEL", help="Label of background sound; never reported. Repeatable."
)
@common.recordings_option
@common.set_option
@common.workers_option
@common.engine_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    source: str,
    out: Path | None,
    labels: int,
    device: str | None,
    background: tuple[str, ...],
    recordings: tuple[Path, ...],
    settings: tuple[str, ...],
    workers: int,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Fit a plan to clips, with reasons, or check a plan.

    \b
    barn-owl plan clips.csv -o plan.toml
    barn-owl plan clips.csv --background water --recordings nights/ \\
        -o plan.toml
    barn-owl plan clips.csv --set cnn.size=tiny -o plan.toml
    barn-owl plan plan.toml --device core-256k
    """
    changes = common.settings_of(settings)
    target = None if device is None else owl.device.read_device(device)
    if Path(source).suffix.lower() == ".toml":
        if out is not None:
            raise click.UsageError(f"{source} is already a plan; -o writes a plan fitted to a clip table")
        if background or recordings:
            raise click.UsageError(f"--background and --recordings fit a plan to a clip table; {source} is a plan")
        plan = owl.read_plan(source, urls=common.table_urls()).but(**changes)
        voice.say(f"{source} is valid: {_in_short(plan)}")
    else:
        common.check_outputs(endings={out: ()}, force=force)
        clips = common.read_clips(source)
        with voice.progress("analyzing clips") as progress:
            suggestion = owl.suggest_plan(
                clips, recordings=recordings, background=background, workers=workers, progress=progress
            )
        suggestion = suggestion.but(**changes)
        plan, labels = suggestion.plan, int(clips["label"][clips["label"] != ""].nunique())
        show_reasons(voice, suggestion)
        if common.is_stdout(out):
            click.echo(suggestion.text(), nl=False)
        elif out is not None:
            suggestion.write(out, force=True)
    layers = show_network(voice, plan, labels)
    cost = None if target is None else show_device(voice, plan, labels, target)
    if out is not None:
        voice.say(f"\nWrote {out}. Next: barn-owl train {source} --plan {out} --run first")
    elif Path(source).suffix.lower() != ".toml":
        voice.say("\nTo save it, add -o plan.toml. barn-owl train fits the same plan if none is given.")
    on_device = {} if cost is None else {"device": cost}
    voice.result(plan=plan.model_dump(), layers=[] if layers is None else layers, **on_device)


def show_reasons(voice: common.Terminal, suggestion: owl.runs.Suggestion) -> None:
    """Print each choice with its reason."""
    values = suggestion.plan.model_dump()
    for key, reason in suggestion.reasons.items():
        section, _, name = key.rpartition(".")
        value = values[section][name] if section else values[name]
        if reason:
            voice.say(f"  {key} = {value if value is not None else 'half the rate'}: {reason}")
    if suggestion.outlook:
        voice.say(f"  {suggestion.outlook}")
        voice.say("  More groups help most; see docs/explanation/how-many-clips.md")


def _in_short(plan: owl.Plan) -> str:
    front_end = plan.front_end
    return (
        f"{plan.classifier} on frames of {front_end.width} features every {front_end.hop_ms:g} ms, "
        f"at {front_end.rate_hz} Hz"
    )


def show_network(voice: common.Terminal, plan: owl.Plan, labels: int) -> pd.DataFrame | None:
    """Show the output and cost of each layer, if the classifier is a network over frames; return them for JSON."""
    import numpy as np

    from barn_owl.learn.summary import summary

    if not plan.kind.exports:
        return None
    classifier = plan.network_kind.network(
        plan.front_end.width, labels, plan.own, plan.levels, np.random.default_rng(0)
    )
    table = summary(classifier.networks[0], plan.front_end.hop_ms, plan.front_end.frame_ms)
    shown = table.assign(
        activation_kb=table["activation_kb"].round(1),
        receptive_field_ms=table["receptive_field_ms"].map(lambda ms: "all" if np.isnan(ms) else f"{ms:.0f}"),
    )
    voice.say()
    headings = {
        "multiply_adds": "multiply-adds",
        "activation_kb": "output in kB",
        "receptive_field_ms": "receptive field, ms",
    }
    networks = len(classifier.networks)
    first, several = (
        (f", first of {networks} networks", f"{networks} networks together: ") if networks > 1 else ("", "")
    )
    voice.table(shown.rename(columns=headings), title=f"{plan.classifier}{first}, one step, {labels} labels")
    cost = classifier.cost(plan.front_end.hop_s)
    voice.say(f"{several}{cost.weights:,} weights, {cost.multiply_adds:,} multiply-adds per second")
    return table


def show_device(voice: common.Terminal, plan: owl.Plan, labels: int, device: owl.device.Device) -> dict[str, object]:
    """Show memory and time on a device, and which limits they exceed; return them for JSON."""
    size = owl.device.footprint(owl.device.plain_model(plan, labels), device)
    table = size.table()
    shown = table.assign(flash_kb=table["flash_kb"].round(1), ram_kb=table["ram_kb"].round(1)).reset_index()
    voice.say()
    voice.table(
        shown.rename(
            columns={"flash_kb": "flash kB", "ram_kb": "RAM kB", "step_ms": "ms per step", "load": "CPU load"}
        ),
        title=f"on {device.name}: one step every {1000 * size.step_s:g} ms",
    )
    voice.say(
        f"Layer by layer over a whole window, in floats: {size.ram_window / 1024:.0f} kB of RAM. "
        f"Latency from sound to score: {1000 * size.latency_s:.0f} ms plus computation."
    )
    over: dict[str, object] = {}
    for numbers, int8 in (("float32", False), ("int8", True)):
        exceeded = size.exceeded(int8=int8)
        words = ", ".join(f"{what} {times:.1f} times" for what, times in exceeded.items())
        voice.say(f"{numbers}: exceeds {words}" if words else f"{numbers}: fits")
        over[numbers] = exceeded
    return {"name": device.name, "numbers": table.to_dict("index"), "exceeds": over}
