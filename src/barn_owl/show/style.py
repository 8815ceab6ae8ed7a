"""The common style: color map, label colors and line styles, grid."""

import io
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal, cast

import numpy as np
from matplotlib import colormaps
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.figure import Figure, FigureBase
from matplotlib.font_manager import FontProperties, findfont, get_font
from matplotlib.image import AxesImage
from matplotlib.text import Text
from matplotlib.ticker import LogFormatter

from barn_owl.files import atomic_write, checked_target

DUSK = LinearSegmentedColormap.from_list(
    "barn_owl_dusk", ["#16202b", "#2f4358", "#5d5a63", "#9a6a45", "#cf9350", "#ecc88d", "#fdf6e6"]
)
"""From dusk slate over barn tawny to cream; lightness rises all the way, so it reads in gray."""
if "barn_owl_dusk" not in colormaps:
    colormaps.register(DUSK)

# M. Okabe and K. Ito, Color Universal Design, 2008; yellow last, as it is faint on white.
LABEL_COLORS = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#000000", "#F0E442")
LINES = ("-", (0, (5, 2)), (0, (1, 1.5)))
HATCHES = ("", "//////", "......")
"""Where there are more labels than colors."""
INK, GRID = "#1b2733", "#d9d4c7"
FIGURE_ENDINGS = (".png", ".svg", ".pdf")
SIZE_INCHES, DPI = (12.8, 8.0), 100


class Picture(Figure):
    """A figure that notebooks display, and that draws names literally, including dollar signs."""

    def savefig(self, *arguments: Any, **options: Any) -> None:
        """Write it. It is laid out once and then drawn once; otherwise all would be drawn for the layout as well."""
        engine = self.get_layout_engine()
        fix_layout(self)
        try:
            super().savefig(*arguments, **options)
        finally:
            self.set_layout_engine(engine)

    def disable_math(self) -> None:
        """Draw nothing as a formula but the powers on logarithmic axes."""
        # Requesting ticks creates them; requesting their labels would also place them.
        ticks = [
            (axis, tick)
            for one in self.axes
            for axis in (one.xaxis, one.yaxis)
            for tick in (*axis.get_major_ticks(), *axis.get_minor_ticks())
        ]
        powers = {
            id(label)
            for axis, tick in ticks
            if isinstance(axis.get_major_formatter(), LogFormatter)
            for label in (tick.label1, tick.label2)
        }
        for text in self.findobj(Text):
            if isinstance(text, Text) and id(text) not in powers:
                text.set_parse_math(False)
                if not text.get_text().isascii() or not text.get_text().isprintable():
                    text.set_text(_drawable(text.get_text(), text.get_fontproperties()))

    def _repr_png_(self) -> bytes:
        data = io.BytesIO()
        self.savefig(data, format="png")
        return data.getvalue()


def _drawable(text: str, font: FontProperties) -> str:
    """Escape characters that the font lacks or that are not printable."""
    known = get_font(findfont(font)).get_charmap()
    return "".join(
        character
        if character == "\n" or (character.isprintable() and ord(character) in known)
        else character.encode("unicode_escape").decode("ascii")
        for character in text
    )


def new_figure(height: float = SIZE_INCHES[1], *, ax: Axes | None = None) -> Figure:
    """Make an empty figure 1280 pixels wide, drawn without a screen, or a part of the figure of `ax` in its place.

    Raises TypeError if `ax` is no Axes, or not part of a grid of subplots.
    """
    if ax is not None:
        place = None if not isinstance(ax, Axes) else ax.get_subplotspec()
        if place is None:
            raise TypeError(f"ax must be Axes of a grid, as subplots() makes them, got {type(ax).__name__}")
        part = ax.get_figure(root=False)
        ax.remove()
        return cast("Figure", part.add_subfigure(place))  # type: ignore[union-attr]
    figure = Picture(figsize=(SIZE_INCHES[0], height), dpi=DPI, layout="constrained", facecolor="white")
    FigureCanvasAgg(figure)
    return figure


