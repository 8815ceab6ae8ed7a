"""Resuming a training from its checkpoint, and reusing the split of another run."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pandas as pd

from barn_owl.clips import read_clip_table
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import ModelError, PlanError, TableError
from barn_owl.files import is_file, real_path
from barn_owl.learn import Plan, read_plan
from barn_owl.learn.checkpoint import Checkpoint, read_checkpoint
from barn_owl.learn.plan import closed_recordings
from barn_owl.runs.run import CHECKPOINT

TIMES = ("start_s", "end_s")


def plan_of_run(folder: Path, plan: Plan | None) -> Plan:
    """Return the plan of a run that is to continue.

    Raises PlanError, with the keys, when `plan` is given and differs; and without `plan` when the run has recordings
    that are URLs, which are opened only on request.
    """
    if not is_file(folder / "plan.toml"):
        raise ModelError(f"{folder} has nothing to resume")
    if plan is None:
        return read_plan(folder / "plan.toml")
    own = read_plan(folder / "plan.toml", urls=True)
    changed = _differences(closed_recordings(own).model_dump(), closed_recordings(plan).model_dump())
    if changed:
        raise PlanError(
            f"the plan is not that of {folder}, so it cannot be resumed; changed: {', '.join(changed[:5])}. "
            "Train into another folder, or leave the changes out"
        )
    return plan


def is_finished(folder: Path) -> bool:
    """Return whether the run in a folder is complete: its last file is present."""
    return is_file(folder / "predictions.csv")


def find_checkpoint(folder: Path, clips: pd.DataFrame) -> Checkpoint | None:
    """Return the checkpoint of a run, if it has one. Raises TableError, with the differences, when its clips have
    changed."""
    if not is_file(folder / "clips.csv"):
        return None
    before, now = _known_rows(read_clip_table(folder / "clips.csv", urls=True)), _known_rows(clips)
    if before != now:
        gone, new = sorted(set(before) - set(now)), sorted(set(now) - set(before))
        example = f"; the first: {(gone or new)[0]}" if gone or new else " (they are in another order)"
        raise TableError(
            f"the clips are not those of {folder}, so it cannot be resumed: {len(gone)} rows are gone or changed, "
            f"{len(new)} are new{example}"
        )
    return read_checkpoint(folder / CHECKPOINT) if is_file(folder / CHECKPOINT) else None


def _differences(before: dict[str, Any], after: dict[str, Any], section: str = "") -> list[str]:
    changed = []
    for key, value in before.items():
        if isinstance(value, dict) and isinstance(after[key], dict):
            changed += _differences(value, after[key], f"{section}{key}.")
        elif value != after[key]:
            changed.append(f"{section}{key} ({value!r} there, {after[key]!r} now)")
    return changed


def split_like(clips: TableOrPath, run: str | Path) -> pd.DataFrame:
    """Return the clips with the split of another run, so that both are evaluated on the same clips.

    Clips that the run does not have keep the split of the table. Where that is blank, clips of a group of the run
    join their group and clips of new labels are divided when the table is split; others, such as clips cut from a
    recording that was tagged since, are for training.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    run : str | Path
        Folder of the run.

    Raises
    ------
    ModelError
        If there is no run in the folder.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> run = barn_owl.open_run("first")
    >>> bool((barn_owl.runs.split_like(clips, "first")["split"] == run.predictions["split"]).all())
    True
    """
    clips = as_clip_table(clips, "clips")
    folder = Path(run)
    if not is_file(folder / "clips.csv"):
        raise ModelError(f"{folder} is no run: it holds no clips.csv")
    before = read_clip_table(folder / "clips.csv", urls=True)
    splits = dict(zip(_known_rows(before, TIMES), before["split"], strict=True))
    own = clips["split"] if "split" in clips else pd.Series("", index=clips.index)
    groups = clips["group"] if "group" in clips else pd.Series("", index=clips.index)
    known_groups = set(before["group"]) - {""} if "group" in before else set()
    added = clips["label"].isin(before["label"]) & ~groups.isin(known_groups)
    own = own.where((own != "") | ~added, "train")
    return clips.assign(
        split=[splits.get(key, given) for key, given in zip(_known_rows(clips, TIMES), own, strict=True)]
    )


def _known_rows(clips: pd.DataFrame, columns: Sequence[str] = ("start_s", "end_s", "label", "split")) -> list[str]:
    """Return the identity of rows, with whole paths, since tables may be in different folders."""
    columns = list(columns)
    rows = clips[columns].astype(object).where(clips[columns].notna(), "").itertuples(index=False, name=None)
    return [f"{real_path(file)} {row}" for file, row in zip(clips["file"], rows, strict=True)]
