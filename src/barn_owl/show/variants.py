"""The figure of augmented clips."""

import textwrap
from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from barn_owl.errors import TableError
from barn_owl.features import FrontEnd
from barn_owl.show.sound import FEW_TICKS_HZ, mel_ticks
from barn_owl.show.style import INK, draw_frames, heading, new_figure

MAX_VARIANTS = 12
COLUMNS = 4
RANGE_DB = 70.0
TITLE_WIDTH = 44


def variants_figure(
    variants: Sequence[tuple[np.ndarray, str]],
    rate_hz: int,
    *,
    title: str = "",
    front_end: FrontEnd | None = None,
    ax: Axes | None = None,
) -> Figure:
    """Draw log-mel spectrograms of a clip and its first dozen variants, each with its augmentation.

    Parameters
    ----------
    variants : Sequence[tuple[np.ndarray, str]]
        Mono samples and words, the original first.
    rate_hz : int
        Sample rate in Hz.
    title : str
        Title of the figure.
    front_end : FrontEnd | None
        Front end of the pictures. Default: log-mel.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> samples, rate_hz = barn_owl.read_audio("night.wav")
    >>> variants = [(samples, "as it is"), (samples / 2, "quieter")]
    >>> barn_owl.save_figure(barn_owl.show.variants_figure(variants, rate_hz), "variants.png")
    """
    if not len(variants):
        raise TableError("variants must hold one or more")
    front_end = (front_end or FrontEnd()).but(rate_hz=rate_hz, features=["log-mel"], pad_short=True)
    front_end = front_end.but(high_hz=min(front_end.top_hz, rate_hz / 2))
    pictures = [(front_end.frames(samples), words) for samples, words in variants[:MAX_VARIANTS]]
    columns = min(COLUMNS, len(pictures))
    rows = -(-len(pictures) // columns)
    figure = new_figure(max(4.0, 2.6 * rows + 0.8), ax=ax)
    grid = figure.subplots(rows, columns, sharex=True, sharey=True, squeeze=False)
    top = max(float(frames.max()) for frames, _ in pictures)
    longest = max(len(frames) for frames, _ in pictures) * front_end.hop_s
    for axes, (frames, words) in zip(grid.ravel(), pictures, strict=False):
        image = draw_frames(axes, frames, (0, len(frames) * front_end.hop_s), (top - RANGE_DB, top))
        axes.set_title(textwrap.fill(words, TITLE_WIDTH), fontsize=8, loc="left", color=INK)
        axes.set_xlim(0, longest)
    for axes in grid.ravel()[len(pictures) :]:
        axes.set_visible(False)
    for axes in grid[:, 0]:
        mel_ticks(axes, front_end, FEW_TICKS_HZ)
        axes.set_ylabel("mel band, Hz", fontsize=8)
    for axes in grid[-1]:
        axes.set_xlabel("time, s", fontsize=8)
    figure.colorbar(image, ax=grid, label="dB re full scale", pad=0.01, fraction=0.02)
    heading(figure, title or f"One clip and {len(pictures) - 1} variants of it")
    return figure
