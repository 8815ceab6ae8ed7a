"""Several trainings on the same clips: classifiers, seeds, folds, and ensembles."""

import time
from collections.abc import Mapping, Sequence
from contextlib import nullcontext
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from barn_owl.classifiers.ensemble import Ensemble
from barn_owl.classifiers.kind import kind_of, names
from barn_owl.clips import fold_clips, splits_of_fold, write_clip_table
from barn_owl.clips.splits import SPLITS
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import ModelError, TableError
from barn_owl.evaluate.predictions import clip_outputs, with_predictions
from barn_owl.files import claim_folder, claimed_folder, is_file, real_path, write_json
from barn_owl.learn import Fitted, Plan, fit
from barn_owl.learn.plan import PlanLike, as_plan
from barn_owl.model import Model
from barn_owl.parallel import each, on_cluster
from barn_owl.runs.data import RunData, read_clips, usable_clips, with_splits
from barn_owl.runs.resuming import find_checkpoint, is_finished, plan_of_run
from barn_owl.runs.run import EMBEDDINGS, Run, judge
from barn_owl.runs.suggest import suggest_plan
from barn_owl.runs.training import fit_into, fitted_model
from barn_owl.runs.work import PLAIN, Work
from barn_owl.runs.writing import write_run
from barn_owl.tables import write_table


def train_classifiers(
    clips: TableOrPath,
    folder: str | Path,
    plan: PlanLike | None = None,
    *,
    classifiers: Sequence[str] | None = None,
    front_ends: Sequence[Sequence[str]] = (),
    estimators: Mapping[str, Any] | None = None,
    resume: bool = False,
    work: Work = PLAIN,
) -> pd.DataFrame:
    """Train several classifiers on the same clips and split, as runs in `folder`, and rank them.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    folder : str | Path
        Folder for the runs of the classifiers.
    plan : Plan | Mapping[str, Any] | str | Path | None
        Plan, its settings, or its path. Default: a suggested plan.
    classifiers : Sequence[str] | None
        Names of classifiers. Default: all.
    front_ends : Sequence[Sequence[str]]
        Stacks of features, such as ``["log-mel"]`` and ``["mfcc", "chroma"]``, each combined with each classifier.
        Default: the features of the plan.
    estimators : Mapping[str, Any] | None
        Third-party classifiers by name, with ``fit`` and ``predict_proba``; they are trained and ranked on the same
        pooled features, without runs. Extra columns of the plan are used by pooled classifiers.
    resume : bool
        Continue a stopped training: finished runs stay, networks continue from their checkpoints.
    work : Work
        Workers, cache, overwriting and progress.

    Returns
    -------
    pd.DataFrame
        The ranking, also in ``classifiers.csv``: runs with balanced accuracy and F1 on the validation split (by which
        they are ranked) and on the test split, number of weights, multiply-adds per second, seconds. On Ctrl-C
        finished runs are ranked and written, then KeyboardInterrupt is raised.

    Raises
    ------
    TableError
        As for `train`.
    PlanError
        As for `train`.
    OutputError
        As for `train`.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> classifiers = ["majority", "nearest"]
    >>> quick = {"pooling": {"windows": 200}, "rehearsal": {"minutes": 0}}
    >>> plan = barn_owl.Plan(background=["still"], **quick)
    >>> ranking = barn_owl.train_classifiers(clips, "classifiers", plan, classifiers=classifiers)
    >>> ranking["classifier"].tolist()
    ['nearest', 'majority']
    >>> barn_owl.save_figure(barn_owl.show.classifiers_figure(ranking), "classifiers.png")
    """
    clips, plan = as_clip_table(clips), as_plan(plan)
    plan = plan or suggest_plan(clips).plan
    placed = with_splits(usable_clips(clips, plan), plan)
    classifiers = names() if classifiers is None else classifiers
    folder, third_party = Path(folder), dict(estimators or {})
    rows: list[dict[str, Any]] = []
    stacks = [list(features) for features in front_ends] or [plan.front_end.features]
    total = len(stacks) * (len(classifiers) + len(third_party))
    try:
        with claimed_folder(folder, force=work.force or resume):
            for features in stacks:
                stacked = plan.but(front_end={"features": features})
                ending = f" {'+'.join(features)}" if front_ends else ""
                with read_clips(placed, stacked, work) as read:
                    data = replace(read, memo={})
                    for name in [*classifiers, *third_party]:
                        work.begin(name + ending, len(rows) + 1, total)
                        if name in third_party:
                            row = _adapted_estimator(name, stacked, data, third_party[name], work.workers)
                        else:
                            columns = [] if kind_of(name).sees_frames else plan.columns
                            its_plan = stacked.but(classifier=name, columns=columns)
                            target = folder / (name + ending).replace(" ", "-")
                            run = _fitted_or_found(target, its_plan, data, work, resume=resume)
                            row = _ranked(name, run.model, run.predictions, run.provenance["seconds"])
                        rows.append({"run": (name + ending).replace(" ", "-"), **row, "features": "+".join(features)})
    except KeyboardInterrupt:
        if rows:
            _rank(rows, folder)
        raise
    return _rank(rows, folder)


