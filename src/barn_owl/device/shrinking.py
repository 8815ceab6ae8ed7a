"""Smaller runs: pruned in rounds with training between them, or quantized to int8."""

import time
from contextlib import AbstractContextManager
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pandas as pd

from barn_owl.classifiers.base import Classifier
from barn_owl.classifiers.cnn import Convolutional, networks_in
from barn_owl.classifiers.stages import Stage, all_stages, stages_of
from barn_owl.clips import read_clip_table
from barn_owl.device.cost import footprint
from barn_owl.device.profile import Device, read_device
from barn_owl.device.pruning import pruned
from barn_owl.device.quantizing import quantize
from barn_owl.errors import ModelError
from barn_owl.files import claimed_folder
from barn_owl.learn import Fitted, Plan, fit
from barn_owl.learn.rehearsal import make_rehearsal, rehearse
from barn_owl.model import Model
from barn_owl.network.architecture import NetworkSettings
from barn_owl.runs import Run, Work
from barn_owl.runs.data import RunData, read_clips
from barn_owl.runs.run import RunLike, as_run
from barn_owl.runs.training import fit_into
from barn_owl.runs.work import PLAIN
from barn_owl.runs.writing import write_run
from barn_owl.tables import write_table

ROUNDS = 2
"""Rounds of pruning and training: pruned at once, too much would be lost to be recovered."""
EPOCHS = 6
"""Of each round: most is learned back in the first few."""
RATE_SHARE = 0.5
"""Of the plan's rate, since the network begins near where it was."""
CALIBRATION_CLIPS = 200
"""Clips to find the ranges of values with, drawn evenly over the labels."""
ROUNDS_FILE, CHANNELS_FILE = "rounds.csv", "channels.csv"


@dataclass(frozen=True, kw_only=True)
class Shrunk:
    """Result of shrinking: the run, one row per round (``share``, ``weights``, ``flash_kb`` in int8, ``recall`` and
    ``f1`` of validation mixtures), and ``channels`` before and after, by layer.

    Attributes
    ----------
    run : Run
        Run of the shrunk model.
    rounds : pd.DataFrame
        One row per pruning round.
    channels : pd.DataFrame
        Channels before and after, by layer.

    Examples
    --------
    >>> rounds = pd.DataFrame({"share": [0.5], "flash_kb": [60.0], "recall": [0.8], "f1": [0.7]})
    >>> channels = pd.DataFrame({"layer": [1], "before": [16], "after": [9]})
    >>> shrunk = barn_owl.device.Shrunk(run=barn_owl.open_run("first"), rounds=rounds, channels=channels)
    >>> shrunk.channels["after"].tolist()
    [9]
    """

    run: Run
    rounds: pd.DataFrame
    channels: pd.DataFrame


def shrink(
    run: RunLike, folder: str | Path, *, share: float | None = None, flash_kb: float | None = None, work: Work = PLAIN
) -> Shrunk:
    """Prune channels of the cnn of a run and fine-tune it, in rounds; write the result as a run.

    Parameters
    ----------
    run : Run | str | Path
        Run, or its folder, with a ``cnn``.
    folder : str | Path
        Folder of the new run.
    share : float | None
        Weights that are left at most, 0 to 1.
    flash_kb : float | None
        Or size of code and numbers in int8. Each of several networks is pruned. Each round trains on the training
        split and keeps its best epoch by the validation split; the last continues with both, like any training. The
        initial model was trained on the validation clips, too, so their scores are optimistic; the scores of the test
        split are not.
    work : Work
        Workers, cache, overwriting and progress.

    Raises
    ------
    ModelError
        If the run has no `cnn`, or the size cannot be reached; the message states the reachable size.
    OutputError
        If an output cannot be written.
    TableError
        If a table is invalid.

    Examples
    --------
    >>> run = barn_owl.open_run("network")
    >>> shrunk = barn_owl.shrink(run, "smaller", share=0.6)
    >>> len(shrunk.rounds)
    2
    """
    run = as_run(run)
    model, plan = run.model, run.plan
    whole = _cnn(model.classifier)
    if flash_kb is not None and share is None:
        share = _share_for(model, flash_kb)
    elif share is None or flash_kb is not None:
        raise ModelError("say either which share of the weights is left, or how much flash there is")
    if not 0 < share < 1:
        raise ModelError(f"the share that is left must be above 0 and below 1, got {share:g}")
    pruned(whole, share)  # refused before clips are read, not after
    folder, before = Path(folder), stages_of(whole)[0]
    rows = []
    device = read_device("core-256k")
    with claimed_folder(folder, force=work.force), _data_of(run, work) as data:
        classifier, start = whole, Fitted(classifier=whole, mean=model.mean, deviation=model.deviation)
        for number in range(1, ROUNDS + 1):
            work.begin(f"round {number}", number, ROUNDS + 1)
            first = len(whole.networks[0].vector) / len(classifier.networks[0].vector)
            classifier = pruned(classifier, share ** (number / ROUNDS) * first)
            own = _plan_for(plan, classifier.settings)
            start = _trained(own, data, replace(start, classifier=classifier), work)
            classifier = _cnn(start.classifier)
            rows.append(_row(replace(model, classifier=classifier), device, start, model.cost.weights))
        work.begin("the last training", ROUNDS + 1, ROUNDS + 1)
        beginning = folder / "pruned.safetensors"
        replace(model, classifier=classifier, exemplars=[]).save(beginning, force=True)
        last = _plan_for(plan, classifier.settings).but(
            start={"model": str(beginning)}, training={**plan.training.model_dump(), "exemplars": 0}
        )
        made = fit_into(folder, last, data, work)
    channels = _channels(before, stages_of(classifier)[0])
    table = pd.DataFrame(rows)
    write_table(table, folder / ROUNDS_FILE, force=True)
    write_table(channels, folder / CHANNELS_FILE, force=True)
    return Shrunk(run=made, rounds=table, channels=channels)


