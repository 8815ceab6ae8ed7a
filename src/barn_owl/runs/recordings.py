"""Properties of the target recordings of a model: bandwidth, level, and background between sounds."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

import numpy as np
import pandas as pd

from barn_owl.archive.recordings import find_recordings, name_of
from barn_owl.audio import Excerpt, audio_info, file_facts
from barn_owl.audio.remote import is_remote
from barn_owl.audio.silence import two_threshold_runs
from barn_owl.classifiers.base import segment_logits
from barn_owl.clips import ClipFrames, complete_stretches, read_clip_table
from barn_owl.errors import AudioError, PlanError
from barn_owl.features import FrontEnd
from barn_owl.features.activity import activity, frames_in
from barn_owl.learn import Plan
from barn_owl.learn.unlabeled import SURE, active_runs
from barn_owl.model import Model
from barn_owl.names import is_closed_url, table_name
from barn_owl.network import sigmoid, softmax
from barn_owl.sound import UniformSettings, read_preprocessed

STRETCHES, STRETCH_S, MIN_DURATION_S = 16, 5.0, 1.0
"""Stretches that are listened to, over all recordings, and how long they are."""
UNLABELED, MIXTURES_LONG = 80, 2
"""Stretches that are learned from without labels, over all recordings, and how many mixtures long they are."""
QUIET_DB, MIN_QUIET_S = 0.5, 0.3
"""Activity below which frames are quiet, and how long a run of them needs to be to serve as background."""


@dataclass(frozen=True, kw_only=True)
class RecordingSurvey:
    """Highest frequency, in hertz, and mean level, in dB re full scale, of analyzed stretches, and their places."""

    bandwidth_hz: float
    level_db: float
    stretches: list[Excerpt]


def survey_recordings(paths: Sequence[str | Path]) -> RecordingSurvey:
    """Listen to some stretches of recordings: files, folders or tables.

    Raises AudioError when none of them can be read, TableError when a folder or a table names none.
    """
    reasons: list[str] = []
    stretches, bands, levels = [], [], []
    for stretch in _spread(paths, STRETCHES, STRETCH_S, reasons):
        try:
            facts = file_facts(stretch.file, start_s=stretch.start_s, end_s=stretch.end_s, thorough=False)
        except AudioError as error:
            reasons.append(str(error))
            continue
        stretches.append(stretch)
        if facts.rms_db > -119:  # digital silence does not show the band
            bands.append(facts.bandwidth_hz)
            levels.append(facts.rms_db)
    if not bands:
        raise AudioError(f"recordings: no usable sound in {paths[0]}{': ' + reasons[0] if reasons else ''}")
    return RecordingSurvey(
        bandwidth_hz=float(np.quantile(bands, 0.9)), level_db=float(np.median(levels)), stretches=stretches
    )


def quiet_frames(plan: Plan, stretches: Sequence[Excerpt]) -> ClipFrames:
    """Return frames of the inactive runs of stretches of recordings."""
    hop_s, quiet = plan.front_end.hop_s, []
    for stretch in stretches:
        try:
            frames = plan.front_end.frames(read_preprocessed(stretch, plan.front_end.rate_hz, plan.clips))
        except AudioError:
            continue  # digital silence, or too short: unusable for training, and reported
        still = activity(frames[:, plan.front_end.level_columns], hop_s) < QUIET_DB
        runs = two_threshold_runs(still, True, True)
        quiet += [frames[first:last] for first, last in runs if last - first >= frames_in(MIN_QUIET_S, hop_s)]
    return ClipFrames(quiet)


class Stretches(NamedTuple):
    """Stretches of recordings whose sounds have no labels: where they are, and their frames."""

    places: list[Excerpt]
    frames: ClipFrames


def read_unlabeled(
    front_end: FrontEnd, clips: UniformSettings, least_s: float, paths: Sequence[str | Path], reasons: list[str]
) -> Stretches:
    """Read stretches from all over recordings, active or not, of at least `least_s` and at most twice that.

    Why some cannot be read goes to `reasons`.
    """
    least = front_end.count(round(least_s * front_end.rate_hz))
    places, parts = [], []
    for place in _spread(paths, UNLABELED, MIXTURES_LONG * least_s, reasons):
        try:
            frames = front_end.frames(read_preprocessed(place, front_end.rate_hz, clips))
        except AudioError as error:
            reasons.append(str(error))
            continue
        if len(frames) >= least:
            places.append(place)
            parts.append(frames)
    return Stretches(places, ClipFrames(parts))


def unlabeled_sounds(model: Model, unlabeled: Stretches) -> pd.DataFrame:
    """Return the sounds that a model detects in recordings as events; uncertain labels are blank."""
    rows = []
    for place, frames in zip(unlabeled.places, unlabeled.frames.parts, strict=True):
        output = model.frame_scores(frames)
        begin_s = (place.start_s or 0.0) + model.classifier.window // 2 * model.front_end.hop_s
        for run in active_runs(sigmoid(output.activity[:, 0]), model.step_s):
            scores = softmax(segment_logits(output.label_logits[run]))
            best = int(scores.argmax())
            if best < len(model.labels):
                times = [round(begin_s + step * model.step_s, 3) for step in (run.start, run.stop)]
                rows.append(
                    (place.file, *times, model.labels[best] if scores[best] > SURE else "", float(scores[best]))
                )
    return pd.DataFrame(rows, columns=["file", "start_s", "end_s", "label", "score"]).round({"score": 4})


def _spread(paths: Sequence[str | Path], most: int, stretch_s: float, reasons: list[str]) -> list[Excerpt]:
    """Stretches evenly over the time of recordings, or of what a table states as complete in them.

    Over recordings if there are more of them than stretches.

    Why some cannot be read goes to `reasons`.
    """
    closed = [table_name(str(path)) for path in paths if is_closed_url(str(path))]
    if closed:
        raise PlanError(f"recordings: {closed[0]} is a URL in a plan; such URLs are opened only on request")
    complete, spans = _complete(paths), list[tuple[str, float, float]]()
    for file in find_recordings(paths):
        try:
            whole = [(0.0, audio_info(file).duration_s)]
        except AudioError as error:
            reasons.append(str(error))
            continue
        known = complete.get(name_of(file), whole)
        spans += [(file, first, last) for first, last in known if last - first >= MIN_DURATION_S]
    spread, chosen = [], spans[:: max(1, -(-len(spans) // most))]
    total = sum(last - first for _, first, last in chosen)
    for file, first, last in chosen:
        count = max(1, min(round(most * (last - first) / total), int((last - first) / stretch_s) or 1))
        size = min(stretch_s, last - first)
        starts = first + (np.arange(count) + 0.5) * (last - first) / count - size / 2
        spread += [Excerpt(file, max(float(start), first), max(float(start), first) + size) for start in starts]
    return spread


def _complete(paths: Sequence[str | Path]) -> dict[str, list[tuple[float, float]]]:
    """Return the complete stretches of the recordings in tables that state some, by the name of the recording."""
    found: dict[str, list[tuple[float, float]]] = {}
    for path in paths:
        if Path(path).suffix.lower() not in (".csv", ".tsv", ".parquet") or is_remote(str(path)):
            continue
        table = read_clip_table(path, may_be_empty=True)
        if (stretches := complete_stretches(table)) is not None:
            found |= {name_of(file): [] for file in table["file"]}
            for file, first, last in stretches.itertuples(index=False):
                found[name_of(file)].append((float(first), float(last)))
    return found
