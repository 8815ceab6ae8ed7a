"""Suggesting a plan from the clips, with reasons."""

import logging
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import reduce
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import tomlkit

from barn_owl.audio import Excerpt, excerpts, file_facts, resample
from barn_owl.clips import check_clip_table, labels_in
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import BarnOwlError, TableError
from barn_owl.features import FrontEnd
from barn_owl.features.activity import STANDS_OUT_DB, activity, sounding
from barn_owl.files import atomic_write
from barn_owl.learn import Plan
from barn_owl.learn.plan import MixtureSettings
from barn_owl.parallel import each
from barn_owl.runs.data import check_labels_exist, label_names, usable_clips, with_splits
from barn_owl.runs.recordings import RecordingSurvey, survey_recordings

logger = logging.getLogger(__name__)

MAX_ANALYZED = 160
"""Maximum number of clips to analyze: a random sample is enough."""
RATES_HZ = (8_000, 16_000, 32_000, 48_000, 96_000, 192_000, 384_000)
TOPS_HZ = (8_000, 16_000, 24_000, 48_000, 96_000, 192_000)
"""Highest frequency of a model; see `_needed`."""
RECORDINGS_TOP_HZ = 16_000
"""Lowest of them if the bandwidth of the recordings is known."""
AUDIBLE_HZ = 16_000
"""Frequency above which a label may lie as a whole only if the model reaches it."""
ULTRASOUND_HZ, ULTRASOUND_OCTAVES = 48_000, 4
"""Highest frequency from which a model ignores what lies more octaves below it: mel bands would leave half of
themselves to audible sound."""
LOW_HZ = 100.0
"""Frequency below which frames of 32 ms resolve little."""
MAX_DURATION_S, MIN_DURATION_S, STEADY_S = 2.0, 0.3, 1.0
"""Limits of the window of pooled classifiers; a second of a steady sound suffices."""

MAX_ACTIVE = 0.9
"""Share of the activity of a clip that a window should cover."""
QUIET = 0.15
"""Share of the largest activity of a clip that counts as quiet."""
HIGH_SHARE = 0.5
"""Share of the power of a high-pitched clip above a frequency, and share of such clips that is worth a higher rate:
the frequent recordings at 16 kHz lack what is above 8 kHz."""
MIXTURES_PER_SECOND, MIN_MIXTURES, MAX_MIXTURES = 0.25, 160, 280
"""Mixtures per epoch for each second of clips (each clip is used about once), and their minimum and maximum."""
GAP_SHARE = 0.15
"""Gap to merge across, as a share of the median length of sounds: scores of long sounds drop now and then. On
recordings of four real problems it changes nothing, on the demo it adds 0.01 to 0.02 event F1, and on synthetic
events of 3 to 12 s 0.08."""
GAP_S = (0.1, 1.0)
"""Limits of the usual gap within the sounds of the clips, across which events are merged."""

REACHED = {3: (0.36, 0.83), 5: (0.42, 0.76), 10: (0.71, 0.88), 20: (0.79, 0.84), 30: (0.77, 0.99)}
"""Range of balanced accuracy of real problems (five; four with 20) by clips per label, from
`benchmarks/learning_curves.csv`."""

BACKGROUND = ("background", "silence", "noise", "background noise", "ambience", "none")
"""Names of labels, in small letters, that mean nothing of interest."""
UNWANTED_LABELS = ("other", "others", "other sounds", "unknown", "rest")
"""Names of labels that stand for unwanted sounds."""