def _cnn(classifier: Classifier) -> Convolutional:
    found = networks_in(classifier)
    if found is None:
        raise ModelError(f"only a cnn can be made smaller or brought to int8, this model is a {classifier.name}")
    return found


def _data_of(run: Run, work: Work) -> AbstractContextManager[RunData]:
    return read_clips(read_clip_table(run.folder / "clips.csv", urls=run.urls), run.plan, work)


def _share_for(model: Model, flash_kb: float) -> float:
    """Share of the weights with which code and numbers fit in int8."""
    device = read_device("core-256k")
    taken = footprint(model, device).flash_int8
    weights = model.cost.weights
    share = 1 - (taken - flash_kb * 1024) / weights
    if share >= 1:
        raise ModelError(f"the model takes {taken / 1024:.0f} kB in int8 already, which is within {flash_kb:g}")
    if share <= 0:
        raise ModelError(
            f"{flash_kb:g} kB of flash cannot hold it: code and tables alone take {(taken - weights) / 1024:.0f} kB"
        )
    return share


def _plan_for(plan: Plan, settings: NetworkSettings) -> Plan:
    return plan.but(
        cnn=settings.model_dump(), start={"model": "", "frozen": 0, "rate_share": RATE_SHARE},
        training={"epochs": EPOCHS},
    )  # fmt: skip


def _trained(plan: Plan, data: RunData, start: Fitted, work: Work) -> Fitted:
    """Train a pruned classifier on, keeping the epoch that does best on the validation split."""
    splits = data.examples(plan, data.extra_columns(plan))
    found = fit(plan, data.labels, *splits, workers=work.workers, watch=work.watch, start=start)
    if found.interrupted:
        raise KeyboardInterrupt
    return found


def _row(model: Model, device: Device, fitted: Fitted, before: int) -> dict[str, float]:
    size = footprint(model, device)
    weights = model.cost.weights
    return {
        "share": round(weights / before, 3), "weights": weights, "flash_kb": round(size.flash_int8 / 1024, 1),
        "recall": fitted.best.validation_recall, "f1": fitted.best.validation_f1,
    }  # fmt: skip


def _channels(before: list[Stage], after: list[Stage]) -> pd.DataFrame:
    """Channels of each convolution of the first network: ``layer``, ``before``, ``after``."""
    pairs = zip(all_stages(before), all_stages(after), strict=True)
    kept = [(one.out[1], other.out[1]) for one, other in pairs if one.kernel is not None][:-1]
    rows = [{"layer": number, "before": one, "after": other} for number, (one, other) in enumerate(kept, start=1)]
    return pd.DataFrame(rows)


def quantize_run(run: RunLike, folder: str | Path, *, work: Work = PLAIN) -> Run:
    """Quantize the cnn of a run to int8, evaluate and rehearse it, and write it as a run.

    The ranges of all values are found on its training clips.

    Parameters
    ----------
    run : Run | str | Path
        Run with a `cnn`.
    folder : str | Path
        Folder to write to.
    work : Work
        Workers, cache and progress callbacks.

    Raises
    ------
    ModelError
        If the run is no cnn or has none.

    Examples
    --------
    >>> run = barn_owl.open_run("network")
    >>> barn_owl.device.quantize_run(run, "rounded").model.classifier.name
    'int8'
    """
    run = as_run(run)
    begin, model, plan = time.perf_counter(), run.model, run.plan
    _cnn(model.classifier)
    folder = Path(folder)
    with claimed_folder(folder, force=work.force), _data_of(run, work) as data:
        rows = np.flatnonzero(data.table["split"] == "train")
        turn = data.table.iloc[rows].groupby("label").cumcount().to_numpy()
        chosen = rows[np.argsort(turn, kind="stable")][:CALIBRATION_CLIPS]
        made = quantize(model, data.frames.take(chosen))
        fitted = Fitted(classifier=made.classifier, mean=made.mean, deviation=made.deviation)
        validation = data.table[data.table["split"] == "validation"].reset_index(drop=True)
        same = plan.but(rehearsal={"decide": False})
        rehearsal = make_rehearsal(same, validation) if plan.rehearsal.minutes and len(validation) else None
        rehearsed = None if rehearsal is None else rehearse(made, same, [(made, rehearsal)])
        return write_run(folder, plan, data, made, fitted, begin, rehearsed=rehearsed)
