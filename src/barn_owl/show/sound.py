"""Figures of sound: a clip, a gallery of classes, feature tracks, the filter bank, a long recording."""

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from barn_owl.arguments import as_array
from barn_owl.audio import audio_info, prefetch, read_audio, stream_audio
from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.errors import AudioError, TableError
from barn_owl.features import FrontEnd
from barn_owl.show.style import INK, LABEL_COLORS, draw_frames, draw_grid, heading, new_axes, new_figure

COLUMNS = 1200
"""Columns of an overview, about a pixel each."""
DRAWN_RANGE_DB = 70.0
LONGEST_NAME = 26
MIN_DRAWN_KHZ = 1.0
"""Height of the spectrogram of a clip at least, however low its sound is."""
TICKS_HZ = (50, 100, 200, 500, 1000, 2000, 4000, 8000, 16000)


MAX_TICKS = 12
FEW_TICKS_HZ = (200, 1000, 4000)


def mel_ticks(axes: Axes, front_end: FrontEnd, ticks_hz: tuple[int, ...] = TICKS_HZ) -> None:
    """Mark round frequencies on an axis of mel bands."""
    places = mel_places(front_end, ticks_hz)
    axes.set_yticks(list(places.values()), [f"{hertz:g}" for hertz in places])


def mel_places(front_end: FrontEnd, ticks_hz: tuple[int, ...] = TICKS_HZ) -> dict[int, float]:
    """Return positions of round frequencies among the mel bands, in bands from the lowest, without crowding."""
    centers = front_end.centers_hz
    inside = [hertz for hertz in ticks_hz if centers[0] <= hertz <= centers[-1]]
    places: dict[int, float] = {}
    for hertz, place in zip(inside[::-1], np.interp(inside, centers, np.arange(len(centers)))[::-1], strict=True):
        if not places or min(places.values()) - place >= len(centers) / MAX_TICKS:  # low frequencies are dense
            places[hertz] = float(place)
    return places


def clip_figure(
    samples: np.ndarray, rate_hz: int, front_end: FrontEnd | None = None, *, title: str = "", ax: Axes | None = None
) -> Figure:
    """Draw a clip: waveform, spectrogram, log-mel and cepstral coefficients on a common time axis.

    Parameters
    ----------
    samples : np.ndarray
        Mono, shape ``(samples,)``.
    rate_hz : int
        Sample rate in Hz.
    front_end : FrontEnd | None
        Frame, hop and bands; its rate is that of the clip.
    title : str
        Title of the figure.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Raises
    ------
    AudioError
        If the clip is shorter than a frame.

    Examples
    --------
    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> barn_owl.save_figure(barn_owl.show.clip_figure(samples, rate_hz, title="night"), "clip.png")
    """
    given = front_end or FrontEnd()
    top = given.high_hz if given.high_hz is None else min(given.high_hz, rate_hz / 2)
    given = given.but(rate_hz=rate_hz, features=["spectrogram", "log-mel", "mfcc"], fft=None, high_hz=top)
    frames = given.frames(samples)
    bins, bands = given.fft_length // 2 + 1, given.bands
    figure = new_figure(ax=ax)
    wave, spectrum, mel, cepstrum = figure.subplots(4, 1, sharex=True, height_ratios=[2, 4, 3, 2])
    wave.plot(np.arange(len(samples)) / rate_hz, samples, color=LABEL_COLORS[0], linewidth=0.5)
    limit = max(1e-4, float(np.abs(samples).max()) * 1.05)
    wave.set_ylim(-limit, limit)
    wave.set_ylabel("amplitude")
    draw_grid(wave)
    length = len(frames) * given.hop_s
    highest, coefficients = float(frames[:, :bins].max()), frames[:, bins + bands :]
    # A low sound would be a line at the foot of an axis up to half the rate.
    strong = np.flatnonzero(frames[:, :bins].max(axis=0) > highest - DRAWN_RANGE_DB)
    seen_khz = min(rate_hz / 2000, max(MIN_DRAWN_KHZ, 1.25 * strong[-1] * rate_hz / given.fft_length / 1000))
    panels = (
        (spectrum, frames[:, :bins], rate_hz / 2000, "kHz", (highest - DRAWN_RANGE_DB, highest), "dB re full scale"),
        (mel, frames[:, bins : bins + bands], None, "mel band, Hz", None, "dB re full scale"),
        (cepstrum, coefficients - coefficients.mean(axis=0), None, "cepstral\ncoefficient", None, "dB re its mean"),
    )
    for axes, rows, height, name, limits, unit in panels:
        limits = limits or tuple(np.quantile(rows, [0.05, 0.995]))
        image = draw_frames(axes, rows, (0, length), limits, height)
        axes.set_ylabel(name)
        figure.colorbar(image, ax=axes, label=unit, pad=0.01, fraction=0.03)
    spectrum.set_ylim(0, seen_khz)
    mel_ticks(mel, given)
    cepstrum.set_xlabel("time, s")
    cepstrum.set_xlim(0, len(samples) / rate_hz)
    text = title or f"{len(samples) / rate_hz:.2f} s at {rate_hz} Hz, loudest at {_loudest(given, frames)}"
    heading(wave, text)
    return figure


