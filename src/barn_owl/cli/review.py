"""``barn-owl review``."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import TYPE_CHECKING

import click

import barn_owl as owl
from barn_owl import annotation
from barn_owl.cli import common
from barn_owl.errors import PlanError, TableError
from barn_owl.files import is_file, real_path

if TYPE_CHECKING:
    import pandas as pd


@click.command("review")
@click.argument("events", type=common.PATH)
@click.argument("recordings", nargs=-1, type=common.PATH)
@click.option("-o", "--out", type=common.PATH, help="Clip table of the reviewed sounds to write.")
@click.option("--answers", type=common.PATH, help="File of the answers.  [default: next to --out or EVENTS]")
@click.option("--page", type=common.PATH, help="Self-contained page to write.")
@click.option("--serve", is_flag=True, help="Serve the page locally; saves each answer at once.")
@click.option(
    "--port", type=click.IntRange(0, 65535), default=0, show_default="any free port", help="Port to serve on."
)
@click.option("--audio", type=common.PATH, help="Current folder of the recordings.")
@click.option("--model", type=common.PATH, help="Run or model whose labels to offer.")
@click.option(
    "--stretches", type=click.IntRange(min=0), default=60,
    help="Stretches without events to review, for misses.",
)  # fmt: skip
@click.option("--stretch-s", type=click.FloatRange(1, 60), default=5.0, help="Length of these stretches.")
@click.option("--seed", type=click.IntRange(min=0), default=0, help="Seed of the random sample.")
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    events: Path,
    recordings: tuple[Path, ...],
    out: Path | None,
    answers: Path | None,
    page: Path | None,
    serve: bool,
    port: int,
    audio: Path | None,
    model: Path | None,
    stretches: int,
    stretch_s: float,
    seed: int,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Review events by ear and estimate precision and recall.

    Shows EVENTS in a browser for confirmation, relabeling or correction, and stretches of RECORDINGS (all that were
    tagged) without events, to find misses. Estimates precision and recall of all events from the random sample among
    the answers, with confidence intervals. --out writes the confirmed sounds with their labels and false alarms with
    a blank label; gather, score, adjust and cut accept this table.

    \b
    barn-owl review events.csv archive/ --serve -o reviewed.csv
    barn-owl review events.csv archive/ --page review.html
    barn-owl review events.csv archive/ --answers answers.jsonl \\
        -o reviewed.csv
    """
    common.check_outputs(pages=[page], tables=[out], force=force)
    file = answers or (out or events).with_suffix(".answers.jsonl")
    if answers is not None and not serve and page is None and not is_file(file):
        raise TableError(f"{file} does not exist; save it from the page, or use --serve")
    if not (page or serve or is_file(file)):
        raise PlanError("give --serve to review in a browser now, or --page FILE to write a page")
    items = _items(
        voice,
        events,
        recordings,
        audio,
        stretches=stretches,
        stretch_s=stretch_s,
        seed=seed,
        shown=bool(page or serve),
    )
    labels = owl.load_model(model).event_labels if model is not None else []
    given = owl.annotation.read_reviews(file) if is_file(file) else {}
    if page is not None:
        _write(voice, owl.show.Review(items, labels=labels), page, given, file, events, force=force)
    if serve:
        given = _serve(owl.show.Review(items, labels=labels), file, port, events)
    if given:
        _tell(voice, items, given, out, force=force)


def _items(
    voice: common.Terminal, events: Path, recordings: tuple[Path, ...], audio: Path | None, *, stretches: int,
    stretch_s: float, seed: int, shown: bool,
) -> pd.DataFrame:  # fmt: skip
    from barn_owl.archive.store import events_of_recordings, is_store

    files = owl.find_recordings(recordings, urls=common.table_urls()) if recordings else []
    if files and is_store(events):
        table = annotation.recordings_at(events_of_recordings(events, files), audio)
    else:
        table = annotation.recordings_at(owl.read_events(events, urls=common.table_urls()), audio)
    if recordings:
        known = {real_path(file): file for file in table["file"].unique()}
        files = [known.get(real_path(file), file) for file in files]
    else:
        files = list(table["file"].unique())
        if stretches:
            voice.warn(
                "drawing stretches without events only from the recordings in EVENTS; name all tagged recordings"
            )
    if not len(table) and not files:
        raise TableError(f"{events} has no events; name the recordings to review for misses")
    with voice.progress("reading events") as progress:
        return owl.annotation.review_items(
            table, files, stretches=stretches, stretch_s=stretch_s, listens=shown, seed=seed, progress=progress
        )


def _write(
    voice: common.Terminal,
    review: owl.show.Review,
    page: Path,
    given: dict[str, owl.annotation.ReviewAnswer],
    file: Path,
    events: Path,
    *,
    force: bool,
) -> None:
    use = f"Save the answers, then: barn-owl review {events.name} RECORDINGS --answers {file.name} -o reviewed.csv"
    room = owl.show.write_review_page(
        review, page, answers=given, title=f"Review of {events.name}", download=file.name, use=use, force=force
    )
    voice.say(f"Wrote {page} with {len(review.items)} items.")
    if room < len(review.items):
        voice.warn(f"only {room} items fit into the page with their sound; --serve has no limit")
    voice.say(f"Next: open it in a browser, save the answers, then {use.partition('then: ')[2]}")


def _serve(review: owl.show.Review, file: Path, port: int, events: Path) -> dict[str, owl.annotation.ReviewAnswer]:
    with (
        owl.show.ReviewServer(review, file, title=f"Review of {events.name}", port=port) as server,
        common.stopping() as stop,
    ):
        thread = threading.Thread(target=server.serve, daemon=True)
        thread.start()
        # On standard error, also with --quiet: the address is a secret of this user.
        click.echo(
            f"{len(review.items)} items to review at\n{server.address}\nAnswers go to {file}. Ctrl-C ends it.",
            err=True,
        )
        stop.wait()
        server.stop()
    # Further reviewers may have added to the same file meanwhile.
    return owl.annotation.read_reviews(file) if is_file(file) else {}


def _tell(
    voice: common.Terminal,
    items: pd.DataFrame,
    given: dict[str, owl.annotation.ReviewAnswer],
    out: Path | None,
    *,
    force: bool,
) -> None:
    estimate = owl.annotation.estimate_quality(items, given)
    shown = estimate.table.reset_index()
    for name in ("precision", "recall"):
        shown[f"{name} 95 %"] = [
            "–" if low != low else f"{low:.2f} to {high:.2f}"
            for low, high in zip(shown.pop(f"{name}_low"), shown.pop(f"{name}_high"), strict=True)
        ]
    order = ["label", "events", "reviewed", "precision", "precision 95 %", "recall", "recall 95 %"]
    voice.table(shown[order], title=f"estimated from the random sample, {estimate.stretches} stretches in it")
    if not estimate.stretches:
        voice.say("Recall is not known: no stretch without an event was reviewed.")
    unknown = len(set(given) - set(annotation.item_keys(items)))
    if unknown:
        voice.warn(f"{unknown} answers are to items that are not in EVENTS, or are of another --seed or --stretch-s")
    if out is not None:
        clips = owl.annotation.reviewed_clips(items, given)
        owl.write_clip_table(clips, out, force=force)
        there = int((clips["label"] != "").sum())
        voice.say(f"\nWrote {len(clips)} rows to {out}: {there} confirmed, {len(clips) - there} rejected.")
        voice.say(f"Next: barn-owl cut {out} --around-events, barn-owl adjust RUN, barn-owl score EVENTS {out}")
    voice.result(answers=len(given), unsure=estimate.unsure, estimate=estimate.table.to_dict("index"))
