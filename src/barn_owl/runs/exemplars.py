"""Exemplars of earlier labels: selecting them for a model, and training on them."""

import numpy as np
import pandas as pd

from barn_owl.clips import labels_in
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.features.activity import total_db
from barn_owl.learn import Plan
from barn_owl.model import Model
from barn_owl.model.exemplars import Exemplar
from barn_owl.network import sigmoid
from barn_owl.runs.data import RunData

MAX_DURATION_S = 2.0
"""Sound that is kept of a clip, around its loudest moment."""


def exemplars_to_keep(plan: Plan, data: RunData) -> list[Exemplar]:
    """Draw a few training clips of each label, and half as many test clips, from as many groups as possible; earlier
    exemplars stay.

    Empty for features that are not log-mel, since only log-mel can be mixed.
    """
    if not plan.training.exemplars or not plan.front_end.is_log_mel:
        return []
    rng, kept = np.random.default_rng(plan.seed), list(data.exemplars)
    for split, wanted in (("train", plan.training.exemplars), ("test", -(-plan.training.exemplars // 2))):
        own, held_out = data.table[data.table["split"] == split], split == "test"
        groups = own["group"] if "group" in own else own["file"]
        for label in data.labels:
            there = sum(label in labels_in(one.label) for one in kept if one.held_out == held_out)
            rows = own.index[[label in labels_in(t) if plan.multilabel else label == t for t in own["label"]]]
            order = pd.Series(rng.permutation(len(rows)), index=rows)
            turn = order.groupby(groups[rows]).rank(method="first")
            chosen = turn.add(order / (len(order) + 1)).sort_values().index[: max(wanted - there, 0)]
            kept += [
                Exemplar(str(own["label"][row]), _loudest(data.frames[int(row)], plan), held_out) for row in chosen
            ]
    return kept


def _loudest(frames: np.ndarray, plan: Plan) -> np.ndarray:
    most = round(MAX_DURATION_S / plan.front_end.hop_s)
    first = int(np.clip(total_db(frames).argmax() - most // 3, 0, max(len(frames) - most, 0)))
    return np.array(frames[first : first + most], dtype=np.float32)


def exemplar_table(before: Model, after: Model, clips: TableOrPath) -> pd.DataFrame:
    """Table of new clips and exemplars by label, and the share of held-out exemplars classified correctly before and
    now.

    Held-out exemplars are test clips of the model before: neither training used them.

    Parameters
    ----------
    before, after : Model
        The models that training began and ended with.
    clips : pd.DataFrame
        Clips of the run, with their splits.

    Examples
    --------
    >>> model = barn_owl.load_model("first")
    >>> clips = barn_owl.open_run("first").predictions
    >>> int(barn_owl.runs.exemplar_table(model, model, clips)["exemplars"].sum())
    0
    """
    clips = as_clip_table(clips, "clips")
    rows = []
    for label in after.labels:
        of_label = [one for one in before.exemplars if label in labels_in(one.label)]
        own = [one for one in of_label if one.held_out]
        new = int(sum(label in labels_in(text) for text in clips.loc[clips["split"] == "train", "label"]))
        recalls = {name: _recall_by_label(model, own, label) for name, model in (("before", before), ("now", after))}
        rows.append(
            {"label": label, "new clips": new, "exemplars": len(of_label) - len(own), "held out": len(own), **recalls}
        )
    return pd.DataFrame(rows)


def _recall_by_label(model: Model, kept: list[Exemplar], label: str) -> float:
    if label not in model.labels or not kept:
        return np.nan
    at, right = model.labels.index(label), []
    for one in kept:
        logits = model.clip(one.frames).logits
        right.append(sigmoid(logits[at]) >= 0.5 if model.multilabel else logits.argmax() == at)
    return float(np.mean(right))
