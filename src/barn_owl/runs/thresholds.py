"""Thresholds and decoding settings, stored in the model of a finished run."""

from dataclasses import replace
from pathlib import Path

from barn_owl.clips import write_clip_table
from barn_owl.errors import ModelError, TableError
from barn_owl.evaluate import PredictionArrays, fit_thresholds
from barn_owl.evaluate.predictions import say
from barn_owl.files import is_file, is_folder
from barn_owl.learn import Plan, read_plan, write_plan
from barn_owl.learn.plan import ThresholdSettings
from barn_owl.model import DecodingSettings, Model, load_model
from barn_owl.runs.run import Run, judge


def with_thresholds(model: Model, answers: PredictionArrays, settings: ThresholdSettings) -> Model:
    """Return the model with thresholds for a target, from predictions of held-out clips."""
    return replace(
        model,
        thresholds=fit_thresholds(answers, settings.target, settings.value) if settings.target != "none" else {},
    )


def set_thresholds(run: Run, settings: ThresholdSettings) -> Run:
    """Find thresholds on the validation split of a run and store them in its model, plan and predictions.

    Parameters
    ----------
    run : Run
        Run.
    settings : ThresholdSettings
        Target of the thresholds.

    Returns
    -------
    Run
        The run as it is now.

    Raises
    ------
    TableError
        If the run has no validation split.

    Examples
    --------
    >>> from barn_owl.learn.plan import ThresholdSettings
    >>> run = barn_owl.runs.set_thresholds(barn_owl.open_run("first"), ThresholdSettings(target="f1"))
    >>> sorted(run.model.thresholds)
    ['hiss', 'hum', 'still', 'tick']
    """
    watched = run.predictions[run.predictions["split"] == "validation"].reset_index(drop=True)
    if not len(watched):
        raise TableError(f"{run.folder} has no validation split to find thresholds on")
    model = with_thresholds(run.model, judge(run.model, watched, "validation").arrays, settings)
    plan = run.plan.but(thresholds=settings.model_dump())
    model.save(run.folder / "model.safetensors", force=True)
    write_plan(plan, run.folder / "plan.toml", force=True)
    write_clip_table(say(model, run.predictions), run.folder / "predictions.csv", force=True)
    return Run(run.folder, run.urls)


def set_decoding(path: str | Path, decoding: DecodingSettings) -> None:
    """Store decoding settings in a model file, or in the model and the plan of a run; `undo_decoding` restores the
    previous settings.

    Parameters
    ----------
    path : str | Path
        Model file, or folder of a run.
    decoding : DecodingSettings
        New decoding settings.

    Raises
    ------
    ModelError
        If it is not a model or a run.
    OutputError
        If it cannot be written.

    Examples
    --------
    >>> barn_owl.runs.set_decoding("first", barn_owl.load_model("first").decoding.but(min_duration_s=0.05))
    >>> barn_owl.load_model("first").decoding.min_duration_s
    0.05
    """
    path, model = Path(path), load_model(path)
    changed = replace(model, decoding=decoding, previous_decoding=model.decoding)
    changed.save(path / "model.safetensors" if is_folder(path) else path, force=True)
    if is_file(path / "plan.toml"):
        values = {**read_plan(path / "plan.toml", urls=True).model_dump(), "decoding": decoding.model_dump()}
        write_plan(Plan(**values), path / "plan.toml", force=True)


def undo_decoding(path: str | Path) -> DecodingSettings:
    """Restore the decoding settings before the last change; return them.

    Parameters
    ----------
    path : str | Path
        Model file, or folder of a run.

    Raises
    ------
    ModelError
        If the model keeps none.

    Examples
    --------
    >>> before = barn_owl.load_model("first").decoding
    >>> barn_owl.runs.set_decoding("first", before.but(min_duration_s=0.2))
    >>> barn_owl.runs.undo_decoding("first") == before
    True
    """
    before = load_model(path).previous_decoding
    if before is None:
        raise ModelError(f"{path} keeps no decoding settings of before: it was not adjusted")
    set_decoding(path, before)
    return before
