"""Calibration on validation clips: temperature, thresholds, and expected performance on recordings."""

from dataclasses import replace
from functools import partial

import numpy as np
import pandas as pd

from barn_owl.classifiers.cnn import networks_in
from barn_owl.evaluate import fit_temperature
from barn_owl.evaluate.calibration import at_temperature
from barn_owl.evaluate.predictions import ClipOutputs, clip_outputs, with_predictions
from barn_owl.learn import Fitted, Plan
from barn_owl.learn.rehearsal import Rehearsed, make_rehearsal, rehearse
from barn_owl.learn.sharing import shared
from barn_owl.model import Model
from barn_owl.runs.data import RunData, label_names
from barn_owl.runs.run import judge
from barn_owl.runs.thresholds import with_thresholds


def unheard_parts(model: Model, data: RunData, fitted: Fitted) -> list[tuple[Model, np.ndarray]]:
    """Parts of the validation clips, as rows of the table, each with a model that has not trained on it.

    If each network had a held-out part, the part of that network; else the whole model.
    """
    rows = np.flatnonzero(data.table["split"] == "validation")
    classifier = networks_in(model.classifier)
    if classifier is None or not len(fitted.held_out):
        return [(model, rows)] if len(rows) else []
    parts = fitted.held_out[: len(rows)]
    return [
        (replace(model, classifier=classifier.part(int(number))), rows[parts == number])
        for number in np.unique(parts)
    ]


def calibrated(
    model: Model, plan: Plan, data: RunData, parts: list[tuple[Model, np.ndarray]]
) -> tuple[Model, pd.DataFrame | None]:
    """Fit the temperature, and the thresholds that the plan wishes for, on the validation split.

    parts : the clips of it, by `unheard_parts`. Returns the model with what was found, and the predictions for that
    side by models that have not trained on it; None where it is empty.
    """
    if not parts:
        return model, None
    rows = np.sort(np.concatenate([own for _, own in parts]))
    table, frames = data.table.iloc[rows], data.frames.take(rows)
    found = ClipOutputs(
        *(np.empty((len(rows), *size), dtype=np.float32) for size in ((len(model.labels),), (0,), ()))
    )
    for part, own in parts:
        outputs, at = clip_outputs(part, data.table.iloc[own], data.frames.take(own)), np.searchsorted(rows, own)
        found.logits[at], found.highest[at] = outputs.logits, outputs.highest
    answers = judge(model, with_predictions(model, table, frames, found), "validation").arrays
    temperature = fit_temperature(answers.scores, answers.truth, multilabel=model.multilabel)
    model = replace(model, temperature=temperature)
    scores = at_temperature(answers.scores, temperature, multilabel=model.multilabel)
    model = with_thresholds(model, replace(answers, scores=scores), plan.thresholds)
    return model, with_predictions(model, table, frames, found)


def rehearsal_of(model: Model, plan: Plan, data: RunData, parts: list[tuple[Model, np.ndarray]]) -> Rehearsed | None:
    """Rehearse a recording of the validation clips, each part with the networks that were not trained on it.

    None where the plan has no rehearsal or there are too few clips; also where most labels have exemplars only, since
    it would not test them.
    """
    watched = data.table[data.table["split"] == "validation"].reset_index(drop=True)
    if not plan.rehearsal.minutes or plan.kind.is_baseline or not len(watched):
        return None
    if data.exemplars and len(set(label_names(watched, plan.but(start={"model": ""})))) <= len(data.labels) / 2:
        return None
    own = plan.but(rehearsal={"minutes": plan.rehearsal.minutes / len(parts)})
    made = []
    for part, rows in parts:
        make = partial(make_rehearsal, own, data.table.iloc[rows].reset_index(drop=True))
        rehearsal = shared(make, data.memo, own, rows.tobytes())
        if rehearsal is not None:
            made.append((part, rehearsal))
    return rehearse(model, plan, made) if made else None