@dataclass(frozen=True)
class Suggestion:
    """A suggested plan, and the reason for each chosen key (dotted, such as ``mixtures.count``).

    Attributes
    ----------
    plan : Plan
        Fitted plan.
    reasons : dict[str, str]
        Reason by setting.
    outlook : str
        What real problems reached with as many clips per label, on groups that were not trained on.

    Examples
    --------
    >>> suggestion = barn_owl.suggest_plan(barn_owl.read_clip_table("clips.csv"))
    >>> suggestion.plan.front_end.rate_hz
    16000
    """

    plan: Plan
    reasons: dict[str, str] = field(default_factory=dict)
    outlook: str = ""

    def but(self, **changes: Any) -> "Suggestion":
        """Return the suggestion with settings changed, which lose their reason.

        Parameters
        ----------
        changes : Any
            Settings, as for `Plan.but`.
        """
        keys = {f"{key}.{name}" for key, value in changes.items() if isinstance(value, dict) for name in value}
        reasons = {key: reason for key, reason in self.reasons.items() if key not in keys | set(changes)}
        return Suggestion(self.plan.but(**changes), reasons, self.outlook)

    def text(self) -> str:
        """Return the plan as TOML with every default spelled out, the reasons as comments."""
        document = tomlkit.document()
        document.add(tomlkit.comment("A plan for barn-owl train. Lines with a reason were fitted to the clips."))
        for key, value in self.plan.model_dump(exclude_none=True).items():
            if isinstance(value, dict):
                document.add(tomlkit.nl())
                document.add(tomlkit.comment((type(getattr(self.plan, key)).__doc__ or "").splitlines()[0]))
            document[key] = self._item(value, f"{key}.")
            if key in self.reasons:
                document[key].comment(self.reasons[key])
        return tomlkit.dumps(document)

    def _repr_html_(self) -> str:
        """For a notebook: each key that was chosen, its value and why."""
        values = [reduce(getattr, key.split("."), self.plan) for key in self.reasons]
        table = pd.DataFrame({"key": list(self.reasons), "value": values, "why": list(self.reasons.values())})
        with pd.option_context("display.max_colwidth", None):
            return str(table.to_html(index=False))

    def write(self, path: str | Path, *, force: bool = False) -> None:
        """Write `text` to a file, atomically; raises OutputError if it exists and `force` is false.

        Parameters
        ----------
        path : str | Path
            File: TOML.
        force : bool
            Whether existing files are overwritten.
        """
        with atomic_write(path, force=force) as beside:
            beside.write_text(self.text(), encoding="utf-8", errors="backslashreplace")

    def _item(self, value: Any, prefix: str) -> Any:
        if not isinstance(value, dict):
            return tomlkit.item(value)
        table = tomlkit.table()
        for key, inner in value.items():
            table[key] = tomlkit.item(inner)
            if prefix + key in self.reasons:
                table[key].comment(self.reasons[prefix + key])
        return table


@dataclass(frozen=True, kw_only=True)
class _ClipMeasurement:
    """Measurements of a clip: its duration, duration of most of its activity, active duration and longest gap within
    it, its band, and the frequency that halves its power."""

    duration_s: float
    active_s: float
    sound_s: float
    max_gap_s: float
    rate_hz: int
    bandwidth_hz: float
    half_power_hz: float


