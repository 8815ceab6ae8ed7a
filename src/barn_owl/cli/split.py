"""``barn-owl split``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Literal

import click

import barn_owl as owl
from barn_owl.cli import common

if TYPE_CHECKING:
    import pandas as pd


@click.command("split")
@click.argument("clips")
@common.out_file_option
@click.option("--train", type=float, help="Share of training clips.  [default: 0.6]")
@click.option("--validation", type=float, help="Share of validation clips.  [default: 0.2]")
@click.option("--test", type=float, help="Share of test clips.  [default: 0.2]")
@click.option("--together", type=click.Choice(["group", "file"]), help="What is never divided.  [default: group]")
@click.option("--method", type=click.Choice(["balanced", "stable"]), help="stable: adding clips never moves others.")
@click.option("--previous", "before", type=common.PATH, help="Earlier table whose splits to keep.")
@click.option("--by-time", is_flag=True, help="Split each file by time: early excerpts for training.")
@click.option("--folds", type=click.IntRange(min=3), help="Assign folds for cross-validation instead.")
@click.option("--fold", type=click.IntRange(min=1), help="Use this fold for testing, the next for validation.")
@common.plan_option
@common.seed_option
@common.force_option
@common.table_urls_option
@common.terminal_options
def command(
    clips: str,
    out: Path,
    train: float | None,
    validation: float | None,
    test: float | None,
    together: Literal["group", "file"] | None,
    method: Literal["balanced", "stable"] | None,
    before: Path | None,
    by_time: bool,
    folds: int | None,
    fold: int | None,
    plan_path: Path | None,
    seed: int | None,
    force: bool,
    voice: common.Terminal,
) -> None:
    """Split clips into training, validation and test, or into folds.

    Keeps the proportions of labels, and never divides a group. train splits clips on its own; use this command to
    inspect or keep a split, or to cross-validate.

    \b
    barn-owl split clips.csv -o split.csv
    barn-owl split more-clips.csv --previous split.csv -o split2.csv
    barn-owl split clips.csv --folds 5 -o folds.csv \\
        && barn-owl split folds.csv --fold 1 -o fold1.csv
    """

    import pandas as pd

    from barn_owl.clips.splits import SPLITS

    common.check_outputs(tables=[out], force=force)
    if sum(map(bool, (by_time, folds, fold, before))) > 1:
        raise click.UsageError("give only one of --previous, --by-time, --folds and --fold")
    plan = owl.read_plan(plan_path, urls=common.table_urls()) if plan_path else owl.Plan()
    shares = plan.split.but(train=train, validation=validation, test=test, together=together, method=method)
    table, seed = common.read_clips(clips), plan.seed if seed is None else seed
    if folds:
        done = owl.clips.fold_clips(table, folds, seed=seed, shares=shares)
    elif fold:
        done = owl.clips.splits_of_fold(table, fold)
    elif by_time:
        done = owl.clips.split_by_time(table, shares)
    else:
        if before:
            table = _with_sides(table, owl.read_clip_table(before, urls=common.table_urls()))
        done = owl.split_clips(table, shares, seed=seed)
    common.write_clips(done, out, force=force)
    column = "fold" if folds else "split"
    reached = pd.crosstab(done["label"], done[column])
    reached = reached if folds else reached.reindex(columns=list(SPLITS), fill_value=0)
    voice.table(reached.reset_index().rename_axis(None, axis=1))
    share = (reached.sum() / len(done)).map("{:.0%}".format)
    voice.say("\nreached: " + ", ".join(f"{name} {value}" for name, value in share.items()))
    voice.say(f"Wrote {len(done)} clips to {out}.")
    divides = "" if shares.together == "group" else f" --set split.together={shares.together}"
    voice.say(
        f"Next: barn-owl train {out} --run RUN{divides}"
        if not folds
        else f"Next: barn-owl split {out} --fold 1 -o FOLD"
    )
    voice.result(clips=len(done), reached=reached.sum().to_dict())


def _with_sides(clips: pd.DataFrame, before: pd.DataFrame) -> pd.DataFrame:
    """Take the splits of an earlier table for the same excerpts and for its groups."""
    keys = ["file", "start_s", "end_s"]
    splits = before[[*keys, "split"]].drop_duplicates(keys) if "split" in before else before[keys].assign(split="")
    joined = clips.drop(columns="split", errors="ignore").merge(splits, on=keys, how="left")
    return joined.assign(split=joined["split"].fillna(""))
