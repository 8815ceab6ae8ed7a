"""``barn-owl features``."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

import click
import numpy as np

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.files import claim_folder

if TYPE_CHECKING:
    import pandas as pd

SHOWN = 12


SHOWN_S = 600.0
"""Longest part of a recording that is drawn."""


@click.command("features")
@click.argument("what")
@click.option(
    "-o", "--out", type=common.PATH, help="Table to write: .csv, .parquet or .npz.  [default: show a summary]"
)
@click.option(
    "--features", "names", metavar="NAMES", help="Features to stack, separated by commas: mfcc,deltas,pitch."
)
@click.option("--pool", "statistics", default="mean,deviation", help="Statistics over the frames of a clip.")
@click.option("--pad-short", is_flag=True, help="Pad sounds shorter than a frame with zeros.")
@click.option("--rank", type=common.PATH, help="Ranking of the features by label to write.")
@click.option("--figures", type=common.PATH, help="Folder for figures.")
@click.option("--scatter", nargs=2, metavar="ACROSS UP", help="Two columns for a scatter plot; needs --figures.")
@click.option("--cache", type=common.PATH, help="Folder to cache computed frames in.")
@common.plan_option
@common.workers_option
@common.engine_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    what: str,
    out: Path | None,
    names: str | None,
    statistics: str,
    pad_short: bool,
    rank: Path | None,
    figures: Path | None,
    scatter: tuple[str, str] | None,
    cache: Path | None,
    plan_path: Path | None,
    workers: int,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Compute, export and rank features.

    \b
    barn-owl features knock.wav --features level,pitch
    barn-owl features knock.wav --features level,pitch,shape -o knock.csv
    barn-owl features clips.csv --features mfcc,deltas,shape -o features.csv \\
        --rank ranking.csv --figures look
    """
    import pandas as pd

    from barn_owl.features.export import ENDINGS as FEATURE_ENDINGS

    if scatter and figures is None:
        raise click.UsageError("--scatter needs --figures FOLDER")
    front_end = (owl.read_plan(plan_path, urls=common.table_urls()) if plan_path else owl.Plan()).front_end
    front_end = front_end.but(features=[name.strip() for name in names.split(",")] if names else None)
    front_end = front_end.but(pad_short=pad_short or None)
    for caveat in front_end.caveats:
        voice.warn(caveat)
    common.check_outputs(endings={out: FEATURE_ENDINGS, rank: FEATURE_ENDINGS}, force=force)
    if figures is not None:
        claim_folder(figures, force=force)
    path = Path(what)
    if common.is_sound_file(what):
        _of_file(voice, path, out, front_end, figures, force=force)
        return
    with voice.progress("computing features") as progress:
        frames, clips, skipped = owl.load_frames(
            common.read_clips(what), front_end, workers=workers, cache=cache, progress=progress
        )
    voice.skipped(skipped.values())
    chosen = [name.strip() for name in statistics.split(",")]
    columns = owl.features.pooled_names(front_end.columns, chosen)
    x = np.stack([owl.features.pool(frames[clip], chosen) for clip in range(len(frames))])
    if out is None:
        _summarize(voice, [x], columns, front_end.units * len(chosen))
    else:
        owl.features.write_features(pd.concat([clips, pd.DataFrame(x, columns=columns)], axis=1), out, force=True)
        voice.say(f"Wrote {len(x)} rows of {len(columns)} features to {out}.")
    if rank is not None or figures is not None:
        _rank(voice, x, columns, front_end.units * len(chosen), clips, rank, figures, scatter)
    voice.result(rows=len(x), features=len(columns), skipped=len(skipped), out=out)


def _summarize(voice: common.Terminal, blocks: Iterable[np.ndarray], columns: list[str], units: list[str]) -> int:
    """Show mean, lowest and highest value of each feature; return the number of rows."""
    import pandas as pd

    count, total = 0, np.zeros(len(columns))
    low, high = np.full(len(columns), np.inf), np.full(len(columns), -np.inf)
    for block in blocks:
        if len(block):
            count, total = count + len(block), total + block.sum(axis=0, dtype=np.float64)
            low, high = np.minimum(low, block.min(axis=0)), np.maximum(high, block.max(axis=0))
    mean = total / max(count, 1)
    table = pd.DataFrame({"feature": columns, "unit": units, "mean": mean, "lowest": low, "highest": high})
    voice.table(table, title=f"{count} rows; -o FILE writes them")
    return count


def _of_file(
    voice: common.Terminal,
    path: Path,
    out: Path | None,
    front_end: owl.FrontEnd,
    figures: Path | None,
    *,
    force: bool,
) -> None:
    length_s = owl.audio_info(path).duration_s
    blocks = front_end.frame_blocks(owl.audio.stream_audio(path, rate_hz=front_end.rate_hz))
    with voice.progress(f"features of {path.name}, seconds", of_sound=True) as progress:
        if out is None:
            count = _summarize(voice, blocks, front_end.columns, front_end.units)
        else:
            count = owl.features.write_frames(
                front_end, blocks, out, force=force, progress=lambda done: progress(min(done, length_s), length_s)
            )
    if out is not None:
        voice.say(f"Wrote {count} frames of {front_end.width} features to {out}.")
    if figures is not None:
        shown = owl.read_audio(path, rate_hz=front_end.rate_hz, end_s=min(SHOWN_S, length_s))[0]
        frames = front_end.frames(shown)
        if length_s > SHOWN_S:
            voice.say(f"The figure shows the first {SHOWN_S:g} s.")
        owl.save_figure(
            owl.show.tracks_figure(front_end, frames, title=path.name), figures / "tracks.png", force=True
        )
        voice.say(f"Wrote tracks.png to {figures}.")
    voice.result(rows=count, features=front_end.width, out=out)


def _rank(
    voice: common.Terminal,
    x: np.ndarray,
    columns: list[str],
    units: list[str],
    clips: pd.DataFrame,
    rank: Path | None,
    figures: Path | None,
    scatter: tuple[str, str] | None,
) -> None:
    labels = clips["label"].tolist()
    groups = clips["group"].tolist() if "group" in clips else None
    ranking = owl.features.rank_features(x, columns, labels, groups)
    voice.table(ranking.head(SHOWN).drop(columns=["follows_group", "group_f"], errors="ignore"))
    voice.say(
        "f: F statistic between labels; bits: mutual information with the label; area: ROC area for the named label, "
        "0.5 is chance; same_as: a higher-ranked feature that it is correlated with."
    )
    if "follows_group" in ranking and ranking["follows_group"].any():
        share = ranking["follows_group"].mean()
        worst = ranking[ranking["follows_group"]].iloc[0]["feature"]
        voice.warn(f"{share:.0%} of the features separate groups better than labels, for example {worst}")
    if rank is not None:
        owl.features.write_features(ranking, rank, force=True)
        voice.say(f"Wrote the ranking to {rank}.")
    if figures is not None:
        best = ranking[ranking["same_as"] == ""]["feature"].tolist()
        owl.save_figure(
            owl.show.distributions_figure(x, columns, labels, ranking, units=units),
            figures / "distributions.png",
            force=True,
        )
        owl.save_figure(owl.show.map_figure(x, labels), figures / "map.png", force=True)
        across, up = scatter or (best[0], best[min(1, len(best) - 1)])
        figure = owl.show.scatter_figure(x, columns, labels, across, up, units=units)
        owl.save_figure(figure, figures / "scatter.png", force=True)
        voice.say(f"Wrote figures to {figures}.")