def suggest_plan(
    clips: TableOrPath,
    *,
    recordings: Sequence[str | Path] = (),
    background: Sequence[str] = (),
    workers: int = 2,
    seed: int = 0,
    progress: Callable[[int, int], None] | None = None,
) -> Suggestion:
    """Suggest a plan for labeled clips: sample rate, highest frequency, background, gaps.

    At most 160 clips, drawn evenly over the labels, are analyzed, without clips of the test split: that of the table
    or, without it, that of a training with this `seed`.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    recordings : Sequence[str | Path]
        Target recordings, or their folders; bands that they lack are ignored in clips, too.
    background : Sequence[str]
        Labels of background sound. Default: found by their names.
    workers : int
        Number of parallel workers.
    seed : int
        Seed of all random choices.
    progress : Callable[[int, int], None] | None
        Called with the number of items done and in all.

    Raises
    ------
    TableError
        If no clip can be read.
    PlanError
        If no clip has a label of `background`.
    AudioError
        If none of the recordings can be read.

    Examples
    --------
    >>> suggestion = barn_owl.suggest_plan(barn_owl.read_clip_table("clips.csv"))
    >>> suggestion.plan.background, suggestion.plan.front_end.rate_hz
    ([], 16000)
    """
    clips = as_clip_table(clips, "clips")
    clips = check_clip_table(clips)
    labeled = clips[clips["label"] != ""].reset_index(drop=True)
    if not len(labeled):
        raise TableError("the table has no labeled clips to fit a plan to")
    check_labels_exist("background", background, label_names(labeled, Plan(multilabel=_joins_labels(labeled))))
    labeled = _not_tested(labeled, seed)
    measured, chosen = _listen(labeled, workers, seed, progress)
    in_recordings = survey_recordings(recordings) if recordings is not None and len(recordings) else None
    rate_hz, top_hz, why_rate, why_top = _band(measured, chosen, in_recordings)
    counts = labeled["label"].value_counts()
    by_name = [str(label) for label in counts.index if _plain(str(label)) in BACKGROUND]
    background = list(background) or by_name
    ignored = [str(label) for label in counts.index if _plain(str(label)) in UNWANTED_LABELS]
    window_s, why_window = _window(measured)
    whole_s = np.minimum([one.duration_s for one in measured], MixtureSettings().seconds)
    seconds = len(labeled) * float(whole_s.mean())
    mixtures = int(np.clip(round(MIXTURES_PER_SECOND * seconds), MIN_MIXTURES, MAX_MIXTURES))
    max_gap_s, why_gap = _gap(measured)
    low_hz, why_low = _lowest(measured, rate_hz)
    changes: dict[str, Any] = {
        "background": background or None,
        "ignored": ignored or None,
        "pooling": {"window_s": window_s},
        "front_end": {"rate_hz": rate_hz, "high_hz": top_hz, "low_hz": low_hz},
        "mixtures": {"count": mixtures},
        "decoding": {"max_gap_s": max_gap_s},
        "recordings": [str(path) for path in recordings] or None,
    }
    reasons = {
        "front_end.rate_hz": why_rate,
        "front_end.high_hz": why_top,
        **({"front_end.low_hz": why_low} if why_low else {}),
        "mixtures.count": f"there are {seconds:.0f} s of clips",
        "pooling.window_s": why_window,
        "decoding.max_gap_s": why_gap,
    }
    reasons["background"] = (
        "as given; such labels are never reported as events"
        if background != by_name
        else "by its name; such labels are never reported as events"
        if background
        else "none found; clips of what recordings sound like while nothing happens make tagging more reliable"
    )
    if ignored:
        reasons["ignored"] = "by its name; named in clips, but no event"
    return Suggestion(Plan().but(**changes), reasons, _outlook(labeled, background))


def _not_tested(clips: pd.DataFrame, seed: int) -> pd.DataFrame:
    """Return the clips without the test split."""
    if "split" not in clips or (clips["split"] == "").any():
        plan = Plan(seed=seed, multilabel=_joins_labels(clips))
        try:
            clips = with_splits(usable_clips(clips, plan), plan, quietly=True)
        except TableError:
            return clips  # it cannot be split; splitting reports that
    return clips[clips["split"] != "test"].reset_index(drop=True)


def _joins_labels(clips: pd.DataFrame) -> bool:
    """Return whether clips have several labels, some of which no clip has alone."""
    labels = {label for text in clips["label"].unique() for label in labels_in(text)}
    return bool(labels - set(clips["label"]))


def _plain(name: str) -> str:
    """Return a name in lower case, with single spaces in place of punctuation."""
    return " ".join(re.findall(r"[^\W_]+", name.lower()))


def _listen(
    clips: pd.DataFrame, workers: int, seed: int, progress: Callable[[int, int], None] | None
) -> tuple[list[_ClipMeasurement], pd.DataFrame]:
    rng = np.random.default_rng(seed)
    shuffled = clips.iloc[rng.permutation(len(clips))]
    # Labels take turns, so that rare labels count, too.
    chosen = shuffled.iloc[np.argsort(shuffled.groupby("label").cumcount(), kind="stable")].head(MAX_ANALYZED)
    results = []
    requested = excerpts(chosen["file"], chosen["start_s"], chosen["end_s"])
    for number, result in enumerate(each(_hear, requested, workers), start=1):
        results.append(result)
        if progress:
            progress(number, len(chosen))
    usable = [not isinstance(result, str) for result in results]
    measured = [result for result in results if not isinstance(result, str)]
    if not measured:
        raise TableError(f"none of the clips can be used; the first: {results[0]}")
    return measured, chosen[usable]


