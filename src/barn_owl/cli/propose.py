"""``barn-owl propose``."""

from __future__ import annotations

from pathlib import Path

import click

import barn_owl as owl
from barn_owl.cli import common

SHOWN = 12


@click.command("propose")
@click.argument("what", nargs=-1, required=True)
@common.out_file_option
@click.option("--model", type=common.PATH, help="Run or model; its uncertain clips come first.")
@click.option("--labeled", "known", metavar="TABLE", help="Clip table of labeled clips.")
@click.option("--count", type=click.IntRange(min=1), default=50, help="Number of clips to propose.")
@click.option("--page", type=common.PATH, help="Page to write, for listening and labeling.")
@click.option("--seed", type=click.IntRange(min=0), default=0, help="Random seed.")
@common.workers_option
@common.engine_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    what: tuple[str, ...],
    out: Path,
    model: Path | None,
    known: str | None,
    count: int,
    page: Path | None,
    seed: int,
    workers: int,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Select the most informative clips to label next.

    WHAT are sound files, folders of them or clip tables. Selects clips that represent many others and that the model
    is uncertain about. Cuts long recordings into the parts that rise above the quiet.

    \b
    barn-owl propose heap/ -o next.csv --page next.html
    barn-owl propose heap/ -o next.csv --model first --labeled clips.csv
    """
    common.check_outputs(pages=[page], tables=[out], force=force)
    used = None if model is None else owl.load_model(model)
    labeled = None if known is None else common.read_clips(known)
    clips = common.clips_of(what)
    with voice.progress("reading clips") as progress:
        chosen = owl.annotation.propose(
            clips, count=count, model=used, known=labeled, workers=workers, seed=seed, progress=progress
        )
    common.write_clips(chosen, out, force=force)
    shown = chosen.head(SHOWN).assign(file=[Path(file).name for file in chosen["file"].head(SHOWN)])
    voice.table(shown[[name for name in ("rank", "file", "start_s", "predicted", "score", "why") if name in shown]])
    voice.say(f"\nWrote {len(chosen)} clips to {out}.")
    if page is not None:
        labels = [] if used is None else used.event_labels
        if labeled is not None:
            labels = sorted({*labels, *labeled["label"]} - {""})
        items = owl.annotation.review_items(chosen, stretches=0)
        use = f"Save the answers, then: barn-owl review {out} --answers answers.jsonl -o labeled.csv --stretches 0"
        owl.show.write_review_page(
            owl.show.Review(items, labels=labels), page, title="Clips to label", use=use, force=force
        )
        voice.say(f"Next: open {page} in a browser")
    voice.result(proposed=len(chosen), out=out)
