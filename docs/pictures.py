"""Draw the pictures of how it works from the demo's files.

usage: python docs/pictures.py DEMO    # a folder that barn-owl demo wrote
"""

import sys
from pathlib import Path

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.image import AxesImage

import barn_owl
from barn_owl.learn.fitted import Examples, background_numbers
from barn_owl.learn.mixtures import MixtureMaker
from barn_owl.show.sound import mel_ticks
from barn_owl.show.style import (
    INK,
    LABEL_COLORS,
    draw_frames,
    draw_grid,
    heading,
    label_colors,
    label_lines,
    new_figure,
)  # fmt: skip

HERE = Path(__file__).parent / "pictures"
CLIP, CLIP_S = "hull-knock", 0.5
"""Label of the clip whose frames are drawn, and how much of it."""
EVENT, EVENT_S = "halyard", 4.0
"""Label of the event whose scores are drawn, and how much of the recording."""
SPLITS = {"train": LABEL_COLORS[0], "validation": LABEL_COLORS[4], "test": LABEL_COLORS[1]}
MIXTURE = 5
"""Number of the mixture that is drawn: one with several sounds."""


def frames_picture(demo: Path) -> Figure:
    """A waveform with its first frames, and the levels of all frames."""
    clips, front_end = barn_owl.read_clip_table(demo / "clean.csv"), barn_owl.open_run(demo / "run").plan.front_end
    file = clips.loc[clips["label"] == CLIP, "file"].iloc[0]
    samples, rate_hz = barn_owl.read_audio(file, rate_hz=front_end.rate_hz)
    first = max(0, int(np.abs(samples).argmax()) - rate_hz // 10)
    samples = samples[first : first + round(CLIP_S * rate_hz)]
    figure = new_figure(6.4)
    wave, spectrogram = figure.subplots(2, 1, sharex=True, height_ratios=[2, 3])
    wave.plot(np.arange(len(samples)) / rate_hz, samples, color=INK, linewidth=0.8)
    for number in range(3):
        begin_s = 0.1 + number * front_end.hop_s
        wave.axvspan(begin_s, begin_s + front_end.frame_ms / 1000, color=LABEL_COLORS[number], alpha=0.25)
        wave.text(
            begin_s + 0.06, (0.9 - 0.22 * number) * samples.min(), f"frame {number + 1}", color=LABEL_COLORS[number]
        )
    wave.set_ylabel("sample value")
    draw_grid(wave)
    levels = front_end.frames(samples)[:, front_end.level_columns]
    image = _draw_levels(spectrogram, levels, front_end, 0.0)
    spectrogram.set_xlabel("time, s")
    figure.colorbar(image, ax=spectrogram, label="level, dB re full scale")
    heading(
        figure,
        f"Every {front_end.hop_ms:g} ms, a frame: {front_end.frame_ms:g} ms of samples become the levels of "
        f"{front_end.bands} mel bands",
    )
    return figure


def mixture_picture(demo: Path) -> Figure:
    """A training mixture with its targets."""
    run = barn_owl.open_run(demo / "run")
    table = run.predictions[run.predictions["split"] == "train"].reset_index(drop=True)
    labels, front_end = sorted(table["label"].unique()), run.plan.front_end
    loaded, table, _ = barn_owl.load_frames(table, front_end)
    numbers = [labels.index(label) for label in table["label"]]
    targets = np.eye(len(labels), dtype=np.float32)[numbers]
    examples = Examples(clips=loaded, targets=targets, extras=np.empty((len(table), 0)))
    maker = MixtureMaker(run.plan, examples, background_numbers(run.plan, labels))
    length = front_end.count(round(run.plan.mixtures.seconds * front_end.rate_hz))
    mixtures = maker.make(12, length, np.random.default_rng(3), whole=0.0)
    events = [event for event in mixtures.events if event[0] == MIXTURE]
    figure = new_figure(7.2)
    spectrogram, tracks, bars = figure.subplots(3, 1, sharex=True, height_ratios=[4, 2, 2])
    _draw_levels(spectrogram, mixtures.frames[MIXTURE], front_end, 0.0)
    times_s = np.arange(length) * front_end.hop_s
    shown = [number for number in range(len(labels)) if number not in background_numbers(run.plan, labels)]
    tracks.fill_between(times_s, mixtures.activity[MIXTURE][:, shown].max(axis=1), color=INK, alpha=0.35, step="mid")
    onsets = times_s[mixtures.onsets[MIXTURE][:, shown].max(axis=1) > 0]
    tracks.vlines(onsets, 0, 1, color=LABEL_COLORS[1], linewidth=2)
    tracks.set_yticks([0, 1])
    tracks.set_ylabel("activity,\nonsets (lines)")
    colors = label_colors(labels)
    for row, (_, first, last, number) in enumerate(events):
        name = labels[number] if number < len(labels) else "no label"
        begin_s, end_s = first * front_end.hop_s, last * front_end.hop_s
        bars.barh(row, end_s - begin_s, left=begin_s, color=colors.get(name, "#999999"))
        bars.text(begin_s, row, f" {name}", va="center", color="white" if name in colors else INK, fontsize=8)
    bars.set_yticks([])
    bars.set_ylabel("labels of\nsegments")
    bars.set_xlabel("time, s")
    bars.set_xlim(0, times_s[-1])
    for axes in (tracks, bars):
        draw_grid(axes)
    heading(figure, "A training mixture: sounds of clips at random times and levels over background, and its targets")
    return figure


def event_picture(demo: Path) -> Figure:
    """From the scores of the steps to an event."""
    model = barn_owl.load_model(demo / "run")
    events = barn_owl.read_events(demo / "events.csv")
    event = events[events["label"] == EVENT].sort_values("score").iloc[-1]
    begin_s = max(0.0, (event["start_s"] + event["end_s"] - EVENT_S) / 2)
    whole = barn_owl.tag.compute_trace(model, demo / "night.flac")
    trace = whole.between(begin_s, begin_s + EVENT_S)
    samples, _ = barn_owl.read_audio(
        demo / "night.flac", start_s=begin_s, end_s=begin_s + EVENT_S, rate_hz=model.front_end.rate_hz
    )
    times_s = begin_s + trace.times_s
    figure = new_figure()
    spectrogram, activity, logits, bars = figure.subplots(4, 1, sharex=True, height_ratios=[4, 3, 3, 1])
    _draw_levels(spectrogram, model.front_end.frames(samples), model.front_end, begin_s)
    activity.plot(times_s, trace.activity[:, 0], color=INK, linewidth=2, label="activity")
    activity.plot(times_s, trace.onsets[:, 0], color=LABEL_COLORS[1], linewidth=1.5, label="onset score")
    for height, name in (
        (model.decoding.threshold, "threshold"), (model.decoding.release_threshold, "release threshold")
    ):  # fmt: skip
        activity.axhline(height, color=INK, linewidth=1, linestyle="--")
        activity.text(begin_s + EVENT_S, height, f"{name} ", va="bottom", ha="right", fontsize=9)
    activity.set_ylim(0, 1.05)
    activity.set_ylabel("score")
    activity.legend(loc=(0.3, 0.12), ncols=2, frameon=False)
    lines = label_lines(model.labels)
    for number, label in enumerate(model.labels):
        logits.plot(times_s, trace.label_logits[:, number], **lines[label], label=label)
    logits.set_ylabel("label logits")
    logits.legend(loc=(0.3, 0.46), ncols=7, frameon=False, fontsize=9)
    for row in events[(events["end_s"] > begin_s) & (events["start_s"] < begin_s + EVENT_S)].itertuples():
        bars.barh(0, row.end_s - row.start_s, left=row.start_s, color=lines[row.label]["color"])
        bars.text(row.start_s, 0, f" {row.label}, score {row.score:.2f}", va="center", color="white")
    bars.set_yticks([])
    bars.set_ylabel("event")
    bars.set_xlabel("time, s")
    bars.set_xlim(begin_s, begin_s + EVENT_S)
    for axes in (activity, logits, bars):
        draw_grid(axes)
    heading(
        figure,
        "An event begins and ends where the activity passes the thresholds; its label is that of all its steps",
    )
    return figure


def split_picture(demo: Path) -> Figure:
    """Clips of each group and label, and their split."""
    table = barn_owl.open_run(demo / "run").predictions
    counts = table.groupby(["group", "split", "label"]).size().reset_index(name="clips")
    order = list(SPLITS)
    groups = sorted(table["group"].unique(), key=lambda name: (order.index(_split_of(table, name)), name))
    labels = sorted(table["label"].unique())
    figure = new_figure(5.6)
    axes = figure.subplots()
    for split, color in SPLITS.items():
        own = counts[counts["split"] == split]
        axes.scatter(
            [labels.index(label) for label in own["label"]], [groups.index(group) for group in own["group"]],
            s=14 * own["clips"], color=color, label=f"{split}: {own['clips'].sum()} clips",
        )  # fmt: skip
    for row in counts.itertuples():
        axes.text(
            labels.index(row.label), groups.index(row.group), row.clips, ha="center", va="center", color="white",
            fontsize=8,
        )  # fmt: skip
    axes.set_xticks(range(len(labels)), labels)
    axes.set_yticks(range(len(groups)), groups)
    axes.invert_yaxis()
    axes.margins(0.08)
    draw_grid(axes)
    axes.set_ylabel("group (recorder)")
    figure.legend(loc="outside lower left", ncols=3, frameon=False, markerscale=0.5)
    heading(figure, "A split by groups: each recorder is in a single split, so the test is on unseen recorders")
    return figure


def clips_picture(_demo: Path) -> Figure:
    """Balanced accuracy over clips per label, and over groups."""
    table = pd.read_csv(HERE.parents[1] / "benchmarks/learning_curves.csv")
    lines = label_lines(sorted(table["problem"].unique()))
    figure = new_figure(5.6)
    panels = figure.subplots(1, 2, sharey=True, width_ratios=[3, 2])
    for over, axes in zip(("clips", "groups"), panels, strict=True):
        for problem, own in table[table["over"] == over].groupby("problem"):
            axes.plot(own[over], own["balanced_accuracy"], "o", label=problem, **lines[problem])
        axes.set_xscale("log")
        ticks = sorted({3, 5, 10, 20, 40, 100} if over == "clips" else {1, 2, 3, 4, 5, 7, 10})
        axes.set_xticks(ticks, [str(tick) for tick in ticks])
        axes.minorticks_off()
        axes.set_ylim(0.3, 1.02)
        draw_grid(axes)
    panels[0].set_xlabel("training clips per label, from all groups")
    panels[0].set_ylabel("balanced accuracy, unseen groups")
    panels[0].legend(frameon=False)
    panels[1].set_xlabel("training groups, at most 20 clips per label")
    heading(figure, "How accuracy on unseen groups grows with clips and with groups")
    return figure


def rehearsal_picture(demo: Path) -> Figure:
    """The first 90 s of the rehearsal: true and detected events."""
    return barn_owl.show.rehearsal_figure(barn_owl.open_run(demo / "run"))


PICTURES = {
    "frames": frames_picture, "mixture": mixture_picture, "event": event_picture, "split": split_picture,
    "rehearsal": rehearsal_picture, "clips": clips_picture,
}  # fmt: skip


def _draw_levels(axes: Axes, levels: np.ndarray, front_end: barn_owl.FrontEnd, start_s: float) -> AxesImage:
    times = start_s, start_s + len(levels) * front_end.hop_s
    image = draw_frames(axes, levels, times, np.quantile(levels, [0.05, 0.999]))
    mel_ticks(axes, front_end)
    axes.set_ylabel("frequency, Hz")
    return image


def _split_of(table: pd.DataFrame, group: str) -> str:
    return table.loc[table["group"] == group, "split"].iloc[0]


def main() -> None:
    """Draw all pictures, or those that are named after the folder."""
    demo, *names = sys.argv[1:]
    HERE.mkdir(exist_ok=True)
    for name in names or PICTURES:
        barn_owl.save_figure(PICTURES[name](Path(demo)), HERE / f"{name}.png", force=True)


if __name__ == "__main__":
    main()