def _hear(excerpt: Excerpt) -> _ClipMeasurement | str:
    try:
        blocks: list[np.ndarray] = []
        facts = file_facts(
            excerpt.file,
            start_s=excerpt.start_s,
            end_s=excerpt.end_s,
            on_block=lambda block: blocks.append(block.mean(axis=1, dtype=np.float32)),
            thorough=False,
        )
        rate_hz = max(facts.rate_hz, RATES_HZ[0])
        front_end = FrontEnd(rate_hz=rate_hz, features=["log-mel", "power"], pad_short=True)
        frames = front_end.frames(resample(np.concatenate(blocks), facts.rate_hz, rate_hz))
    except BarnOwlError as error:
        return str(error)
    levels, power = frames[:, : front_end.bands], frames[:, front_end.bands :].mean(axis=0, dtype=np.float64)
    at = np.flatnonzero(sounding(levels, front_end.hop_s))
    below = np.cumsum(power)
    return _ClipMeasurement(
        duration_s=facts.duration_s,
        active_s=_active_s(activity(levels, front_end.hop_s), front_end.hop_s),
        sound_s=(at[-1] - at[0] + 1) * front_end.hop_s,
        max_gap_s=float(np.diff(at).max(initial=1) - 1) * front_end.hop_s,
        rate_hz=facts.rate_hz,
        bandwidth_hz=facts.bandwidth_hz,
        half_power_hz=float(np.searchsorted(below, HIGH_SHARE * below[-1]) * front_end.bin_hz),
    )


def _active_s(loud: np.ndarray, hop_s: float) -> float:
    """Return the length of the shortest stretch with most of the activity, at most a second for a steady sound."""
    if loud.max() < STANDS_OUT_DB:
        return min(STEADY_S, len(loud) * hop_s)
    total = np.concatenate([[0.0], np.cumsum(np.where(loud > QUIET * loud.max(), loud, 0), dtype=np.float64)])
    ends = np.searchsorted(total, total[:-1] + MAX_ACTIVE * total[-1] - 1e-9)
    lengths = (ends - np.arange(len(loud)))[ends <= len(loud)]
    return float(lengths.min() * hop_s)


def _window(measured: list[_ClipMeasurement]) -> tuple[float, str]:
    active = np.array([one.active_s for one in measured])
    window_s = float(np.clip(np.ceil(float(np.quantile(active, 0.6)) * 12.5) / 10, MIN_DURATION_S, MAX_DURATION_S))
    return round(window_s, 2), f"most of the activity of a clip takes {np.median(active):.2g} s (median)"


def _gap(measured: list[_ClipMeasurement]) -> tuple[float, str]:
    """Return the gap to merge across: as long as gaps within most clips, or a small part of a sound."""
    usual = float(np.quantile([one.max_gap_s for one in measured], 0.75))
    length_s = float(np.median([one.sound_s for one in measured]))
    gap_s = round(float(np.clip(max(usual, GAP_SHARE * length_s), *GAP_S)), 2)
    return (
        gap_s,
        f"gaps within three of four clips are at most {usual:.2g} s, and sounds last {length_s:.2g} s (median)",
    )


