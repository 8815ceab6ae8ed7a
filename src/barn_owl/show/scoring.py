"""Figures of event scores: hits, misses and false alarms; detection error trade-off; events by hour."""

from typing import Any

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from barn_owl.audio import audio_info, read_audio
from barn_owl.clips.table import require_columns
from barn_owl.errors import AudioError
from barn_owl.evaluate import EventScores
from barn_owl.features import FrontEnd
from barn_owl.show.sound import FEW_TICKS_HZ, mel_ticks
from barn_owl.show.style import (
    GRID,
    INK,
    LABEL_COLORS,
    draw_frames,
    draw_grid,
    heading,
    label_fills,
    new_axes,
    new_figure,
)
from barn_owl.tag import Adjusted

CONTEXT_S, EXAMPLES = 1.0, 6
NEAR_AXIS = 0.05
GAIN, LOSS = LABEL_COLORS[0], LABEL_COLORS[1]


def events_figure(scores: EventScores, *, ax: Axes | None = None) -> Figure:
    """Draw hits, misses and false alarms by label, errors of onset and duration, and examples of both mistakes.

    Parameters
    ----------
    scores : EventScores
        Result of `barn_owl.score_events`.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> scores = barn_owl.score_events("events.csv", "truth.csv")
    >>> barn_owl.save_figure(barn_owl.show.events_figure(scores), "events.png")
    """
    figure = new_figure(9.0, ax=ax)
    top, upper, lower = np.asarray(figure.subfigures(3, 1, height_ratios=[1.3, 1, 1]))
    counts, errors = top.subplots(1, 2, width_ratios=[3, 2])
    table = scores.by_label
    at = np.arange(len(table))
    counts.barh(at, table["hits"], color=GAIN, label="hits")
    counts.barh(at, table["true"] - table["hits"], left=table["hits"], color="#c9c2b2", label="misses")
    counts.barh(at, -(table["detected"] - table["hits"]), color=LOSS, label="false alarms")
    counts.set_yticks(at, table.index)
    counts.invert_yaxis()
    counts.axvline(0, color=INK, linewidth=0.8)
    counts.set_xlabel("events (false alarms to the left)", labelpad=2)
    counts.legend(frameon=False, fontsize=9, loc="upper center", bbox_to_anchor=(0.5, -0.2), ncols=3)
    heading(
        counts,
        f"F1 {scores.f1:.2f}, recall {scores.recall:.2f}, precision {scores.precision:.2f}, "
        f"{scores.false_alarms_per_hour:.1f} false alarms per hour",
        size=12,
    )
    milliseconds = 1000 * scores.matches["onset_error_s"].to_numpy(dtype=float)
    if len(milliseconds):
        # Equal errors, as of truth against itself, have no range.
        widest = max(float(np.abs(milliseconds).max()), 20.0)
        errors.hist(milliseconds, bins=41, range=(-widest, widest), color=GAIN)
        heading(errors, f"Onsets: median error {np.median(np.abs(milliseconds)):.0f} ms", size=12)
    errors.set(xlabel="onset error, ms (tagged - true)", ylabel="events")
    errors.yaxis.set_major_locator(MaxNLocator(integer=True))
    counts.xaxis.set_major_locator(MaxNLocator(integer=True))
    for axes in (counts, errors):
        draw_grid(axes)
    for line, table, name in (
        (upper, scores.misses, "Misses"), (lower, scores.false_alarms, "False alarms, highest score first"),
    ):  # fmt: skip
        heading(line, f"{name}: {len(table)}", size=11)
        panels = line.subplots(1, EXAMPLES)
        for axes, row in zip(panels, [*table.head(EXAMPLES).itertuples(), *[None] * EXAMPLES], strict=False):
            _excerpt(axes, row)
        if len(table):
            mel_ticks(panels[0], FrontEnd(), FEW_TICKS_HZ)
            panels[0].tick_params(axis="y", labelsize=7)
            panels[0].set_ylabel("mel band, Hz", fontsize=8)
    return figure


def _excerpt(axes: Axes, row: Any) -> None:
    axes.set_xticks([])
    axes.set_yticks([])
    if row is None:
        axes.set_axis_off()
        return
    front_end, start = FrontEnd(pad_short=True), max(0.0, row.start_s - CONTEXT_S)
    axes.set_xlabel(f"{row.label} at {row.start_s:.2f} s", fontsize=8)
    try:
        end = min(row.end_s + CONTEXT_S, audio_info(row.file).duration_s)
        samples, _ = read_audio(row.file, rate_hz=front_end.rate_hz, start_s=start, end_s=end)
    except AudioError:
        axes.text(0.5, 0.5, "recording\nnot available", ha="center", va="center", transform=axes.transAxes, color=INK)
        return
    frames = front_end.frames(samples)
    length = len(frames) * front_end.hop_s
    draw_frames(axes, frames, (start, start + length), np.quantile(frames, [0.05, 0.999]), small=True)
    for time in (row.start_s, row.end_s):
        axes.axvline(time, color="white", linewidth=1)
    axes.set_xlabel(f"{row.label} at {row.start_s:.2f} s, {row.end_s - row.start_s:.2f} s long", fontsize=8)


