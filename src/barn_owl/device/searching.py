"""Search for the best front end, classifier and size within the limits of a device.

The first candidate is the plan itself, further candidates change some of its keys at random; candidates that cannot
fit are never trained. They train for a few epochs on a fold of the clips, the better half for twice as long on the
next fold, and so on (successive halving: Jamieson and Talwalkar, "Non-stochastic Best Arm Identification", AISTATS
2016). Then a race begins with changes of the current best (evolution by mutation: Real et al., "Regularized Evolution
for Image Classifier Architecture Search", AAAI 2019), until the time is over. The test split is not used.
"""

import json
import logging
import time
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from barn_owl.classifiers.kind import NetworkKind, kind_of, kinds
from barn_owl.clips import fold_clips
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.device.cost import Footprint, footprint, plain_model
from barn_owl.device.profile import Device
from barn_owl.errors import BarnOwlError, PlanError, TableError
from barn_owl.evaluate.predictions import clip_outputs, with_predictions
from barn_owl.files import claimed_folder, is_file, real_path, write_json
from barn_owl.learn import Fitted, Plan, fit, read_plan
from barn_owl.learn.plan import PlanLike, as_plan
from barn_owl.learn.rehearsal import make_rehearsal, rehearse
from barn_owl.parallel import each, on_cluster
from barn_owl.runs import Work
from barn_owl.runs.data import RunData, label_names, read_clips, usable_clips, with_splits
from barn_owl.runs.run import judge
from barn_owl.runs.suggest import Suggestion, suggest_plan
from barn_owl.runs.training import fitted_model
from barn_owl.runs.work import PLAIN
from barn_owl.tables import write_table

logger = logging.getLogger(__name__)

FOLDS = 4
"""Folds of the training and validation clips; each round of a race is scored on a different fold."""
FIRST, STEPS = 8, 3
"""Candidates of a race, and how often the worse half of them is skipped."""
EPOCHS = 4
"""Epochs of the first round; each further round has twice as many."""
CHANGED = 0.2
"""Probability of redrawing each key when a candidate is changed; at least one key changes."""
FRESH = 0.25
"""Share of candidates where every key is drawn again."""
FRUITLESS, SIMILAR = 500, 50
"""Consecutive draws that do not fit, before giving up; consecutive repeated draws, before accepting a repetition."""
COMMON: dict[str, list[Any]] = {
    "front_end.features": [["log-mel"], ["log-mel"], ["mfcc"], ["log-mel", "deltas"]],
    "front_end.bands": [32, 40, 48, 64],
    "front_end.frame_ms": [25.0, 32.0, 40.0],
    "front_end.hop_ms": [10.0, 12.5, 16.0],
    "mixtures.unknown": [0.3, 0.5],
    "augment.tilt_db": [3.0, 6.0, 9.0],
    "augment.shift_bands": [0.0, 1.0, 2.0],
    "augment.tempo_percent": [5.0, 15.0, 30.0],
    "augment.warp_percent": [0.0, 0.0, 15.0],
}
"""Values drawn for every classifier, by key of the plan."""
TRIED, TABLE, PLAN, STATE = "tried.jsonl", "search.csv", "plan.toml", "search.json"


@dataclass(frozen=True, kw_only=True)
class SearchResult:
    """Result of a search: ``table``, one row per candidate, the best first, and the ``plan`` of the best.

    Attributes
    ----------
    table : pd.DataFrame
        Candidates: sampled settings, scores and cost.
    plan : Plan
        Plan of the best candidate.
    device : Device
        Device.

    Examples
    --------
    >>> table = pd.DataFrame({"candidate": [1, 2], "step": 3, "score": [0.7, 0.8], "flash_kb": [50.0, 90.0]})
    >>> table = table.assign(latency_ms=[600, 700], classifier="cnn")
    >>> device = barn_owl.device.read_device("core-256k")
    >>> found = barn_owl.device.SearchResult(table=table, plan=barn_owl.Plan(), device=device)
    >>> len(found.table)
    2
    """

    table: pd.DataFrame
    plan: Plan
    device: Device


