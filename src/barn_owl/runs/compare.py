"""Comparison of runs: scores on the same clips, differences of their plans, and cost."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import TableError
from barn_owl.evaluate import Comparison, Evaluation, compare
from barn_owl.files import is_file, real_path
from barn_owl.runs.run import Run, RunLike, as_run

COSTS = ("weights", "multiply_adds", "seconds", "peak_memory_mb")


@dataclass(frozen=True, kw_only=True)
class RunComparison:
    """Comparison of runs on the same clips.

    Attributes
    ----------
    comparison : Comparison
        Comparison of the evaluations.
    evaluations : dict[str, Evaluation]
        Evaluation by run.
    plans : pd.DataFrame
        Plan keys that differ, with a column per run.
    costs : pd.DataFrame
        One row a run.

    Examples
    --------
    >>> compared = barn_owl.compare_runs(["first", "second"])
    >>> list(compared.evaluations)
    ['first', 'second']
    """

    comparison: Comparison
    evaluations: dict[str, Evaluation]
    plans: pd.DataFrame
    costs: pd.DataFrame

    def _repr_html_(self) -> str:
        return self.comparison._repr_html_() + str(self.plans.to_html()) + str(self.costs.to_html())


def compare_runs(
    runs: Sequence[RunLike],
    clips: TableOrPath | None = None,
    *,
    split: str = "test",
    workers: int = 2,
    progress: Callable[[int, int], None] | None = None,
) -> RunComparison:
    """Compare runs on the clips that all of them have in a split, or on the labeled rows of `clips`.

    Parameters
    ----------
    runs : Sequence[Run | str | Path]
        Runs or their folders; the first is the reference.
    clips : pd.DataFrame | str | Path | None
        Labeled clips; None for the clips of `split` that all runs have.
    split : str
        ``train``, ``validation`` or ``test``.
    workers : int
        Number of parallel workers.
    progress : Callable[[int, int], None] | None
        Called with the clips done and their number.

    Raises
    ------
    TableError
        With fewer than two runs, or without common clips.
    ModelError
        If a folder is no run.

    Examples
    --------
    >>> compared = barn_owl.compare_runs(["first", "second"], split="validation")
    >>> compared.comparison.clips
    12
    """
    clips = None if clips is None else as_clip_table(clips, "clips")
    if len(runs) > 2:  # of all that lies in a folder, files are skipped
        runs = [run for run in runs if isinstance(run, Run) or not is_file(run)]
    if len(runs) < 2:
        raise TableError("two runs or more are needed for a comparison")
    opened = [as_run(run, "runs") for run in runs]
    by_name = dict(zip(_names([run.folder for run in opened]), opened, strict=True))
    evaluations = {
        name: run.evaluate(
            clips, split="given clips" if clips is not None else split, workers=workers, progress=progress
        )
        for name, run in by_name.items()
    }
    costs = pd.DataFrame(
        [{key: run.provenance.get(key) for key in COSTS} for run in by_name.values()],
        index=pd.Index(list(by_name), name="run"),
    )
    return RunComparison(
        comparison=compare(evaluations), evaluations=evaluations, plans=_plan_differences(by_name), costs=costs
    )


def _names(folders: Sequence[str | Path]) -> list[str]:
    """Name runs by their folders, with as much of the path as distinguishes them."""
    paths = [real_path(folder) for folder in folders]
    if len(set(paths)) < len(paths):
        raise TableError("the same run is named twice")
    for parts in range(1, max(len(path.parts) for path in paths) + 1):
        names = ["/".join(path.parts[-parts:]) for path in paths]
        if len(set(names)) == len(names):
            return names
    raise AssertionError  # paths that differ have names that do


def _plan_differences(runs: dict[str, Run]) -> pd.DataFrame:
    flat = {name: _flat(run.plan.model_dump()) for name, run in runs.items()}
    keys = [key for key in next(iter(flat.values())) if len({str(plan.get(key)) for plan in flat.values()}) > 1]
    table = {name: [str(plan.get(key, "")) for key in keys] for name, plan in flat.items()}
    return pd.DataFrame(table, index=pd.Index(keys, name="key"))


def _flat(values: dict[str, Any], section: str = "") -> dict[str, Any]:
    found: dict[str, Any] = {}
    for key, value in values.items():
        found |= _flat(value, f"{section}{key}.") if isinstance(value, dict) else {f"{section}{key}": value}
    return found
