"""Use of this machine by a training: cores and memory."""

import time

import pandas as pd

from barn_owl.archive.throughput import cores_busy, usable_cores
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.files import temporary_folder
from barn_owl.learn.plan import PlanLike, as_plan
from barn_owl.runs.data import read_clips, usable_clips, with_splits
from barn_owl.runs.suggest import suggest_plan
from barn_owl.runs.training import fit_into
from barn_owl.runs.work import Work

EPOCHS = 6
"""Epochs that are measured with."""


def measure_training(
    clips: TableOrPath, plan: PlanLike | None = None, *, most_workers: int | None = None
) -> pd.DataFrame:
    """Measure a short training with increasing numbers of workers: speed and busy cores.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    plan : Plan | None
        Default: fitted to the clips; its classifier is trained for a few epochs, without a rehearsal.
    most_workers : int | None
        Largest number of workers. Default: the cores of this machine.

    Returns
    -------
    pd.DataFrame
        A row per number of workers with ``reading_s`` of the clips, ``training_s``, mean number of busy ``cores`` in
        training, and ``gain`` in training over a single worker.

    Raises
    ------
    TableError
        As for `train`.
    PlanError
        As for `train`.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> plan = barn_owl.Plan(classifier="nearest", background=["still"], pooling={"windows": 200})
    >>> barn_owl.runs.measure_training(clips, plan, most_workers=1)["workers"].tolist()
    [1]
    """
    clips, plan = as_clip_table(clips), as_plan(plan)
    plan = plan or suggest_plan(clips).plan
    short = plan.but(training={"epochs": EPOCHS, "refit": 0}, rehearsal={"minutes": 0})
    sided = with_splits(usable_clips(clips, short), short)
    rows = []
    for workers in range(1, (most_workers or usable_cores()) + 1):
        work = Work(workers=workers, force=True)
        begin = time.perf_counter()
        with read_clips(sided, short, work) as data, temporary_folder() as folder:
            read = time.perf_counter()
            with cores_busy() as busy:
                fit_into(folder, short, data, work)
                rows.append(
                    {
                        "workers": workers,
                        "reading_s": read - begin,
                        "training_s": time.perf_counter() - read,
                        "cores": busy(),
                    }
                )
    table = pd.DataFrame(rows)
    return table.assign(gain=table["training_s"].iloc[0] / table["training_s"])