def _rank(rows: list[dict[str, Any]], folder: Path) -> pd.DataFrame:
    """Sort runs by their scores on the validation split, and write the table."""
    ranking = pd.DataFrame(rows).sort_values(
        ["validation_balanced_accuracy", "validation_f1"], ascending=False, kind="stable", ignore_index=True
    )
    write_table(ranking, folder / "classifiers.csv", force=True)
    return ranking


def train_subsets(
    clips: TableOrPath,
    folder: str | Path,
    plan: PlanLike | None = None,
    *,
    subsets: Sequence[float],
    work: Work = PLAIN,
) -> pd.DataFrame:
    """Train on subsets of the training split, then on all of it, to see whether more clips would help.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    folder : str | Path
        Folder to write to.
    plan : Plan | Mapping[str, Any] | str | Path | None
        Plan.
    subsets : Sequence[float]
        Shares of the training clips up to 1, or their numbers. The same share of each label is drawn; smaller subsets
        are within larger ones, validation and test are the same for all. Runs are in `folder`, ``clips-50`` and so
        on.
    work : Work
        Workers, cache and progress callbacks.

    Returns
    -------
    pd.DataFrame
        A row for each subset with its number of training clips, balanced accuracy and F1 of validation and test, and
        event F1 in the rehearsal; also in ``subsets.csv``.

    Raises
    ------
    TableError
        For a subset that is neither a share nor a number.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> quick = {"pooling": {"windows": 200}, "rehearsal": {"minutes": 0}}
    >>> plan = barn_owl.Plan(classifier="nearest", background=["still"], **quick)
    >>> table = barn_owl.runs.train_subsets(clips, "subsets", plan, subsets=[0.5])
    >>> len(table)
    2
    >>> barn_owl.save_figure(barn_owl.show.subsets_figure(table), "subsets.png")
    """
    clips, plan = as_clip_table(clips), as_plan(plan)
    check_subsets(subsets)
    plan = plan or suggest_plan(clips).plan
    placed = with_splits(usable_clips(clips, plan), plan)
    folder, rows = Path(folder), []
    training_count = int((placed["split"] == "train").sum())
    counts = sorted(
        {min(training_count, max(1, round(part * training_count if part <= 1 else part))) for part in (*subsets, 1.0)}
    )
    with claimed_folder(folder, force=work.force), read_clips(placed, plan, work) as data:
        for number, count in enumerate(counts, start=1):
            name = f"clips-{count}"
            work.begin(name, number, len(counts))
            own = data.with_splits(partial(_subset, share=count / training_count, seed=plan.seed))
            run = fit_into(claim_folder(folder / name, force=work.force), plan, own, work)
            row = _ranked(name, run.model, run.predictions, run.provenance["seconds"])
            f1 = (run.expectation or {}).get("event_f1", np.nan)
            rows.append(
                {"run": name, "training_clips": run.model.provenance["training_clips"], **row, "event_f1": f1}
            )
    table = pd.DataFrame(rows).drop(columns="classifier")
    write_table(table, folder / "subsets.csv", force=True)
    return table


def check_subsets(subsets: Sequence[float]) -> None:
    """Raise TableError for subsets of the clips that are neither a share nor a number.

    Parameters
    ----------
    subsets : Sequence[float]
        Shares (0 to 1) or numbers of training clips.

    Raises
    ------
    TableError
        If a subset is neither a share nor a number of clips.
    """
    wrong = [part for part in subsets if not (0 < part <= 1 or (part > 1 and float(part).is_integer()))]
    if wrong:
        raise TableError(f"a subset of the clips is a share up to 1 or a whole number of clips, got {wrong[0]:g}")


def _subset(clips: pd.DataFrame, share: float, seed: int) -> pd.DataFrame:
    """Keep a share of the training clips of each label, at least one clip; the rest gets no split."""
    train = clips[clips["split"] == "train"]
    place = train.groupby("label")["file"].transform(
        lambda own: np.random.default_rng([seed, len(own)]).permutation(len(own))
    )
    size = train.groupby("label")["file"].transform("size")
    left_out = train.index[place >= np.maximum(1, np.round(share * size))]
    return clips.assign(split=clips["split"].mask(clips.index.isin(left_out), ""))


