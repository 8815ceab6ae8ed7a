"""A plan fitted to the clips at hand, and why."""

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import tomlkit

from barn_owl.audio import file_facts
from barn_owl.classify import Plan
from barn_owl.classify.plan import CONVOLUTIONAL
from barn_owl.clips import check_clip_table
from barn_owl.errors import BarnOwlError, TableError
from barn_owl.features import FrontEnd
from barn_owl.features.activity import activity
from barn_owl.features.cache import Excerpt, excerpts
from barn_owl.files import whole_file
from barn_owl.parallel import each

HEARD = 160
"""Clips that are listened to at most: a drawn part tells as much as all of them."""
RATES_HZ = (8_000, 16_000, 32_000)
LONGEST_S, STEADY_S = 2.0, 1.0
SHORTEST_S = {"network": 0.8, "pooled": 0.5}
"""A network needs room for a few steps after its convolutions; pooled statistics are diluted by what is around."""

MOST_ACTIVE = 0.9
"""Share of what happens in a clip that its window should hold."""
STANDS_OUT_DB, QUIET = 1.0, 0.15
"""Activity that steady noise never has, and the share of the largest activity that counts as quiet."""
HIGH_SHARE = 0.1
"""Share of power above 8 kHz from which on it is worth a higher rate."""
FEW, MANY = 12, 150
"""Training clips of the rarest label from which on a network is worth it, and from which on a larger one is."""

BACKGROUND = ("background", "silence", "noise", "background noise")
"""Names of labels, in small letters, that mean nothing of interest."""


@dataclass(frozen=True)
class Suggestion:
    """A plan, and for each key that was chosen (dotted, as ``clips.length_s``) the reason in words."""

    plan: Plan
    reasons: dict[str, str] = field(default_factory=dict)

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

    def write(self, path: str | Path) -> None:
        """Write `text` to a file, whole or not at all."""
        with whole_file(path) as beside:
            beside.write_text(self.text(), encoding="utf-8")

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
class _Heard:
    """What one clip tells: its length, how long most of what happens takes, its band, and the power above 8 kHz."""

    duration_s: float
    active_s: float
    rate_hz: int
    bandwidth_hz: float
    high_share: float


