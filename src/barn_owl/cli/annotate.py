"""``barn-owl annotate``."""

from __future__ import annotations

import threading
from pathlib import Path

import click

import barn_owl as owl
from barn_owl.cli import common


@click.command("annotate")
@click.argument("recordings", nargs=-1, required=True, type=common.PATH)
@click.option("-o", "--out", type=common.PATH, required=True, help="Truth table to write; continued if it exists.")
@click.option("--events", type=common.PATH, help="Event table whose events to propose.")
@click.option("--model", type=common.PATH, help="Run or model whose events to propose, and whose labels to offer.")
@click.option("--label", "labels", multiple=True, metavar="LABEL", help="Label to offer; the first nine have a key."
              " Repeatable.")  # fmt: skip
@click.option(
    "--port", type=click.IntRange(0, 65535), default=0, show_default="any free port", help="Port to serve on."
)
@common.table_urls_option
@common.terminal_options
def command(
    recordings: tuple[Path, ...],
    out: Path,
    events: Path | None,
    model: Path | None,
    labels: tuple[str, ...],
    port: int,
    voice: common.Terminal,
) -> None:
    """Mark the events of recordings on their spectrogram.

    Serves a page on this machine: zoom, scroll, play, drag over a sound and give its label. Marks are saved at once.
    State as complete the stretches in which every event is marked: score, adjust and cut use only these.

    \b
    barn-owl annotate night.flac -o truth.csv --label hull-knock \\
        --label rope-creak
    barn-owl annotate night.flac -o truth.csv --events events.csv
    """
    if events is not None and model is not None:
        raise click.UsageError("--events and --model both propose events; give one of them")
    files = owl.find_recordings(recordings, urls=common.table_urls())
    marks = owl.annotation.MarkFile(out, files)
    loaded = None if model is None else owl.load_model(model)
    if loaded is not None:
        for file in files:
            with voice.progress(f"tagging {Path(file).name}", of_sound=True) as progress:
                marks.propose(owl.tag_recording(loaded, file, progress=progress))
    if events is not None:
        marks.propose(owl.read_events(events, urls=common.table_urls()))
    table = marks.table()
    named = [*table["label"], *table["predicted"]]
    own = sorted({label for label in named if label}, key=lambda label: (-named.count(label), label))
    offered = list(dict.fromkeys([*labels, *(loaded.event_labels if loaded else []), *own]))
    server = owl.show.AnnotationServer(marks, labels=offered, title=f"Annotation {out.name}", port=port)
    _serve(server, f"{len(files)} recordings to annotate", out)
    _tell(voice, marks, out)


def _serve(server: owl.show.AnnotationServer, content: str, out: Path) -> None:
    with server, common.stopping() as stop:
        threading.Thread(target=server.serve, daemon=True).start()
        # On standard error, also with --quiet: the address is a secret of this user.
        click.echo(f"{content} at\n{server.address}\nMarks go to {out}. Ctrl-C ends it.", err=True)
        stop.wait()
        server.stop()


def _tell(voice: common.Terminal, marks: owl.annotation.MarkFile, out: Path) -> None:
    from barn_owl.clips.completeness import COMPLETE, EVENT_STATUSES, complete_minutes

    table = marks.table()
    is_event, is_complete = table["status"].isin(EVENT_STATUSES), table["status"] == COMPLETE
    minutes = (complete_minutes(table) or 0.0) if is_complete.any() else 0.0
    voice.say(f"Wrote {out}: {int(is_event.sum())} events, {minutes:.1f} min complete.")
    if not is_complete.any():
        voice.say("No stretch is complete: score and adjust need one (key c on the page).")
    else:
        voice.say(f"Next: barn-owl score EVENTS {out}, barn-owl adjust RUN {out}, barn-owl cut {out} --around-events")
    voice.result(out=out, events=int(is_event.sum()), complete_minutes=minutes, counts=table["status"].value_counts())
