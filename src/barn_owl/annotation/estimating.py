"""Precision and recall of an archive, estimated from a random sample, with credible intervals.

The precision of a stratum has a beta posterior with Jeffreys' prior (L. Brown, T. Cai, A. DasGupta, "Interval
Estimation for a Binomial Proportion", Statistical Science 16, 2001). Labels of events that were not reviewed are
drawn from it; reviewed events count as they are, so the interval closes when all events are reviewed.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd

from barn_owl.annotation.items import EVENT, STRETCH
from barn_owl.annotation.reviews import ReviewAnswer, item_keys
from barn_owl.clips.table import TableOrPath, as_clip_table, require_columns
from barn_owl.evaluate.intervals import LEVEL

ROUNDS = 4000
PRIOR = 0.5
"""Of Jeffreys' prior."""
ALL = "all"


@dataclass(frozen=True, kw_only=True)
class Estimate:
    """Estimated quality of the events of an archive.

    Columns: ``events`` in the archive, number of ``reviewed`` events, ``precision`` and ``recall`` with the ends of
    their intervals, ``_low`` and ``_high``; NaN where unknown.

    Attributes
    ----------
    table : pd.DataFrame
        One row per label.
    stretches : int
        Pieces without an event that were reviewed.
    unsure : int
        Number of answers "unsure".

    Examples
    --------
    >>> items = barn_owl.annotation.review_items(barn_owl.read_events("events.csv"), ["night.wav"], stretches=2)
    >>> keys = [item_key(item) for item in items.to_dict("records")]
    >>> answers = {key: barn_owl.annotation.ReviewAnswer(item=key, verdict="wrong") for key in keys}
    >>> float(barn_owl.annotation.estimate_quality(items, answers).table.loc["all", "precision_high"])
    0.0
    """

    table: pd.DataFrame
    stretches: int
    unsure: int


def estimate_quality(
    items: TableOrPath, answers: dict[str, ReviewAnswer], *, rounds: int = ROUNDS, seed: int = 0, level: float = LEVEL
) -> Estimate:
    """Estimate precision and recall of all events from the answers to a random sample.

    Of each stratum, only the answered beginning of its random order counts, since later items may have been chosen
    for a reason, such as uncertainty. Recall is NaN where no reviewed stretch has a missed sound. A sound counts as
    missed when it begins in a stretch without an event, but not when it begins within an event of a different label.

    Parameters
    ----------
    items : pd.DataFrame | str | Path
        Items of `review_items`.
    answers : dict[str, ReviewAnswer]
        Answers by the key of their item.
    rounds : int
        Random draws for the intervals.
    seed : int
        Seed of all random choices.
    level : float
        Confidence level of the intervals.
    """
    items = as_clip_table(items, "items")
    require_columns(items, ("kind", "draw", "stratum", "score"), "items")
    given = [answers.get(key) for key in item_keys(items)]
    return estimate_from(items, given, rounds=rounds, seed=seed, level=level)


def estimate_from(
    items: pd.DataFrame,
    given: Sequence[ReviewAnswer | None],
    *,
    rounds: int = ROUNDS,
    seed: int = 0,
    level: float = LEVEL,
) -> Estimate:
    """Estimate as `estimate_quality` does, from the answer to each item, or None.

    Parameters
    ----------
    items : pd.DataFrame
        Items of `review_items`.
    given : Sequence[ReviewAnswer | None]
        Answer to each item, None where there is none.
    rounds : int
        Random draws for the intervals.
    seed : int
        Seed of all random choices.
    level : float
        Confidence level of the intervals.
    """
    rng = np.random.default_rng(seed)
    items = items.assign(answer=given)
    sampled = _random_beginning(items)
    labels = sorted(set(items.loc[items["kind"] == EVENT, "label"]) | _named(sampled))
    number = {label: at for at, label in enumerate(labels)}
    count = len(labels)
    # Events of each label that are truly of each label, in the whole archive: point and rounds.
    point, drawn = np.zeros((count, count)), np.zeros((rounds, count, count))
    known = dict(list(sampled[sampled["kind"] == EVENT].groupby("stratum")))
    events = items[items["kind"] == EVENT]
    means = _means(known, number)
    for stratum, own in events.groupby("stratum"):
        row, total = number[own["label"].iloc[0]], len(own)
        counted = _truths(known.get(stratum), number)
        share = counted / counted.sum() if counted.sum() else means[row]
        point[row] += (share * total)[:count]
        drawn[:, row] += _drawn_truths(rng, counted, row, total, rounds)[:, :count]
    missed, missed_rounds = _missed(items, sampled, number, rng, rounds)
    table = _table(events, sampled, labels, (point, drawn), (missed, missed_rounds), level)
    answered = [answer for answer in given if answer is not None]
    return Estimate(
        table=table, stretches=int((sampled["kind"] == STRETCH).sum()),
        unsure=sum(answer.verdict == "unsure" for answer in answered),
    )  # fmt: skip


def _random_beginning(items: pd.DataFrame) -> pd.DataFrame:
    """Items up to the first unanswered one of their stratum, except those answered "unsure"."""
    parts = []
    for _, own in items.sort_values("draw").groupby("stratum"):
        open_ = own["answer"].isna().to_numpy()
        parts.append(own.iloc[: int(open_.argmax()) if open_.any() else len(own)])
    if not parts:
        return items.iloc[:0]
    begun = pd.concat(parts)
    return begun[np.array([answer.verdict != "unsure" for answer in begun["answer"]], dtype=bool)]