def _fitted_or_found(folder: Path, plan: Plan, data: RunData, work: Work, *, resume: bool) -> Run:
    """Fit a classifier into a run; with `resume`, reuse or continue an existing run."""
    checkpoint = None
    if resume and is_file(folder / "plan.toml"):
        plan_of_run(folder, plan)
        checkpoint = find_checkpoint(folder, data.requested)
        if checkpoint is None and is_finished(folder):
            return Run(folder)
    claim_folder(folder, force=True)
    return fit_into(folder, plan, data, work, checkpoint=checkpoint)


def _adapted_estimator(name: str, plan: Plan, data: RunData, estimator: Any, workers: int) -> dict[str, Any]:
    """Fit and rank a third-party estimator on the rows of the pooled classifiers."""
    begin, pooled = time.perf_counter(), plan.but(classifier="logistic")
    extra_columns = data.extra_columns(pooled)
    splits = data.examples(pooled, extra_columns)
    fitted = fit(pooled, data.labels, *splits, workers=workers, estimator=estimator)
    model = fitted_model(plan, data, fitted, extra_columns)
    outputs = clip_outputs(model, data.table, data.frames)
    predictions = with_predictions(model, data.table, data.frames, outputs)
    return _ranked(name, model, predictions, time.perf_counter() - begin)


def _ranked(name: str, model: Model, predictions: pd.DataFrame, seconds: float) -> dict[str, Any]:
    row: dict[str, Any] = {"classifier": name}
    for split in ("validation", "test"):
        chosen = predictions[predictions["split"] == split].reset_index(drop=True)
        scores = judge(model, chosen, split).scores if len(chosen) else None
        row[f"{split}_balanced_accuracy"] = np.nan if scores is None else scores.balanced_accuracy
        row[f"{split}_f1"] = np.nan if scores is None else scores.macro_f1
    cost = model.cost
    return row | {"weights": cost.weights, "multiply_adds": cost.multiply_adds, "seconds": round(seconds, 2)}


def train_several(
    clips: TableOrPath,
    folder: str | Path,
    plan: PlanLike | None = None,
    *,
    seeds: int | None = None,
    folds: int | None = None,
    ensemble: bool = False,
    work: Work = PLAIN,
) -> pd.DataFrame:
    """Train with several seeds on a split, or cross-validate over folds; report the spread of the results.

    Runs are in `folder`, ``seed-0`` and so on, or ``fold-1``.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    folder : str | Path
        Folder for the runs of the seeds or folds.
    plan : Plan | Mapping[str, Any] | str | Path | None
        Plan, its settings, or its path. Default: a suggested plan.
    seeds : int | None
        Number of trainings with different seeds.
    folds : int | None
        Number of folds for cross-validation, instead of `seeds`.
    ensemble : bool
        Write a further run, to `folder` itself: a model that averages the scores of all. With seeds it is evaluated
        on the common test split. With folds its predictions are from the member that was not trained on the clip, so
        they are unbiased, if a little worse than the ensemble itself.
    work : Work
        Workers, cache, overwriting and progress.

    Returns
    -------
    pd.DataFrame
        A row for each training with the balanced accuracy and F1 of its validation and test split, also in
        ``spread.csv``, with the mean and the deviation in ``spread.json``.

    Raises
    ------
    TableError
        If there are fewer groups than folds.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> quick = {"pooling": {"windows": 200}, "rehearsal": {"minutes": 0}}
    >>> plan = barn_owl.Plan(classifier="nearest", background=["still"], **quick)
    >>> barn_owl.train_several(clips, "several", plan, seeds=2)["training"].tolist()
    ['seed-0', 'seed-1']
    """
    clips, plan = as_clip_table(clips), as_plan(plan)
    if (seeds is None) == (folds is None):
        raise TableError("say either how many seeds or how many folds")
    plan = plan or suggest_plan(clips).plan
    usable = usable_clips(clips, plan)
    if folds is not None and folds < len(SPLITS):
        raise TableError(
            f"at least {len(SPLITS)} folds are needed: one tests, one validates, the rest train; got {folds}"
        )
    placed = (
        with_splits(usable, plan) if folds is None else fold_clips(usable, folds, seed=plan.seed, shares=plan.split)
    )
    folder, begin = real_path(folder), time.perf_counter()
    total = seeds or folds or 0
    names = [f"seed-{plan.seed + n}" if folds is None else f"fold-{n + 1}" for n in range(total)]
    train_one = partial(_one_of_several, plan=plan, folder=folder, folds=folds is not None, force=work.force)
    runs: list[Run] = []
    # On this machine, trainings share frames that are read once; on a cluster, each reads its clips, on a core each.
    shared = nullcontext() if on_cluster() else read_clips(placed, plan, work)
    with claimed_folder(folder, force=work.force), shared as data:
        if data is None:
            train_remotely = partial(
                _train_on_worker, train_one=train_one, placed=placed, cache=work.cache and Path(work.cache).absolute()
            )
            for number, target in enumerate(each(train_remotely, range(total), 1)):
                work.begin(names[number], number + 1, total)
                runs.append(Run(target))
        else:
            for number in range(total):
                work.begin(names[number], number + 1, total)
                runs.append(train_one(number, data=data, work=work))
        if ensemble:
            with nullcontext(data) if data is not None else read_clips(placed, plan, work) as own:
                _write_ensemble(folder, plan, own, runs, begin, folds=folds is not None)
    rows = [
        _ranked(name, run.model, run.predictions, run.provenance["seconds"])
        for name, run in zip(names, runs, strict=True)
    ]
    table = pd.DataFrame(rows).rename(columns={"classifier": "training"})
    write_table(table, folder / "spread.csv", force=True)
    write_json(folder / "spread.json", spread(table))
    return table