def _loudest(front_end: FrontEnd, frames: np.ndarray) -> str:
    mel = frames[:, front_end.level_columns]
    return f"{front_end.centers_hz[int(mel.max(axis=0).argmax())]:.0f} Hz"


def gallery_figure(
    clips: TableOrPath, front_end: FrontEnd | None = None, *, examples: int = 6, seed: int = 0, ax: Axes | None = None
) -> Figure:
    """Draw log-mel spectrograms of some clips of each label on a common scale, in a row per label.

    Parameters
    ----------
    clips : pd.DataFrame | str | Path
        Clip table or its path.
    front_end : FrontEnd | None
        Front end of the pictures. Default: log-mel.
    examples : int
        Clips per label, drawn by `seed` across groups. At most 12 labels are drawn, the most frequent.
    seed : int
        Seed of all random choices.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Raises
    ------
    TableError
        If no clip can be read.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> barn_owl.save_figure(barn_owl.show.gallery_figure(clips, examples=2), "gallery.png")
    """
    clips = as_clip_table(clips, "clips")
    front_end = (front_end or FrontEnd()).but(features=["log-mel"])
    labels = clips["label"].value_counts().index[:12].sort_values().tolist()
    rng = np.random.default_rng(seed)
    rows = {label: _examples(clips[clips["label"] == label], front_end, examples, rng) for label in labels}
    spectra = [frames for row in rows.values() for _, frames in row]
    if not spectra:
        raise TableError("no clip could be read for the gallery")
    low, high = np.quantile(np.concatenate(spectra), [0.05, 0.998])
    figure = new_figure(ax=ax)
    # Each label has its time scale: a hit of 0.1 s would be a sliver beside clips of 4 s.
    grid = figure.subplots(len(labels), examples, squeeze=False, sharex="row", sharey=True)
    for line, label in zip(grid, labels, strict=True):
        for axes in line:
            axes.set_facecolor("#f3efe6")
            axes.tick_params(labelsize=7)
        for axes, (name, frames) in zip(line, rows[label], strict=False):
            image = draw_frames(axes, frames, (0, len(frames) * front_end.hop_s), (low, high), small=True)
            axes.set_title(_shortened(name), fontsize=7, color=INK, pad=2)
        mel_ticks(line[0], front_end, FEW_TICKS_HZ)
        count = int((clips["label"] == label).sum())
        line[0].set_ylabel(f"{label or 'no label'}\n{count} clips", fontsize=9)
        if rows[label]:
            longest = float(np.quantile([len(frames) for _, frames in rows[label]], 0.95)) * front_end.hop_s
            line[0].set_xlim(0, longest)
    figure.supxlabel("time in seconds, as long as the clips of the label; mel bands marked in Hz", fontsize=9)
    figure.colorbar(image, ax=grid, label="dB re full scale", pad=0.01, fraction=0.02)
    heading(
        figure, f"{len(clips)} clips of {clips['label'].nunique()} labels, {examples} of each on one scale of level"
    )
    return figure