def suggest_plan(
    clips: pd.DataFrame, *, workers: int = 2, seed: int = 0, progress: Callable[[int, int], None] | None = None
) -> Suggestion:
    """Fit a plan to labelled clips: length, rate and highest frequency, family and size, epochs.

    At most 160 clips, drawn evenly over the labels, are listened to. Raises TableError when none can be read.
    """
    clips = check_clip_table(clips)
    labelled = clips[clips["label"] != ""].reset_index(drop=True)
    if not len(labelled):
        raise TableError("the table has no labelled clips to fit a plan to")
    heard, chosen = _listen(labelled, workers, seed, progress)
    rate_hz, top_hz, why_rate, why_top = _band(heard, chosen)
    counts = labelled["label"].value_counts()
    rarest = int(counts.min())
    background = [str(label) for label in counts.index if _plain(str(label)) in BACKGROUND]
    family, size, why_family = _family(rarest, str(counts.index[-1]))
    length_s, why_length = _length(heard, SHORTEST_S["network" if family in CONVOLUTIONAL else "pooled"])
    epochs = int(np.clip(round(60_000 / len(labelled) / 10) * 10, 30, 150))
    changes: dict[str, Any] = {
        "family": family,
        "background": background or None,
        "clips": {"length_s": length_s},
        "front_end": {"rate_hz": rate_hz, "high_hz": top_hz},
        "training": {"epochs": epochs, "patience": max(10, epochs // 3)},
        "tcn": {"size": size},
        "cnn": {"size": size},
    }
    reasons = {
        "family": why_family,
        "clips.length_s": why_length,
        "front_end.rate_hz": why_rate,
        "front_end.high_hz": why_top,
        "training.epochs": f"{len(labelled)} clips: fewer epochs are enough where there are more clips",
        "tcn.size": why_family,
    }
    reasons["background"] = (
        "by its name; such a label is never reported as an event"
        if background
        else "none found; clips of what recordings sound like while nothing happens make tagging much surer"
    )
    return Suggestion(Plan().but(**changes), reasons)


def _plain(name: str) -> str:
    """A name in small letters, with single spaces for whatever is no letter or digit."""
    return " ".join(re.findall(r"[^\W_]+", name.lower()))


def _listen(
    clips: pd.DataFrame, workers: int, seed: int, progress: Callable[[int, int], None] | None
) -> tuple[list[_Heard], pd.DataFrame]:
    rng = np.random.default_rng(seed)
    shuffled = clips.iloc[rng.permutation(len(clips))]
    # Turn by turn a clip of each label, so that rare labels are heard as well.
    chosen = shuffled.iloc[np.argsort(shuffled.groupby("label").cumcount(), kind="stable")].head(HEARD)
    results = []
    asked = excerpts(chosen["file"], chosen["start_s"], chosen["end_s"])
    for number, result in enumerate(each(_hear, asked, workers), start=1):
        results.append(result)
        if progress:
            progress(number, len(chosen))
    usable = [not isinstance(result, str) for result in results]
    heard = [result for result in results if not isinstance(result, str)]
    if not heard:
        raise TableError(f"none of the clips can be used; the first: {results[0]}")
    return heard, chosen[usable]


def _hear(excerpt: Excerpt) -> _Heard | str:
    try:
        blocks: list[np.ndarray] = []
        facts = file_facts(
            excerpt.file,
            start_s=excerpt.start_s,
            end_s=excerpt.end_s,
            hear=lambda block: blocks.append(block.mean(axis=1, dtype=np.float32)),
            thorough=False,
        )
        front_end = FrontEnd(rate_hz=facts.rate_hz, features=["log-mel", "power"], pad_short=True)
        frames = front_end.frames(np.concatenate(blocks))
    except BarnOwlError as error:
        return str(error)
    levels, power = frames[:, : front_end.bands], frames[:, front_end.bands :].mean(axis=0, dtype=np.float64)
    above = np.arange(len(power)) * front_end.bin_hz > 8_000
    return _Heard(
        duration_s=facts.duration_s,
        active_s=_active_s(activity(levels), front_end.hop_s),
        rate_hz=facts.rate_hz,
        bandwidth_hz=facts.bandwidth_hz,
        high_share=float(power[above].sum() / max(power.sum(), 1e-30)),
    )


def _active_s(loud: np.ndarray, hop_s: float) -> float:
    """Length of the shortest stretch that holds most of what happens; of a steady sound, a second says it all."""
    if loud.max() < STANDS_OUT_DB:
        return min(STEADY_S, len(loud) * hop_s)
    total = np.concatenate([[0.0], np.cumsum(np.where(loud > QUIET * loud.max(), loud, 0), dtype=np.float64)])
    ends = np.searchsorted(total, total[:-1] + MOST_ACTIVE * total[-1] - 1e-9)
    lengths = (ends - np.arange(len(loud)))[ends <= len(loud)]
    return float(lengths.min() * hop_s)


def _length(heard: list[_Heard], shortest_s: float) -> tuple[float, str]:
    durations, active = (np.array([getattr(one, name) for one in heard]) for name in ("duration_s", "active_s"))
    wished = float(np.quantile(active, 0.6)) * 1.25
    longest = min(LONGEST_S, max(shortest_s, float(np.quantile(durations, 0.5))))
    length_s = round(float(np.clip(np.ceil(wished * 10) / 10, shortest_s, longest)), 2)
    return length_s, (
        f"clips last {np.median(durations):.2g} s (median), most of what happens in them {np.median(active):.2g} s"
    )


def _band(heard: list[_Heard], chosen: pd.DataFrame) -> tuple[int, float | None, str, str]:
    """Working rate and highest frequency: what every source passes, so that its band does not become the label."""
    source = chosen["group"].astype(str) if "group" in chosen else pd.Series("", index=chosen.index)
    table = pd.DataFrame(
        {
            "source": source.to_numpy(),
            "label": chosen["label"].to_numpy(),
            "rate_hz": [one.rate_hz for one in heard],
            "band_hz": [one.bandwidth_hz for one in heard],
        }
    )
    # A source is judged by its widest clip, and only if it recorded more than one label: a hum alone has no highs.
    sources = table.groupby(["source", "rate_hz"]).agg(
        band_hz=("band_hz", lambda band: band.quantile(0.9)), labels=("label", "nunique"), clips=("label", "size")
    )
    telling = sources[(sources["labels"] > 1) & (sources["clips"] >= 4)]
    passed_hz = float(telling["band_hz"].min()) if len(telling) else float(table["band_hz"].quantile(0.9))
    is_high = float(np.mean([one.high_share > HIGH_SHARE for one in heard]))
    wished_hz = 2 * min(passed_hz, 16_000 if is_high > 0.2 else 8_000)
    rate_hz = next((rate for rate in RATES_HZ if rate >= 0.95 * wished_hz), RATES_HZ[-1])
    why_rate = f"every source passes {passed_hz / 1000:.1f} kHz"
    why_rate += f"; {is_high:.0%} of the clips have much of their power above 8 kHz"
    top_hz = float(np.floor(passed_hz * 0.97 / 100) * 100)
    if top_hz >= 0.95 * rate_hz / 2 or top_hz < 1000:
        return rate_hz, None, why_rate, ""
    return (
        rate_hz,
        top_hz,
        why_rate,
        "what the narrowest source passes: above it, a classifier would hear the recorder",
    )


def _family(rarest: int, label: str) -> tuple[str, str, str]:
    size = "medium" if rarest >= MANY else "small"
    why = f"the rarest label, {label}, has {rarest} clips"
    if rarest < FEW:
        return "logistic", size, f"{why}: too few for a network"
    return "tcn", size, why