def _one_of_several(
    number: int, *, plan: Plan, folder: Path, folds: bool, force: bool, data: RunData, work: Work
) -> Run:
    """Train with a seed, or with a fold as the test split."""
    name = f"fold-{number + 1}" if folds else f"seed-{plan.seed + number}"
    own = data.with_splits(partial(splits_of_fold, fold=number + 1)) if folds else data
    its_plan = plan if folds else plan.but(seed=plan.seed + number)
    return fit_into(claim_folder(folder / name, force=force), its_plan, own, work)


def _write_ensemble(folder: Path, plan: Plan, data: RunData, runs: list[Run], begin: float, *, folds: bool) -> None:
    """Write a run with a model that averages the scores of all."""
    together = ensemble_of([run.model for run in runs])
    fitted = Fitted(classifier=together.classifier, mean=together.mean, deviation=together.deviation)
    own = data.with_splits(lambda table: table.assign(split="train")) if folds else data
    run = write_run(folder, plan, own, together, fitted, begin)
    if folds:
        unseen = [one.predictions[one.predictions["split"] == "test"] for one in runs]
        write_clip_table(pd.concat(unseen, ignore_index=True), folder / "predictions.csv", force=True)
        (folder / EMBEDDINGS).unlink()  # its rows are in another order, and were trained on
        write_json(folder / "scores.json", {"test": run.evaluate().as_dict()})


def _train_on_worker(number: int, *, train_one: partial[Run], placed: pd.DataFrame, cache: str | Path | None) -> Path:
    """Train on a worker of a cluster, which reads the clips itself; return the folder of the run."""
    work = Work(workers=1, cache=cache, force=True)
    with read_clips(placed, train_one.keywords["plan"], work) as data:
        return train_one(number, data=data, work=work).folder


def spread(table: pd.DataFrame) -> dict[str, dict[str, float]]:
    """Mean and deviation (of the sample) of each score over the trainings."""
    scores = [name for name in table if name.startswith(("validation_", "test_")) and table[name].notna().all()]
    return {
        name: {
            "mean": float(table[name].mean()),
            "deviation": float(table[name].std(ddof=1)) if len(table) > 1 else 0.0,
        }
        for name in scores
    }


def ensemble_of(models: Sequence[Model]) -> Model:
    """Combine several models into an ensemble that averages their scores.

    Parameters
    ----------
    models : Sequence[Model]
        Models with the same labels and front end.

    Raises
    ------
    ModelError
        If their labels, front ends or clip settings differ.

    Examples
    --------
    >>> model = barn_owl.load_model("first")
    >>> barn_owl.runs.ensemble_of([model, model]).classifier.name
    'ensemble'
    """
    if not len(models):
        raise ModelError("models must hold one model or more")
    first = models[0]
    for model in models[1:]:
        for what in ("labels", "front_end", "clips", "multilabel", "extra_columns"):
            if getattr(model, what) != getattr(first, what):
                raise ModelError(f"the models cannot be one: their {what} differ")
    members = [(model.classifier, model.mean, model.deviation) for model in models]
    width = first.front_end.width
    return replace(
        first,
        mean=np.zeros(width, dtype=np.float32),
        deviation=np.ones(width, dtype=np.float32),
        classifier=Ensemble(members),
        temperature=1.0,
        thresholds={},
        provenance=first.provenance | {"members": len(models)},
    )
