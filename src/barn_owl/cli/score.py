"""``barn-owl score``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.errors import AudioError
from barn_owl.parallel import each

if TYPE_CHECKING:
    import pandas as pd


SHOWN_DISAGREEMENTS = 20


@click.command("score")
@click.argument("events", type=common.PATH)
@click.argument("truth", type=common.PATH)
@common.collar_option
@common.engine_option
@click.option(
    "--offsets",
    "offset_share",
    type=click.FloatRange(min=0),
    help="Also require offsets, within this share of the duration.",
)
@click.option(
    "--segments-s",
    "segment_s",
    type=click.FloatRange(min=0, min_open=True),
    help="Also score segments of this length.",
)
@click.option("-o", "--out", type=common.PATH, help="Table of misses and false alarms to write; - for stdout.")
@click.option("--figure", type=common.PATH, help="Figure of counts, errors, misses and false alarms.")
@click.option(
    "--agreement", is_flag=True,
    help="Both tables are annotations by people: how far they agree, label by label; -o lists the disagreements.",
)  # fmt: skip
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    events: Path,
    truth: Path,
    collar_s: float,
    offset_share: float | None,
    segment_s: float | None,
    out: Path | None,
    figure: Path | None,
    agreement: bool,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Score events against a truth table.

    Matches events one to one: an event is a hit if its label is right and its onset is within --collar-s. Rows of
    TRUTH with a non-blank column unknown are sounds of no label; reports how many of them raise an event. If TRUTH
    has complete stretches (see barn-owl annotate), only these are scored.

    \b
    barn-owl score events.csv truth.csv
    barn-owl score events.csv truth.csv --collar-s 0.1 --offsets 0.5 \\
        --figure score.png -o wrong.csv
    barn-owl score first.csv second.csv --agreement -o disagreements.csv
    """

    import pandas as pd

    from barn_owl.archive.store import events_of_recordings, is_store

    common.check_outputs(figures=[figure], tables=[out], force=force)
    true = owl.read_clip_table(truth, urls=common.table_urls())
    if agreement:
        if figure is not None or segment_s is not None or offset_share is not None:
            raise click.UsageError("--agreement goes with --collar-s and -o only")
        _show_agreement(
            voice, owl.read_clip_table(events, urls=common.table_urls()), true, collar_s, out, force=force
        )
        return
    found = (
        events_of_recordings(events, true["file"])
        if is_store(events)
        else owl.read_events(events, urls=common.table_urls())
    )
    true = same_files(true, found)
    seconds = _lengths(voice, true)
    common.say_complete(voice, true, truth)
    scores = owl.score_events(found, true, collar_s=collar_s, offset_share=offset_share, seconds=seconds)
    show_event_scores(voice, scores, collar_s)
    segments = None
    if segment_s is not None:
        segments = owl.evaluate.score_segments(found, true, segment_s=segment_s, seconds=seconds)
        voice.table(segments.reset_index(), title=f"segments of {segment_s:g} s")
    if out is not None:
        wrong = pd.concat([scores.misses.assign(mistake="missed"), scores.false_alarms.assign(mistake="false alarm")])
        common.write_clips(wrong.sort_values(["file", "start_s"]), out, force=force)
        voice.say(f"\nWrote {len(wrong)} mistakes to {out}.")
    if figure is not None:
        owl.save_figure(owl.show.events_figure(scores), figure, force=True)
        voice.say(f"Wrote {figure}.")
    more = {} if segments is None else {"segments": segments.astype(object).to_dict("index")}
    voice.result(**scores.as_dict(), **more)


def _show_agreement(
    voice: common.Terminal,
    first: pd.DataFrame,
    second: pd.DataFrame,
    collar_s: float,
    out: Path | None,
    *,
    force: bool,
) -> None:
    second = same_files(second, first)
    found = owl.evaluate.compare_annotations(first, second, collar_s=collar_s, seconds=_lengths(voice, second))
    voice.table(found.by_label.reset_index(), title=f"agreement, onset within {collar_s:g} s")
    voice.say(f"F1 of one against the other {found.f1:.2f}, over {found.seconds / 60:.1f} min")
    voice.table(found.disagreements.head(SHOWN_DISAGREEMENTS), title="to listen to: marked by one only")
    if len(found.disagreements) > SHOWN_DISAGREEMENTS and out is None:
        voice.say(f"... and {len(found.disagreements) - SHOWN_DISAGREEMENTS} more; -o FILE lists all")
    if out is not None:
        common.write_clips(found.disagreements, out, force=force)
        voice.say(f"\nWrote {len(found.disagreements)} disagreements to {out}.")
    voice.result(
        f1=found.f1, seconds=found.seconds, by_label=found.by_label.astype(object).to_dict("index"),
        disagreements=found.disagreements,
    )  # fmt: skip


def same_files(truth: pd.DataFrame, events: pd.DataFrame) -> pd.DataFrame:
    """Use the file names of the events in the truth, where the base name identifies the recording."""
    own = {Path(file).name: file for file in events["file"].unique()}
    if len(own) < events["file"].nunique():
        return truth
    return truth.assign(file=[own.get(Path(file).name, file) for file in truth["file"]])


def _lengths(voice: common.Terminal, truth: pd.DataFrame) -> dict[str, float]:
    """Return durations of the recordings; of an unavailable recording, the end of its last event."""
    found, files = {}, [str(file) for file in truth["file"].unique()]
    for file, length_s in zip(files, each(_length_s, files, 2), strict=True):
        if length_s is None:
            voice.warn(f"{file} is not available: using the end of its last event as its duration")
        else:
            found[file] = length_s
    return found


def _length_s(file: str) -> float | None:
    try:
        return owl.audio_info(file).duration_s
    except AudioError:
        return None


def show_event_scores(voice: common.Terminal, scores: owl.evaluate.EventScores, collar_s: float) -> None:
    """Show event scores by label and overall, timing errors, confusions and unknown sounds."""

    from barn_owl.tag.caveats import event_score_caveats

    table = scores.by_label.reset_index().rename(columns={"false_alarms_per_hour": "false/hour"})
    voice.table(table, title=f"event scores, onset within {collar_s:g} s")
    spread = scores.intervals()
    f1 = spread.loc["f1"]
    span = f" (95 % over recordings: {f1['low']:.2f} to {f1['high']:.2f})" if f1["low"] == f1["low"] else ""
    if len(scores.events):
        voice.say(
            f"F1 {scores.f1:.2f}{span}, recall {scores.recall:.2f}, precision {scores.precision:.2f}, "
            f"{scores.false_alarms_per_hour:.1f} false alarms per hour"
        )
    else:
        voice.say(f"recall 0: none of {len(scores.truth)} events detected")
    if len(scores.matches):
        middle = scores.errors.loc[0.5]
        voice.say(
            f"median error: onset {1000 * middle['onset_error_s']:.0f} ms, offset "
            f"{1000 * middle['offset_error_s']:.0f} ms, duration {1000 * middle['length_error_s']:+.0f} ms"
        )
    confusion = scores.confusion(collar_s)
    for label in confusion.index:
        for other in confusion.columns:
            if label != other and confusion.loc[label, other] > 1:
                count, name = confusion.loc[label, other], label or "no label"
                voice.say(f"{count} {name} events tagged as {other}")
    if len(scores.unknown):
        raised = int((scores.unknown["raised"] != "").sum())
        voice.say(f"{raised} of {len(scores.unknown)} unknown sounds raised an event")
    for caveat in event_score_caveats(scores):
        voice.warn(caveat)
