"""``barn-owl tag``."""

from pathlib import Path

import click
import pandas as pd

from barn_owl.classify import DecisionSettings, Model, load_model
from barn_owl.cli.common import (
    Voice,
    force_option,
    is_stdout,
    json_option,
    out_file_option,
    quiet_option,
    refuse_to_overwrite,
    write_clips,
)
from barn_owl.errors import AudioError
from barn_owl.show import save_figure, tagging_figure
from barn_owl.tag import tag_recording

COLUMNS = ["file", "start_s", "end_s", "label", "score"]


@click.command("tag", short_help="Find events.")
@click.argument("run", type=click.Path(path_type=Path))
@click.argument("recordings", nargs=-1, required=True, type=click.Path(path_type=Path))
@out_file_option
@click.option("--on", type=float, help="Score at which an event begins.")
@click.option("--off", type=float, help="Score below which it ends.")
@click.option("--shortest-s", type=float, help="Shortest event in seconds.")
@click.option("--gap-s", type=float, help="Longest gap in seconds that is closed.")
@click.option("--figure", type=click.Path(path_type=Path), help="Draw the first recording, ten minutes at most.")
@force_option
@json_option
@quiet_option
def command(
    run: Path,
    recordings: tuple[Path, ...],
    out: Path,
    on: float | None,
    off: float | None,
    shortest_s: float | None,
    gap_s: float | None,
    figure: Path | None,
    force: bool,
    as_json: bool,
    quiet: bool,
) -> None:
    """Find events in RECORDINGS with the model of RUN (a run's folder or a model file).

    Any rate, length and number of channels. A recording that cannot be read is reported and passed over.

    \b
    barn-owl tag first night.flac -o events.csv --figure night.png
    """
    voice, model = Voice(quiet=quiet or is_stdout(out), as_json=as_json), load_model(run)
    refuse_to_overwrite(out, figure, force=force)
    decision = model.decision.but(on=on, off=off, shortest_s=shortest_s, gap_s=gap_s)
    events, refused, done = tag_aloud(voice, model, recordings, decision)
    stopped = len(done) + len(refused) < len(recordings)
    if not done and not stopped:
        raise AudioError("none of the recordings could be tagged")
    if done:
        write_clips(events, out, force=force)
        _report(voice, events, refused, recordings, out)
    if stopped:
        raise KeyboardInterrupt
    if figure is not None:
        save_figure(tagging_figure(model, done[0], events[events["file"] == str(done[0])]), figure)
        voice.say(f"Wrote a figure of {done[0]} to {figure}.")


def tag_aloud(
    voice: Voice, model: Model, recordings: tuple[Path, ...], decision: DecisionSettings
) -> tuple[pd.DataFrame, dict[str, str], list[Path]]:
    """Tag recordings with visible progress, until done or stopped by Ctrl-C.

    Returns the events, why any recording was passed over, and the recordings that are done.
    """
    tables: list[pd.DataFrame] = []
    refused: dict[str, str] = {}
    done: list[Path] = []
    try:
        for path in recordings:
            try:
                with voice.progress(f"tagging {path.name}, seconds") as progress:
                    tables.append(tag_recording(model, path, decision=decision, progress=progress))
                done.append(path)
            except AudioError as error:
                refused[str(path)] = str(error)
                voice.warn(f"passed over: {error}")
    except KeyboardInterrupt:
        voice.warn(f"stopped; {len(done)} of {len(recordings)} recordings are done")
    found = [table for table in tables if len(table)]
    events = pd.concat(found, ignore_index=True) if found else pd.DataFrame(columns=COLUMNS)
    return events, refused, done


def _report(
    voice: Voice, events: pd.DataFrame, refused: dict[str, str], recordings: tuple[Path, ...], out: Path
) -> None:
    if len(events):
        lengths = (events["end_s"] - events["start_s"]).astype(float)
        by_label = events.assign(length=lengths).groupby("label")
        voice.table(
            by_label.agg(
                events=("label", "size"), seconds=("length", "sum"), mean_score=("score", "mean")
            ).reset_index()
        )
    done = len(recordings) - len(refused)
    voice.say(f"\nWrote {len(events)} events in {done} of {len(recordings)} recordings to {out}.")
    voice.result({"events": len(events), "recordings": done, "refused": refused, "out": str(out)})