def search(
    clips: TableOrPath,
    folder: str | Path,
    device: Device,
    *,
    minutes: float,
    plan: PlanLike | None = None,
    int8: bool = True,
    halves: bool = True,
    resume: bool = False,
    work: Work = PLAIN,
) -> SearchResult:
    """Search for the best plan that fits `device`, for this many minutes.

    Candidates are ranked by their last round and, within it, by score: mean of balanced accuracy on clips of a
    held-out fold and of event F1 in a rehearsal of these clips.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    folder : str | Path
        Folder for results.
    device : Device
        Limits; see `barn_owl.device.read_device`.
    minutes : float
        Time budget.
    plan : Plan | None
        Plan of the first candidate, with the values of keys that are not drawn. Default: a plan fitted to the clips.
    int8 : bool
        Whether the model will compute in int8.
    halves : bool
        Leave the worse half out step by step, and change the best; otherwise every candidate is drawn again
        and learns for as long as the last step does, a plain random search.
    resume : bool
        Continue the search in `folder`; its minutes count.
    work : Work
        Workers, cache, overwriting and progress.

    Returns
    -------
    SearchResult
        The table, also in ``search.csv``, and the best plan, in ``plan.toml``.

    Raises
    ------
    PlanError
        If nothing that can be drawn fits, and states which limit binds.
    TableError
        For too few groups.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> plan = barn_owl.Plan(background=["still"], cnn={"size": "tiny", "kinds": ["2d"]}, mixtures={"count": 8})
    >>> plan, device = plan.but(rehearsal={"minutes": 0}), barn_owl.device.read_device("core-256k")
    >>> barn_owl.device.search(clips, "found", device, minutes=0.001, plan=plan).plan.classifier
    'cnn'
    """
    clips, plan = as_clip_table(clips), as_plan(plan)
    begin, plan = time.perf_counter(), plan or suggest_plan(clips).plan
    sided = with_splits(usable_clips(clips, plan), plan)
    learned = sided[sided["split"] != "test"].drop(columns="split").reset_index(drop=True)
    folded = _folded(learned, plan)
    folder = Path(folder)
    with claimed_folder(folder, force=work.force or resume):
        race = _Race(folder, device, plan, folded, work, int8=int8, resume=resume)
        end = begin + 60 * minutes - race.seconds
        while time.perf_counter() < end or race.goes_on or not race.done:
            candidates = race.drawn(FIRST, changed=True) if halves else race.drawn(1, changed=False)
            for step in range(STEPS if halves else 1):
                far = step if halves else STEPS - 1
                race.learn(candidates, far, end)
                ranked = sorted(candidates, key=partial(race.score, step=far), reverse=True)
                candidates = ranked[: max(1, len(candidates) // 2)]
        table = race.table()
        write_table(table, folder / TABLE, force=True)
        if not len(table):
            raise TableError("the time was over before one candidate had learned; give it more minutes")
        best = race.plans[int(table["candidate"].iloc[0])]
        Suggestion(best, _reasons(table)).write(folder / PLAN, force=True)
        state = {"device": device.model_dump(), "minutes": minutes, "int8": int8, "halves": halves}
        write_json(folder / STATE, state)
        return SearchResult(table=table, plan=best, device=device)


def _folded(clips: pd.DataFrame, plan: Plan) -> pd.DataFrame:
    """Fold clips, into fewer folds where there are fewer groups."""
    for folds in range(FOLDS, 2, -1):
        with suppress(TableError):
            return fold_clips(clips, folds, seed=plan.seed, shares=plan.split)
    return fold_clips(clips, 2, seed=plan.seed, shares=plan.split)


def _reasons(table: pd.DataFrame) -> dict[str, str]:
    """Why the plan of the best candidate is as it is."""
    first = table.iloc[0]
    why = f"candidate {first['candidate']}: score {first['score']:.2f} on held-out clips"
    if len(table) > 1:
        why += (
            f", best of {len(table)} that fit; the next {table['score'].iloc[1]:.2f} at step {table['step'].iloc[1]}"
        )
    drawn = [key for key in _space() if key in table and not pd.isna(first[key])]
    return dict.fromkeys(drawn, "found by the search") | {"classifier": why}


class _Race:
    """Candidates by number, with their score at each step; every line is appended to a file."""

    def __init__(
        self, folder: Path, device: Device, plan: Plan, clips: pd.DataFrame, work: Work, *, int8: bool, resume: bool
    ) -> None:
        self._folder, self._device, self._plan, self._clips, self._work = folder, device, plan, clips, work
        self._int8, self._labels = int8, len(label_names(clips, plan))
        self.plans: dict[int, Plan] = {}
        self._found: dict[int, dict[str, Any]] = {}
        self._sizes: dict[int, Footprint | None] = {}
        self._drawn = 0
        self.done: dict[tuple[int, int], dict[str, Any]] = {}
        path = folder / TRIED
        if resume and is_file(path):
            for line in path.read_bytes().splitlines():
                try:
                    one = json.loads(line)
                    self.done[int(one["candidate"]), int(one["step"])] = one | {"seconds": float(one["seconds"])}
                except (ValueError, KeyError, TypeError, OverflowError, RecursionError):
                    logger.warning("%s: skipped a line that is not a candidate", path)
        else:
            path.unlink(missing_ok=True)
        self.seconds = sum(one["seconds"] for one in self.done.values())

    @property
    def goes_on(self) -> bool:
        """Whether candidates that were tried before are still to be drawn again: a search that is resumed."""
        return max((candidate for candidate, _ in self.done), default=-1) >= self._drawn

    def drawn(self, count: int, *, changed: bool) -> list[int]:
        """Draw candidates that fit; deterministic for a seed and the earlier results.

        changed : most of them are the current best with some keys drawn again, the very first the plan itself.
        """
        fruitless, least = 0, (np.inf, "")
        found: list[int] = []
        best = max(self.plans, key=self._rank, default=None) if changed else None
        while len(found) < count:
            number, self._drawn = self._drawn, self._drawn + 1
            rng = np.random.default_rng([self._plan.seed, number])
            over, plan = self._measured(number, self._changes(rng, number, best, changed=changed))
            if plan is not None and (fruitless > SIMILAR or plan not in self.plans.values()):
                fruitless = 0
                self.plans[number] = plan
                found.append(number)
                continue
            fruitless += 1
            if over:
                name, times = next(iter(over.items()))
                least = min(least, (times, name))
            if fruitless > FRUITLESS:
                raise PlanError(
                    f"nothing that was drawn fits {self._device.name}: the nearest exceeds its {least[1]} "
                    f"{least[0]:.1f} times. Take a larger device, or a longer latency"
                )
        return found

    def _changes(self, rng: np.random.Generator, number: int, best: int | None, *, changed: bool) -> dict[str, Any]:
        """Return the differences between a candidate and the plan, by key."""
        every = {key: values[int(rng.integers(len(values)))] for key, values in _space().items()}
        if changed and number == 0:
            return {}
        if not changed or rng.random() < FRESH:
            return every
        requested = rng.random(len(every)) < CHANGED
        requested[int(rng.integers(len(every)))] = True
        before = {} if best is None else self._found[best]
        return before | {
            key: value for (key, value), is_requested in zip(every.items(), requested, strict=True) if is_requested
        }

    def _rank(self, candidate: int) -> tuple[int, float]:
        """The furthest step that a candidate came to, and its score there."""
        steps = [step for one, step in self.done if one == candidate]
        return (max(steps), self.score(candidate, max(steps))) if steps else (-1, 0.0)

    def _measured(self, number: int, changes: dict[str, Any]) -> tuple[dict[str, float], Plan | None]:
        """Return the plan of drawn values, and by what factor it exceeds the device; None for an invalid plan."""
        self._found[number] = changes
        try:
            plan = _changed(self._plan, changes)
        except PlanError:
            return {}, None
        if not plan.kind.exports or not plan.front_end.is_log_mel:
            size = None  # cannot be handed over as C: only on a machine with Python
            over = {"flash": np.inf} if self._device.flash_kb < 1 << 20 else {}
        else:
            size = footprint(plain_model(plan, self._labels), self._device)
            over = size.exceeded(int8=self._int8)
        self._sizes[number] = size
        return over, None if over else plan

    def learn(self, candidates: Sequence[int], step: int, end: float) -> None:
        """Train the remaining candidates for a step, until the time is over.

        In sequence on this machine, where each takes all cores; in parallel on a cluster.
        """

        def waiting() -> Iterator[tuple[int, Plan]]:
            for candidate in candidates:
                left_s = end - time.perf_counter()
                if (candidate, step) in self.done or (left_s < 0 and self.done):
                    continue
                plan = self.plans[candidate]
                progress_line = (
                    f"candidate {candidate}, {plan.classifier}, step {step + 1}, {max(0.0, left_s):.0f} s left"
                )
                self._work.begin(progress_line, len(self.done) + 1, 0)
                yield candidate, plan

        # Features are computed once for each front end, however many candidates have it.
        cache = real_path(self._work.cache or self._folder / "cache")
        workers = 1 if on_cluster() else self._work.workers
        work = partial(_learned, step=step, clips=self._clips, workers=workers, cache=cache)
        for line in each(work, waiting(), 1):
            self.done[line["candidate"], step] = line
            with (self._folder / TRIED).open("a", encoding="utf-8", errors="backslashreplace") as file:
                file.write(json.dumps(line) + "\n")

    def score(self, candidate: int, step: int) -> float:
        """Return the score of a candidate in a round; below all scores without that round."""
        return float(self.done[candidate, step]["score"]) if (candidate, step) in self.done else -1.0

    def table(self) -> pd.DataFrame:
        """Table with a row per candidate: epochs, validation scores, cost, sampled settings."""
        rows = []
        for candidate in sorted({one for one, _ in self.done}):
            steps = sorted(step for one, step in self.done if one == candidate)
            last, plan, size = self.done[candidate, steps[-1]], self.plans.get(candidate), self._sizes.get(candidate)
            if plan is None:
                continue
            row: dict[str, Any] = {"candidate": candidate, "step": steps[-1] + 1}
            row |= {name: last[name] for name in last if name not in ("step", "fold", "seconds", "trouble")}
            row["seconds"] = round(sum(self.done[candidate, step]["seconds"] for step in steps), 1)
            row |= _size_columns(size, int8=self._int8)
            row |= {key: _value(plan, key) for key in _space() if _matters(key, plan.classifier)}
            rows.append(row | {"trouble": last["trouble"]})
        table = pd.DataFrame(rows)
        return table.sort_values(["step", "score"], ascending=False, ignore_index=True) if rows else table


def _learned(
    candidate: tuple[int, Plan], *, step: int, clips: pd.DataFrame, workers: int, cache: Path
) -> dict[str, Any]:
    """Train a candidate for a round, and score it on a held-out fold."""
    number, drawn = candidate
    begin, fold = time.perf_counter(), step % int(clips["fold"].max()) + 1
    plan = drawn.but(training={"epochs": EPOCHS * 2**step, "refit": 0})
    splits = np.where(clips["fold"] == fold, "validation", "train")
    line: dict[str, Any] = {"candidate": number, "step": step, "fold": fold, "trouble": ""}
    own = Work(workers=workers, cache=cache)
    try:
        with read_clips(clips.drop(columns="fold").assign(split=splits), plan, own) as data:
            examples = data.examples(plan, data.extra_columns(plan))
            fitted = fit(plan, data.labels, *examples, workers=own.workers)
            line |= _judged(plan, data, fitted)
        if fitted.interrupted:
            raise KeyboardInterrupt
        last = fitted.curves[-1] if isinstance(plan.kind, NetworkKind) else fitted.best
        line |= {"loss": last.validation_loss, "recall": last.validation_recall, "f1": last.validation_f1}
    except BarnOwlError as error:
        line |= {"score": 0.0, "loss": np.nan, "recall": 0.0, "f1": 0.0, "trouble": str(error)}
    return line | {"seconds": time.perf_counter() - begin}


def _judged(plan: Plan, data: RunData, fitted: Fitted) -> dict[str, Any]:
    """How well whole clips of the fold are named, label by label, and events found in a rehearsal of them."""
    model = fitted_model(plan, data, fitted, data.extra_columns(plan))
    kept = np.flatnonzero(data.table["split"] == "validation")
    table, frames = data.table.iloc[kept].reset_index(drop=True), data.frames.take(kept)
    scores = judge(
        model, with_predictions(model, table, frames, clip_outputs(model, table, frames)), "validation"
    ).scores
    line: dict[str, Any] = {"clips": scores.balanced_accuracy}
    for label, row in replace(scores, rounds=0, curves=False).by_label.iterrows():
        line |= {f"f1:{label}": float(row["f1"]), f"recall:{label}": float(row["recall"])}
    rehearsal = make_rehearsal(plan, table) if plan.rehearsal.minutes else None
    if rehearsal is None:
        return line | {"score": scores.balanced_accuracy}
    event_f1 = rehearse(model, plan, [(model, rehearsal)]).scores.f1
    return line | {"event_f1": event_f1, "score": (scores.balanced_accuracy + event_f1) / 2}


def _size_columns(size: Footprint | None, *, int8: bool) -> dict[str, float]:
    if size is None:
        return {}
    row = size.table().loc["int8" if int8 else "float32"]
    return {
        "multiply_adds": size.multiply_adds, "flash_kb": round(row["flash_kb"], 1), "ram_kb": round(row["ram_kb"], 1),
        "latency_ms": round(1000 * size.latency_s + row["step_ms"]), "load": round(row["load"], 4),
    }  # fmt: skip


def _space() -> dict[str, list[Any]]:
    """Return values to draw by key: the classifier, common keys, and keys of each kind."""
    drawn = {"classifier": [kind.name for kind in kinds() for _ in range(kind.drawn)]} | COMMON
    for kind in kinds():
        drawn |= {key: list(values) for key, values in kind.searched.items()}
    return drawn


def _matters(key: str, classifier: str) -> bool:
    return key == "classifier" or key in COMMON or key in kind_of(classifier).searched


def _changed(plan: Plan, changes: dict[str, Any]) -> Plan:
    """Return the plan with the drawn values that apply to its classifier."""
    classifier: str = changes.get("classifier", plan.classifier)
    sections: dict[str, Any] = {}
    for key, value in changes.items():
        if _matters(key, classifier):
            section, _, name = key.rpartition(".")
            if section:
                sections.setdefault(section, {})[name] = value
            else:
                sections[name] = value
    if kind_of(classifier).sees_frames and "front_end.features" in changes:
        # Only log-mel can be handed over, and only its frames can be added up to mixtures.
        sections["front_end"]["features"] = ["log-mel"]
    return plan.but(**sections)


def _value(plan: Plan, key: str) -> Any:
    section, _, name = key.rpartition(".")
    value = getattr(getattr(plan, section), name) if section else getattr(plan, name)
    return "+".join(value) if isinstance(value, list) else value


def front(table: pd.DataFrame, cost: str = "flash_kb") -> pd.DataFrame:
    """Return the Pareto front of score and cost, cheapest first, among the candidates of the last round.

    Parameters
    ----------
    table : pd.DataFrame
        Candidates of a search.
    cost : str
        Column of the cost.

    Examples
    --------
    >>> table = pd.DataFrame({"step": 3, "score": [0.7, 0.8, 0.6], "flash_kb": [50.0, 90.0, 70.0]})
    >>> front(table)["score"].tolist()
    [0.7, 0.8]
    """
    lacking = {"step", "score", cost} - set(table)
    if lacking:
        raise TableError(f"table has no column {min(lacking)!r}; read_search gives one")
    own = (
        table[table["step"] == table["step"].max()]
        .dropna(subset=[cost])
        .sort_values([cost, "score"], ascending=[True, False])
    )
    return own[own["score"] > own["score"].cummax().shift(fill_value=-1.0)]


def read_search(folder: str | Path, *, urls: bool = False) -> SearchResult:
    """Read the result of a search.

    Parameters
    ----------
    folder : str | Path
        Folder of a search.
    urls : bool
        Whether URLs in its tables and plan may be opened.

    Raises
    ------
    PlanError
        If the folder has no search.
    """
    folder = Path(folder)
    if not is_file(folder / TABLE) or not is_file(folder / STATE):
        raise PlanError(f"{folder} holds no finished search")
    try:
        state = json.loads((folder / STATE).read_text(encoding="utf-8"))
        device, table = Device(**state["device"]), pd.read_csv(folder / TABLE)
    except (OSError, ValueError, KeyError, TypeError, RecursionError) as error:
        raise PlanError(f"{folder} is damaged: {error}") from error
    return SearchResult(table=table, plan=read_plan(folder / PLAN, urls=urls), device=device)