def _shortened(name: str) -> str:
    """Return a name that fits above its picture: beginning and end, which distinguish takes."""
    return name if len(name) <= LONGEST_NAME else f"{name[: LONGEST_NAME // 2]}…{name[-LONGEST_NAME // 2 + 1 :]}"


def _examples(
    clips: pd.DataFrame, front_end: FrontEnd, count: int, rng: np.random.Generator
) -> list[tuple[str, np.ndarray]]:
    """Draw clips of a label, round robin over groups, and compute their frames; skip unreadable clips."""
    order = clips.iloc[rng.permutation(len(clips))]
    if "group" in order:
        order = order.iloc[np.argsort(order.groupby("group").cumcount().to_numpy(), kind="stable")]
    found: list[tuple[str, np.ndarray]] = []
    for row in order.itertuples():
        try:
            samples, _ = read_audio(
                row.file,
                rate_hz=front_end.rate_hz,
                start_s=None if pd.isna(row.start_s) else row.start_s,
                end_s=None if pd.isna(row.end_s) else row.end_s,
            )
            found.append((Path(row.file).stem, front_end.frames(samples)))
        except AudioError:
            continue
        if len(found) == count:
            break
    return found


def tracks_figure(front_end: FrontEnd, frames: np.ndarray, *, title: str = "", ax: Axes | None = None) -> Figure:
    """Draw features over time: a line for a feature with a single column, a picture for several columns.

    Parameters
    ----------
    front_end : FrontEnd
        Front end of the frames.
    frames : np.ndarray
        Shape ``(frames, width)``, from `front_end`.
    title : str
        Title of the figure.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> front_end = barn_owl.FrontEnd(features=["pitch", "level"])
    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> figure = barn_owl.show.tracks_figure(front_end, front_end.frames(samples))
    >>> barn_owl.save_figure(figure, "tracks.png")
    """
    frames = as_array("frames", frames, None, front_end.width)
    parts, first = [], 0
    for base, times, names, unit in front_end.layout:
        rows = frames[:, first : first + len(names)]
        first += len(names)
        if base == "mfcc":  # the first coefficient would hide the rest
            rows, unit = rows - rows.mean(axis=0), f"{unit} re its mean"
        parts.append((names, "" if unit == "1" else unit, rows, base + "′" * times))
    figure = new_figure(max(8.0, 1.1 * len(parts)), ax=ax)
    grid = figure.subplots(len(parts), 1, sharex=True, squeeze=False)[:, 0]
    at = front_end.times(len(frames))
    for axes, (names, unit, rows, name) in zip(grid, parts, strict=True):
        if len(names) == 1:
            axes.plot(at, rows[:, 0], color=LABEL_COLORS[0], linewidth=1.2)
            draw_grid(axes)
        else:
            draw_frames(axes, rows, (at[0], at[-1]), np.quantile(rows, [0.05, 0.995]), small=True)
            if name in ("log-mel", "mel"):
                mel_ticks(axes, front_end, FEW_TICKS_HZ)
            if name == "chroma":
                axes.set_yticks((0, 4, 8), ("C", "E", "G#"))
        axes.set_ylabel(f"{name}\n{unit}", fontsize=8, rotation=0, ha="right", va="center")
    grid[-1].set_xlabel("time, s")
    heading(grid[0], title or f"{front_end.width} feature columns over {len(frames)} frames")
    return figure


