"""``barn-owl find``."""

from __future__ import annotations

from pathlib import Path

import click

import barn_owl as owl
from barn_owl.cli.common import (
    Terminal,
    check_outputs,
    clips_of,
    engine_option,
    force_option,
    is_stdout,
    json_option,
    out_file_option,
    quiet_option,
    workers_option,
    write_table,
)
from barn_owl.errors import PlanError

SHOWN = 12
"""Places that are shown at once."""


@click.command("find", short_help="Find more like an example, without training.")
@click.argument("examples", nargs=-1, required=True)
@click.option(
    "--in", "places", multiple=True, required=True, type=click.Path(path_type=Path),
    help="Recording, folder or table of them to look in; may be given several times.",
)  # fmt: skip
@out_file_option
@click.option("--most", type=click.IntRange(min=1), default=50, show_default=True, help="Places to find in all.")
@click.option(
    "--least", type=click.FloatRange(0, 1), default=0.5, show_default=True, help="Score that they must reach."
)
@click.option("--at", nargs=2, type=float, help="Where in an example it is: from and to, in seconds.")
@click.option("--label", help="What the places are called.  [default: the example's label, or its file's name]")
@click.option("--cache", type=click.Path(path_type=Path), help="Folder to keep features in, for the next search.")
@click.option("--page", type=click.Path(path_type=Path), help="Page to hear them on, and to say what they are.")
@workers_option
@engine_option
@force_option
@json_option
@quiet_option
def command(
    examples: tuple[str, ...],
    places: tuple[Path, ...],
    out: Path,
    most: int,
    least: float,
    at: tuple[float, float] | None,
    label: str | None,
    cache: Path | None,
    page: Path | None,
    workers: int,
    force: bool,
    as_json: bool,
    quiet: bool,
) -> None:
    """Find the places in recordings that sound most like EXAMPLES: sound files, folders or clip tables.

    Nothing is trained: spectrograms are compared, so what is found is the same sound rather than the same kind of
    sound. The scores are likenesses, not probabilities.

    \b
    barn-owl find knock.wav --in archive/ -o found.csv --page found.html
    barn-owl find night.flac --at 12.4 13.1 --label knock --in night.flac -o found.csv --cache features
    """
    voice = Terminal(quiet=quiet or is_stdout(out), as_json=as_json)
    check_outputs(pages=[page], tables=[out], force=force)
    clips = owl.clips.check_clip_table(clips_of(examples))
    if at is not None:
        if len(clips) > 1:
            raise PlanError("--at is for a single example; for several, give a clip table with start_s and end_s")
        if label is None and not clips["label"].iloc[0]:
            raise PlanError("--at needs --label: a part of a recording has no name of its own")
        clips = owl.clips.check_clip_table(clips.assign(start_s=at[0], end_s=at[1]))
    if label is not None:
        clips = clips.assign(label=label)
    files = owl.find_recordings(places)
    with voice.progress(f"looking in {len(files)} recordings") as progress:
        found = owl.find_similar(
            clips, files, most=most, least=least, cache=cache, workers=workers, progress=progress
        )
    for reason in found.attrs["refused"]:
        voice.warn(f"passed over: {reason}")
    write_table(found, out, force=force)
    shown = found.drop(columns="example").head(SHOWN)
    times = {name: [f"{second:.2f}" for second in shown[name]] for name in ("start_s", "end_s")}
    voice.table(shown.assign(file=[Path(file).name for file in shown["file"]], **times))
    if len(found):
        voice.say(
            "Scores are similarities, not probabilities: a sound that is not in the recordings still has a best "
            "match. Listen to the first few before using the list."
        )
    voice.say(
        f"\nWrote {len(found)} places to {out}."
        + (f" None reaches {least:g}; lower --least." if not len(found) else "")
    )
    if page is not None and len(found):
        items = owl.annotation.review_items(found, stretches=0, listens=False)
        use = f"Save the answers, then: barn-owl review {out} --answers answers.jsonl -o reviewed.csv --stretches 0"
        owl.show.write_review_page(
            owl.show.Review(items), page, title="Places like the examples", use=use, force=force
        )
        voice.say(f"Next: open {page} in a browser")
    voice.result({"found": len(found), "out": str(out), "refused": found.attrs["refused"]})