def new_axes(height: float = SIZE_INCHES[1], *, ax: Axes | None = None) -> tuple[Figure, Axes]:
    """Return a figure with a single pair of axes, or `ax` and its figure. Raises TypeError if `ax` is no Axes."""
    if ax is None:
        figure = new_figure(height)
        return figure, figure.add_subplot()
    if not isinstance(ax, Axes):
        raise TypeError(f"ax must be Axes, got {type(ax).__name__}")
    return cast("Figure", ax.figure), ax


def heading(where: FigureBase | Axes, text: str, size: float = 14) -> None:
    """Set the title of a figure or of its axes."""
    if isinstance(where, FigureBase):
        where.suptitle(text, x=0.01, ha="left", fontsize=size, color=INK)
    else:
        where.set_title(text, loc="left", fontsize=size, color=INK)


def draw_grid(axes: Axes, axis: Literal["x", "y", "both"] = "both") -> None:
    """Draw a faint grid behind the data, and no frame above and on the right."""
    axes.grid(color=GRID, linewidth=0.7, axis=axis)
    axes.set_axisbelow(True)
    axes.spines[["top", "right"]].set_visible(False)


def draw_frames(
    axes: Axes,
    frames: np.ndarray,
    times: tuple[float, float],
    limits: Sequence[float],
    top: float | None = None,
    *,
    small: bool = False,
) -> AxesImage:
    """Draw frames, ``(frames, columns)``, as a picture over time.

    limits : values of the darkest and the brightest color. top : where the last column ends on an axis from 0 up;
    without it, a column is 1 high and centered on its number. small : frames are denser than pixels and smoothed, so
    that short sounds stay visible.
    """
    height = (0, top) if top else (-0.5, frames.shape[1] - 0.5)
    return axes.imshow(
        frames.T, origin="lower", aspect="auto", cmap=DUSK, vmin=limits[0], vmax=limits[1],
        extent=(*times, *height), interpolation="auto" if small else "nearest",
    )  # fmt: skip


def fix_layout(figure: Figure) -> Figure:
    """Lay a figure out once and for all, as it will be written several times, and return it."""
    engine = figure.get_layout_engine()
    if engine is not None and figure.axes:
        if isinstance(figure, Picture):
            figure.disable_math()
        engine.execute(figure)
        figure.set_layout_engine(None)
    return figure


def label_colors(labels: list[str]) -> dict[str, str]:
    """Return the color of each label, by its place in the list; colors repeat after eight."""
    return {label: LABEL_COLORS[place % len(LABEL_COLORS)] for place, label in enumerate(labels)}


def label_lines(labels: list[str]) -> dict[str, dict[str, Any]]:
    """How the line of each label is drawn, ``color`` and ``linestyle``: 24 that differ."""
    dashes = _by_round(LINES, labels)
    return {label: {"color": color, "linestyle": dashes[label]} for label, color in label_colors(labels).items()}


def label_fills(labels: list[str]) -> dict[str, dict[str, Any]]:
    """How a surface of each label is filled, ``facecolor``, ``edgecolor`` and ``hatch``: 24 that differ."""
    hatches = _by_round(HATCHES, labels)
    return {
        label: {"facecolor": color, "edgecolor": "white", "hatch": hatches[label], "linewidth": 0.5}
        for label, color in label_colors(labels).items()
    }


def _by_round(kinds: tuple[Any, ...], labels: list[str]) -> dict[str, Any]:
    """Solid for the first eight labels, then patterns for labels that share a color."""
    return {label: kinds[place // len(LABEL_COLORS) % len(kinds)] for place, label in enumerate(labels)}


def save_figure(figure: Figure, path: str | Path, *, force: bool = False) -> None:
    """Write a figure as PNG, SVG or PDF, by the ending of `path`, atomically.

    Parameters
    ----------
    figure : Figure
        A figure of this package, or any figure of Matplotlib.
    path : str | Path
        The file.
    force : bool
        Whether an existing file is overwritten.

    Raises
    ------
    OutputError
        If the output cannot be written.

    Examples
    --------
    >>> barn_owl.save_figure(barn_owl.show.filter_bank_figure(barn_owl.FrontEnd()), "filters.png")
    """
    checked_target(path, force=force, endings=FIGURE_ENDINGS)
    with atomic_write(path, force=force) as beside:
        figure.savefig(beside)
