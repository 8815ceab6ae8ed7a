"""``barn-owl record``."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click
import numpy as np

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.errors import AudioError, PlanError
from barn_owl.files import is_file, is_folder

if TYPE_CHECKING:
    from barn_owl.audio.microphone import Microphone

FULL, FAINT_DB, SILENT_DB = 0.99, -50.0, -70.0
MAX_SILENT_TAKES = 3
"""Consecutive silent takes after which --keep-all stops."""
KEEPING = {"k": "keep", "r": "repeat", "q": "quit"}


@click.command("record")
@click.argument("folder", type=common.PATH)
@click.option("--label", required=True, help="Label of the takes.")
@click.option("--takes", type=click.IntRange(min=1), default=10, help="Number of takes to keep.")
@click.option("--length-s", type=float, default=1.5, help="Length of a take.")
@click.option("--group", default="", help="What the takes share: device, place or person.")
@click.option("--table", type=common.PATH, help="Clip table to append to.  [default: FOLDER/clips.csv]")
@click.option("--microphone", metavar="NAME", help="Device; simulated:FILE; or simulated:SOUND of the demo.")
@click.option("--speed", type=float, default=1.0, help="Simulated microphone: times real time.")
@click.option("--count-down", type=click.IntRange(0, 10), default=3, help="Seconds before a take.")
@click.option("--keep-all", is_flag=True, help="Keep every take that is not silent, without asking.")
@common.seed_option
@common.terminal_options
def command(
    folder: Path,
    label: str,
    takes: int,
    length_s: float,
    group: str,
    table: Path | None,
    microphone: str | None,
    speed: float,
    count_down: int,
    keep_all: bool,
    seed: int | None,
    voice: common.Terminal,
) -> None:
    """Record takes of one sound into a clip table.

    Asks after each take whether to keep it, repeat it or quit. Writes each kept take to FOLDER at once.

    \b
    barn-owl record takes --label hull-knock --takes 20 --group workshop
    barn-owl record takes --label hull-knock \\
        --microphone simulated:hull-knock --keep-all
    """

    from barn_owl.clips import label_folder

    if length_s <= 0:
        raise PlanError(f"length_s must be greater than 0, got {length_s:g}")
    if label_folder(folder, label) != folder / label:
        raise PlanError(
            f"a label names a folder, so it must not be blank, contain / or \\, or end in a dot; got {label!r}"
        )
    listening, table = _open(microphone, speed, seed or 0), table or folder / "clips.csv"
    kept = silent = 0
    while kept < takes:
        voice.say(f"Take {kept + 1} of {takes} of {label!r}, {length_s:g} s.")
        if not keep_all and _ask("Enter to record, q to quit", {"": "record", "q": "quit"}) == "quit":
            break
        for left in range(count_down, 0, -1):
            voice.say(f"  {left} ...")
            time.sleep(1 / max(speed, 1.0))
        voice.say("  now")
        samples = listening.record(length_s)
        usable = _tell(voice, samples)
        if keep_all:
            answer = "keep" if usable else "repeat"
            silent = 0 if usable else silent + 1
            _bear(voice, silent, kept)
        else:
            answer = _ask("k to keep, r to repeat, q to quit", KEEPING)
        if answer == "quit":
            break
        if answer == "keep":
            path = _free_name(folder / label, label)
            path.parent.mkdir(parents=True, exist_ok=True)
            owl.write_audio(path, samples, listening.rate_hz, force=True)
            _add(table, path, label, group)
            kept += 1
            voice.say(f"  saved {path}")
    voice.say(f"\nKept {kept} takes; the table is {table}." if kept else "\nNo take kept.")
    if kept:
        voice.say(f"Next: barn-owl look {table} -o look")
    voice.result(kept=kept, table=table)


def _open(name: str | None, speed: float, seed: int) -> Microphone:
    from barn_owl.audio.microphone import SimulatedMicrophone, SoundCard

    if name is None or not name.startswith("simulated:"):
        return SoundCard(name)
    source = name.removeprefix("simulated:")
    from barn_owl.demo.sounds import EVENTS, RATE_HZ

    if source in EVENTS:
        return SimulatedMicrophone(_demo_takes(source, seed), RATE_HZ, speed=speed)
    if not is_file(source):
        raise AudioError(f"{source!r} is neither a sound file nor a sound of the demo: {', '.join(EVENTS)}")
    return SimulatedMicrophone(owl.audio.stream_audio(source), owl.audio_info(source).rate_hz, speed=speed)


def _demo_takes(sound: str, seed: int) -> Iterator[np.ndarray]:
    """The sound repeated over faint noise, with pauses."""
    from barn_owl.demo.sounds import EVENTS, RATE_HZ

    rng = np.random.default_rng(seed)
    while True:
        event = np.pad(EVENTS[sound](rng), round(rng.uniform(0.1, 0.4) * RATE_HZ))
        yield 0.3 * event / np.abs(event).max() + 0.003 * rng.standard_normal(len(event))


def _ask(question: str, answers: dict[str, str]) -> str:
    while True:
        answer = click.prompt(question, default="", show_default=False, err=True).strip().lower()
        if answer in answers:
            return answers[answer]
        click.echo(f"Please answer with one of: {', '.join(key or 'Enter' for key in answers)}", err=True)


def _bear(voice: common.Terminal, silent: int, kept: int) -> None:
    """Report a silent take that is dropped; raise AudioError after too many in a row."""
    if silent == MAX_SILENT_TAKES:
        raise AudioError(
            f"{silent} silent takes in a row: check the choice and the gain of the microphone. "
            f"Takes kept before: {kept}"
        )
    if silent:
        voice.say("  silent: dropped, repeating")


def _tell(voice: common.Terminal, samples: np.ndarray) -> bool:
    """Report the level of a take; return whether it is audible."""
    from barn_owl.audio.silence import decibel

    peak = float(np.abs(samples).max(initial=0))
    voice.say(f"  peak {float(decibel(peak)):.0f} dB")
    if peak >= FULL:
        voice.warn("  clipped: lower the gain, or step back")
    elif float(decibel(peak)) < FAINT_DB:
        voice.warn("  very faint: is the microphone on?")
    return float(decibel(peak)) > SILENT_DB


def _free_name(folder: Path, label: str) -> Path:
    there = [path.stem.removeprefix(f"{label}_") for path in folder.iterdir()] if is_folder(folder) else []
    numbers = [int(number) for number in there if number.isdigit()]
    return folder / f"{label}_{max(numbers, default=0) + 1:04d}.wav"


def _add(table: Path, path: Path, label: str, group: str) -> None:
    import pandas as pd

    row = pd.DataFrame([{"file": str(path), "label": label, **({"group": group} if group else {})}])
    before = [owl.read_clip_table(table)] if is_file(table) else []
    owl.write_clip_table(pd.concat([*before, row], ignore_index=True), table, force=True)