def _nearby(curve: pd.DataFrame) -> list[pd.DataFrame]:
    """Return the rows of a curve whose names do not overlap, in order."""
    groups: list[list[int]] = []
    places = curve[["false_alarms_per_hour", "recall"]].to_numpy() / [
        max(curve["false_alarms_per_hour"].max(), 1e-9),
        1,
    ]
    for row, place in enumerate(places):
        if groups and (np.abs(place - places[groups[-1][0]]) < 0.04).all():
            groups[-1].append(row)
        else:
            groups.append([row])
    return [curve.iloc[rows] for rows in groups]


def adjusting_figure(adjusted: Adjusted, *, ax: Axes | None = None) -> Figure:
    """Draw the detection error trade-off as the threshold moves, with the chosen settings and those of before.

    Parameters
    ----------
    adjusted : Adjusted
        Result of `barn_owl.adjust`.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> adjusted = barn_owl.adjust(barn_owl.load_model("first"), barn_owl.read_clip_table("truth.csv"))
    >>> barn_owl.save_figure(barn_owl.show.adjusting_figure(adjusted), "adjusting.png")
    """
    curve, scores = adjusted.curve.sort_values(["false_alarms_per_hour", "recall"]), adjusted.scores
    figure, axes = new_axes(6.5, ax=ax)
    axes.plot(
        curve["false_alarms_per_hour"],
        curve["recall"],
        "o-",
        color=LABEL_COLORS[0],
        label="one threshold for all labels",
    )
    for number, rows in enumerate(_nearby(curve)):
        ons = sorted(rows["threshold"], reverse=True)
        axes.annotate(
            f"{ons[0]:g}" if len(ons) == 1 else f"{ons[0]:g} to {ons[-1]:g}",
            tuple(rows[["false_alarms_per_hour", "recall"]].iloc[0]),
            # A name is longer than the way to the next point; below the lowest is the axis.
            xytext=(6, 10 if number % 2 or rows["recall"].iloc[0] < NEAR_AXIS else -14),
            textcoords="offset points",
            fontsize=8,
        )
    axes.plot(
        scores.false_alarms_per_hour,
        scores.recall,
        "s",
        color=LABEL_COLORS[1],
        markersize=11,
        label="chosen settings, same recordings",
    )
    honest = adjusted.cross_validated
    axes.plot(
        honest["false_alarms_per_hour"],
        honest["recall"],
        "x",
        color=INK,
        markersize=9,
        label="cross-validated, part by part",
    )
    own = adjusted.before
    axes.plot(
        own["false_alarms_per_hour"], own["recall"], "o", color=INK, markersize=9, markerfacecolor="none",
        label="settings of the model, same parts",
    )  # fmt: skip
    axes.set(xlabel="false alarms per hour", ylabel="recall", ylim=(0, 1.03))
    axes.set_xlim(left=-0.02 * axes.get_xlim()[1])  # a mark at none must be seen whole
    draw_grid(axes)
    axes.legend(frameon=False, loc="lower right")
    heading(axes, f"F1 {scores.f1:.2f} on these recordings, {honest['f1'].mean():.2f} cross-validated")
    return figure


def hours_figure(table: pd.DataFrame, *, ax: Axes | None = None) -> Figure:
    """Draw events per hour of recording by hour of the day and label; hours without recording are hatched.

    Parameters
    ----------
    table : pd.DataFrame
        Result of `barn_owl.archive.hours_table`.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> from datetime import datetime
    >>> events = barn_owl.read_events("events.csv")
    >>> table = barn_owl.archive.hours_table(events, {"night.wav": datetime(2026, 5, 1, 22)}, {"night.wav": 14.0})
    >>> barn_owl.save_figure(barn_owl.show.hours_figure(table), "hours.png")
    """
    require_columns(table, ["recorded_s"], "table")
    labels = [name for name in table if name != "recorded_s"]
    fills = label_fills(labels)
    figure, axes = new_axes(6.5, ax=ax)
    hours = table["recorded_s"].to_numpy() / 3600
    below = np.zeros(len(table))
    for label in labels:
        rate = table[label].to_numpy() / np.where(hours > 0, hours, np.inf)
        axes.bar(table.index + 0.5, rate, 0.86, bottom=below, **fills[label], label=label, zorder=2)
        below += rate
    for hour in table.index[hours <= 0]:
        axes.axvspan(hour, hour + 1, facecolor="#f4f0e6", edgecolor=GRID, hatch="//", linewidth=0, zorder=1)
    axes.set(xlim=(0, 24), ylim=(0, 1.05 * float(below.max()) or 1))
    axes.set(xlabel="hour of the day; hatched: not recorded", ylabel="events per hour of recording")
    axes.set_xticks(range(0, 25, 2))
    draw_grid(axes)
    if labels:
        axes.legend(frameon=False, fontsize=9, loc="center left", bbox_to_anchor=(1.0, 0.5), handleheight=1.2)
    total, busiest = int(table[labels].to_numpy().sum()), int(below.argmax())
    heading(axes, f"{total} events; the busiest hour is {busiest} to {busiest + 1} o'clock" if total else "No events")
    return figure