def _band(
    measured: list[_ClipMeasurement], chosen: pd.DataFrame, recordings: RecordingSurvey | None
) -> tuple[int, float | None, str, str]:
    """Sample rate and highest frequency that every source reaches, so that bandwidth is no cue for the label."""
    source = chosen["group"].astype(str) if "group" in chosen else pd.Series("", index=chosen.index)
    table = pd.DataFrame(
        {
            "source": source.to_numpy(),
            "label": chosen["label"].to_numpy(),
            "rate_hz": [one.rate_hz for one in measured],
            "band_hz": [one.bandwidth_hz for one in measured],
            "half_power_hz": [one.half_power_hz for one in measured],
        }
    )
    # A source counts by its widest clip, and only with several labels: a hum alone has no high frequencies.
    sources = table.groupby(["source", "rate_hz"]).agg(
        band_hz=("band_hz", lambda band: band.quantile(0.9)), labels=("label", "nunique"), clips=("label", "size")
    )
    informative = sources[(sources["labels"] > 1) & (sources["clips"] >= 4)]
    if len(informative):
        passed_hz = float(informative["band_hz"].min())
        narrowest, narrowest_rate_hz = informative["band_hz"].idxmin()
        who = f"{narrowest!r}" if narrowest else f"the clips at {narrowest_rate_hz} Hz"
        why_rate = f"every source reaches {passed_hz / 1000:.1f} kHz, {who} no more"
    else:
        passed_hz, who = float(table["band_hz"].quantile(0.9)), "one in ten clips"
        why_rate = f"one clip in ten reaches {passed_hz / 1000:.1f} kHz (no source has clips of several labels)"
    lowest_hz = TOPS_HZ[0]
    if recordings is not None:
        who = "the recordings" if recordings.bandwidth_hz < passed_hz else who
        passed_hz, lowest_hz = min(passed_hz, recordings.bandwidth_hz), RECORDINGS_TOP_HZ
        why_rate += f", the recordings {recordings.bandwidth_hz / 1000:.1f} kHz"
    target_hz = 2 * min(passed_hz, max(lowest_hz, _needed(table["half_power_hz"], table["label"])))
    rate_hz = next((rate for rate in RATES_HZ if rate >= 0.95 * target_hz), RATES_HZ[-1])
    why_rate += (
        f"; {(table['half_power_hz'] > TOPS_HZ[0]).mean():.0%} of the clips have most of their power above 8 kHz"
    )
    top_hz = float(np.floor(passed_hz * 0.97 / 100) * 100)
    if top_hz >= 0.95 * rate_hz / 2 or top_hz < 1000:
        return rate_hz, None, why_rate, ""
    return (
        rate_hz,
        top_hz,
        why_rate,
        f"{passed_hz / 1000:.1f} kHz is the bandwidth of {who}: above it, a classifier could recognize the recorder",
    )


def _needed(half_power_hz: pd.Series, labels: pd.Series) -> int:
    """Return the highest frequency of a model: most clips have most of their power below, and so have the clips of
    each label unless it is audible."""
    for top in TOPS_HZ:
        by_label = (half_power_hz > max(top, AUDIBLE_HZ)).groupby(labels).mean()
        if (half_power_hz > top).mean() <= HIGH_SHARE and by_label.max() <= HIGH_SHARE:
            return top
    return TOPS_HZ[-1]


def _outlook(clips: pd.DataFrame, background: Sequence[str]) -> str:
    """Return what real problems reached with as many clips of a label; blank for fewer than three."""
    sounding = clips[~clips["label"].isin(background)]
    count = int(sounding["label"].value_counts().median()) if len(sounding) else 0
    known = max((least for least in REACHED if least <= count), default=0)
    if not known:
        return ""
    count_groups = sounding.loc[sounding["group"] != "", "group"].nunique() if "group" in sounding else 0
    groups = f" from {count_groups} groups" if count_groups > 1 else ""
    low, high = REACHED[known]
    return (
        f"{count} clips of a label (median){groups}. With {known}, real problems had balanced accuracy "
        f"{low:.2f} to {high:.2f} on clips of unseen groups."
    )


def _lowest(measured: list[_ClipMeasurement], rate_hz: int) -> tuple[float, str]:
    """Return the lowest frequency of a model and why it is not the usual one; warn of sounds that frames do not
    resolve."""
    low = float(np.mean([one.half_power_hz < LOW_HZ for one in measured]))
    if low > HIGH_SHARE:
        logger.warning(
            "%.0f%% of the clips have most of their power below %.0f Hz, which frames of %g ms hardly resolve; "
            "declare a higher sample rate, so that pitch and tempo rise (times shrink by the same factor)",
            100 * low, LOW_HZ, FrontEnd().frame_ms,
        )  # fmt: skip
        return 0.0, f"{low:.0%} of the clips have most of their power below {LOW_HZ:g} Hz"
    if rate_hz < 2 * ULTRASOUND_HZ:
        return FrontEnd().low_hz, ""
    octaves = 2**ULTRASOUND_OCTAVES
    return rate_hz / 2 / octaves, f"{ULTRASOUND_OCTAVES} octaves below the top: the bands are for ultrasound"