def _named(sampled: pd.DataFrame) -> set[str]:
    return {label for answer in sampled["answer"] for label, _, _ in answer.sounds}


def _truths(own: pd.DataFrame | None, number: dict[str, int]) -> np.ndarray:
    """How many of reviewed events are truly of each label, and last of none."""
    counted = np.zeros(len(number) + 1)
    for answer in [] if own is None else own["answer"]:
        counted[number[answer.sounds[0][0]] if answer.verdict in ("right", "other") else -1] += 1
    return counted


def _means(known: dict[str, pd.DataFrame], number: dict[str, int]) -> np.ndarray:
    """Return the true labels of reviewed events by reported label, as shares; NaN without reviewed events."""
    counted = np.zeros((len(number), len(number) + 1))
    for own in known.values():
        counted[number[own["label"].iloc[0]]] += _truths(own, number)
    with np.errstate(invalid="ignore"):
        return counted / counted.sum(axis=1, keepdims=True)


def _drawn_truths(rng: np.random.Generator, counted: np.ndarray, row: int, total: int, rounds: int) -> np.ndarray:
    """Draw true labels of the `total` events of a stratum, ``(rounds, labels + 1)``; reviewed events are fixed."""
    reviewed = counted.sum()
    right = rng.beta(counted[row] + PRIOR, reviewed - counted[row] + PRIOR, rounds)
    others = counted + PRIOR / len(counted)
    others[row] = 1e-9
    # Gammas over their sum are a draw of Dirichlet's distribution.
    rest = rng.gamma(others, size=(rounds, len(others)))
    rest *= ((1 - right) / rest.sum(axis=1))[:, None]
    rest[:, row] = right
    return counted + rng.multinomial(int(total - reviewed), rest / rest.sum(axis=1, keepdims=True))


def _missed(
    items: pd.DataFrame, sampled: pd.DataFrame, number: dict[str, int], rng: np.random.Generator, rounds: int
) -> tuple[np.ndarray, np.ndarray]:
    """Sounds of each label that were missed in all stretches: point and rounds; NaN where no stretch was reviewed."""
    everywhere, own = items[items["kind"] == STRETCH], sampled[sampled["kind"] == STRETCH]
    counts = np.zeros((len(own), len(number)))
    for at, (answer, start_s, end_s) in enumerate(zip(own["answer"], own["start_s"], own["end_s"], strict=True)):
        for label, begins_s, _ in answer.sounds:
            counts[at, number[label]] += start_s <= begins_s < end_s
    if not len(everywhere):
        return np.full(len(number), np.nan), np.full((rounds, len(number)), np.nan)
    total = int(everywhere["of"].iloc[0])
    if not len(own):
        return np.full(len(number), np.nan), np.full((rounds, len(number)), np.nan)
    found, left = counts.sum(axis=0), total - len(own)
    # A stretch contains a label or not; if so, with as many sounds as the reviewed stretches that contain it.
    holding = (counts > 0).sum(axis=0)
    each = np.where(holding, found / np.maximum(holding, 1), 1.0)
    share = rng.beta(holding + PRIOR / max(len(number), 1), len(own) - holding + PRIOR, (rounds, len(number)))
    return found / len(own) * total, found + each * rng.binomial(left, share)


def _table(
    events: pd.DataFrame,
    sampled: pd.DataFrame,
    labels: list[str],
    truths: tuple[np.ndarray, np.ndarray],
    missed: tuple[np.ndarray, np.ndarray],
    level: float,
) -> pd.DataFrame:
    (point, drawn), (lost, lost_rounds) = truths, missed
    reviewed = sampled[sampled["kind"] == EVENT]["label"].value_counts()
    every = events["label"].value_counts()
    rows = []
    for label, at in [*((label, [number]) for number, label in enumerate(labels)), (ALL, list(range(len(labels))))]:
        right = point[at, at].sum(), drawn[:, at, at].sum(axis=1)
        there = point[:, at].sum() + lost[at].sum(), drawn[:, :, at].sum(axis=(1, 2)) + lost_rounds[:, at].sum(axis=1)
        own = sum(int(every.get(labels[one], 0)) for one in at)
        row = {"label": label, "events": own, "reviewed": sum(int(reviewed.get(labels[one], 0)) for one in at)}
        for name, whole in (("precision", (own, np.full(len(drawn), own))), ("recall", there)):
            row |= _ratio(name, right, whole, level)
        rows.append(row)
    return pd.DataFrame(rows).set_index("label")


def _ratio(
    name: str, part: tuple[float, np.ndarray], whole: tuple[float, np.ndarray], level: float
) -> dict[str, float]:
    with np.errstate(invalid="ignore", divide="ignore"):
        point, rounds = np.float64(part[0]) / whole[0], part[1] / whole[1]
    if not np.isfinite(point):
        return dict.fromkeys((name, f"{name}_low", f"{name}_high"), np.nan)
    rounds = rounds[np.isfinite(rounds)]
    low, high = np.quantile(rounds, [(1 - level) / 2, (1 + level) / 2]) if len(rounds) else (np.nan, np.nan)
    return {name: point, f"{name}_low": min(low, point), f"{name}_high": max(high, point)}