def filter_bank_figure(front_end: FrontEnd, *, ax: Axes | None = None) -> Figure:
    """Draw the mel bank of a front end: the weight of each bin in each band.

    Parameters
    ----------
    front_end : FrontEnd
        Front end.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> barn_owl.save_figure(barn_owl.show.filter_bank_figure(barn_owl.FrontEnd()), "bank.png")
    """
    from barn_owl.features import mel_bank

    bank = mel_bank(front_end.bands, front_end.low_hz, front_end.top_hz, front_end.rate_hz, front_end.fft_length)
    figure, axes = new_axes(5.0, ax=ax)
    hertz = np.arange(len(bank)) * front_end.bin_hz
    for band in range(front_end.bands):
        axes.plot(hertz, bank[:, band], color=LABEL_COLORS[band % 3], linewidth=1.1)
    axes.set_xscale("symlog", linthresh=1000)
    axes.set_xlim(0, front_end.rate_hz / 2)
    inside = [0, *(hertz for hertz in TICKS_HZ if 200 <= hertz <= front_end.rate_hz / 2)]
    axes.set_xticks(inside, [f"{hertz:g}" for hertz in inside])
    axes.minorticks_off()
    axes.set(xlabel="frequency, Hz (logarithmic above 1000)", ylabel="weight")
    draw_grid(axes)
    bin_width = f"bins {front_end.bin_hz:.3g} Hz wide"
    heading(axes, f"{front_end.bands} mel bands from {front_end.low_hz:g} to {front_end.top_hz:g} Hz, {bin_width}")
    return figure


def overview_figure(
    path: str | Path,
    front_end: FrontEnd | None = None,
    *,
    progress: Callable[[float, float], None] | None = None,
    ax: Axes | None = None,
) -> Figure:
    """Draw a whole recording of any length: maximum log-mel and level in each of about 1200 columns.

    The recording is streamed, so memory does not grow with it.

    Parameters
    ----------
    path : str | Path
        Recording.
    front_end : FrontEnd | None
        Front end of the pictures. Default: log-mel.
    progress : Callable[[float, float], None] | None
        Seconds done, and there are.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Raises
    ------
    AudioError
        If the recording cannot be read or is shorter than a frame.

    Examples
    --------
    >>> barn_owl.save_figure(barn_owl.show.overview_figure("night.wav"), "overview.png")
    """
    front_end = (front_end or FrontEnd(hop_ms=32.0)).but(features=["log-mel", "level"])
    length_s = audio_info(path).duration_s
    frames = max(1, front_end.count(round(length_s * front_end.rate_hz)))
    per_column = -(-frames // COLUMNS)
    columns = np.full((-(-frames // per_column), front_end.width), -np.inf, dtype=np.float32)
    done = 0
    for new in front_end.frame_blocks(prefetch(stream_audio(path, rate_hz=front_end.rate_hz))):
        for first in range(0, len(new), 4096):
            part = new[first : first + 4096]
            at = np.minimum((done + np.arange(len(part))) // per_column, len(columns) - 1)
            np.maximum.at(columns, at, part)
            done += len(part)
        if progress:
            progress(min(length_s, done * front_end.hop_s), length_s)
    if not done:
        raise AudioError(f"{path} is too short for one frame of {front_end.frame_ms:g} ms")
    columns = columns[: -(-done // per_column)]
    return _draw_overview(new_figure(ax=ax), Path(path).name, front_end, columns, done * front_end.hop_s)


def _draw_overview(figure: Figure, name: str, front_end: FrontEnd, columns: np.ndarray, length_s: float) -> Figure:
    unit, scale = next(
        (u, s) for u, s, least in (("hours", 3600, 7200), ("minutes", 60, 180), ("seconds", 1, 0)) if length_s > least
    )
    mel, level = columns[:, :-1], columns[:, -1]
    picture, track = figure.subplots(2, 1, sharex=True, height_ratios=[3, 1])
    image = draw_frames(picture, mel, (0, length_s / scale), np.quantile(mel, [0.02, 0.999]))
    mel_ticks(picture, front_end)
    picture.set_ylabel("mel band, Hz")
    figure.colorbar(image, ax=picture, label="dB re full scale (maximum per column)", pad=0.01, fraction=0.03)
    track.fill_between(
        (np.arange(len(level)) + 0.5) * length_s / scale / len(level), level, level.min(), color=LABEL_COLORS[0]
    )
    track.set_ylabel("level, dB")
    track.set_xlabel(f"time in {unit}")
    draw_grid(track)
    track.set_xlim(0, length_s / scale)
    loudest = int(level.argmax()) / len(level) * length_s
    heading(picture, f"{name}: {length_s / scale:.3g} {unit}, loudest at {loudest:.0f} s with {level.max():.0f} dB")
    return figure
