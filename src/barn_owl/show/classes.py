"""Figures of features by class."""

from collections.abc import Sequence

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from barn_owl.arguments import as_array
from barn_owl.errors import TableError
from barn_owl.features.ranking import principal_map
from barn_owl.show.style import draw_grid, heading, label_colors, label_fills, label_lines, new_axes, new_figure
from barn_owl.wording import nearest_to

MARKERS = "os^vDPX*<>ph"
"""Labels differ by marker too, for gray print and color-blind eyes."""


def distributions_figure(
    x: np.ndarray,
    columns: Sequence[str],
    labels: Sequence[str],
    ranking: pd.DataFrame,
    *,
    units: Sequence[str] = (),
    ax: Axes | None = None,
) -> Figure:
    """Draw the distribution of the six best features by label, as boxes; whiskers at 5 and 95 percent.

    Parameters
    ----------
    x : np.ndarray
        ``(clips, features)``.
    columns : Sequence[str]
        Names of the columns of `x`.
    labels : Sequence[str]
        Label of each clip.
    ranking : pd.DataFrame
        Result of `rank_features`; redundant features are skipped.
    units : Sequence[str]
        Of each column, "1" for none.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> x, labels = np.random.default_rng(0).random((8, 2)), ["bell", "gull"] * 4
    >>> ranking = barn_owl.features.rank_features(x, ["pitch", "level"], labels)
    >>> figure = barn_owl.show.distributions_figure(x, ["pitch", "level"], labels, ranking)
    >>> barn_owl.save_figure(figure, "distributions.png")
    """
    x = as_array("x", x, len(labels), len(columns), of="labels, columns")
    if lacking := {"feature", "same_as"} - set(ranking):
        raise TableError(f"ranking has no column {min(lacking)!r}; rank_features gives it")
    chosen = ranking[(ranking["same_as"] == "") & ranking["feature"].isin(list(columns))].head(6)
    if not len(chosen):
        raise TableError("ranking has no feature of these columns")
    names = sorted(set(labels))
    fills = label_fills(names)
    figure = new_figure(ax=ax)
    grid = figure.subplots(2, 3, squeeze=False).ravel()
    for axes, row in zip(grid, chosen.itertuples(), strict=False):
        values = x[:, list(columns).index(row.feature)]
        groups = [values[np.asarray(labels) == name] for name in names]
        boxes = axes.boxplot(
            groups, orientation="horizontal", whis=(5, 95), showfliers=False, patch_artist=True, widths=0.6
        )
        for box, name in zip(boxes["boxes"], names, strict=True):
            box.set(**fills[name], alpha=0.75)
        for line in boxes["medians"]:
            line.set(color="white", linewidth=2)
        axes.set_yticks(range(1, len(names) + 1), names, fontsize=8)
        axes.invert_yaxis()
        draw_grid(axes, axis="x")
        axes.set_xlabel(_unit(row.feature, columns, units).strip(", "), fontsize=8, labelpad=1)
        axes.set_title(
            f"{row.feature}: F {row.f:.0f}\n{row.label} {row.direction}, area {row.area:.2f}", fontsize=9, loc="left"
        )
    for axes in grid[len(chosen) :]:
        axes.set_visible(False)
    best = chosen.iloc[0]
    heading(figure, f"{best['feature']} separates the labels best")
    return figure


def scatter_figure(
    x: np.ndarray,
    columns: Sequence[str],
    labels: Sequence[str],
    across: str,
    up: str,
    *,
    units: Sequence[str] = (),
    title: str = "",
    ax: Axes | None = None,
) -> Figure:
    """Draw two features of all clips in a scatter plot, colored and marked by label.

    Parameters
    ----------
    x : np.ndarray
        Features, ``(clips, features)``.
    columns : Sequence[str]
        Names of the columns of `x`.
    labels : Sequence[str]
        Label of each clip.
    across : str
        Names of the features of the two axes.
    up : str
        Names of the features of the two axes.
    units : Sequence[str]
        Units of the columns.
    title : str
        Title of the figure.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Raises
    ------
    TableError
        If a feature is not among the columns.

    Examples
    --------
    >>> x = np.random.default_rng(0).random((8, 2))
    >>> figure = barn_owl.show.scatter_figure(x, ["pitch", "level"], ["bell", "gull"] * 4, "pitch", "level")
    >>> barn_owl.save_figure(figure, "scatter.png")
    """
    for name in (across, up):
        if name not in columns:
            raise TableError(f"unknown feature {name!r}; {nearest_to(name, columns)}")
    x = as_array("x", x, len(labels), len(columns), of="labels, columns")
    figure, axes = new_axes(ax=ax)
    place = list(columns).index
    _dots(axes, x[:, place(across)], x[:, place(up)], labels)
    axes.set_xlabel(across + _unit(across, columns, units))
    axes.set_ylabel(up + _unit(up, columns, units))
    heading(axes, title or f"{len(x)} clips by {across} and {up}")
    return figure


def _unit(name: str, columns: Sequence[str], units: Sequence[str]) -> str:
    if len(units) not in {0, len(columns)}:
        raise TableError(f"{len(units)} units do not match {len(columns)} columns")
    unit = units[list(columns).index(name)] if len(units) else "1"
    return "" if unit == "1" else f", {unit}"


def map_figure(x: np.ndarray, labels: Sequence[str], *, ax: Axes | None = None) -> Figure:
    """Draw all clips on the first two principal components of their features.

    Parameters
    ----------
    x : np.ndarray
        Features, ``(clips, features)``.
    labels : Sequence[str]
        Label of each clip.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> x = np.random.default_rng(0).random((20, 3))
    >>> barn_owl.save_figure(barn_owl.show.map_figure(x, ["bell", "gull"] * 10), "map.png")
    """
    at, shares = principal_map(as_array("x", x, len(labels), None, of="labels"))
    figure, axes = new_axes(ax=ax)
    _dots(axes, at[:, 0], at[:, 1], labels)
    axes.set_xlabel(f"first principal component, {shares[0]:.0%} of the variance")
    axes.set_ylabel(f"second principal component, {shares[1]:.0%} of the variance")
    heading(axes, f"{len(x)} clips on their two main directions: {sum(shares):.0%} of the variance")
    return figure


def _dots(axes: Axes, across: np.ndarray, up: np.ndarray, labels: Sequence[str]) -> None:
    names = sorted(set(labels))
    if not names:
        raise TableError("labels must name one clip or more")
    colors = label_colors(names)
    for number, name in enumerate(names):
        own = np.asarray(labels) == name
        axes.scatter(
            across[own], up[own], s=36, color=colors[name], marker=MARKERS[number % len(MARKERS)],
            alpha=0.8, label=name, edgecolor="white", linewidth=0.5,
        )  # fmt: skip
    draw_grid(axes)
    axes.legend(frameon=False, loc="center left", bbox_to_anchor=(1.0, 0.5))


def spectra_figure(spectra: dict[str, np.ndarray], centers_hz: np.ndarray, *, ax: Axes | None = None) -> Figure:
    """Draw the mean spectrum of each label with its interquartile range.

    Parameters
    ----------
    spectra : dict[str, np.ndarray]
        Label to mean log-mel of each clip, ``(clips, bands)`` in dB.
    centers_hz : np.ndarray
        Center frequencies of the bands, in Hz.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> front_end = barn_owl.FrontEnd(features=["log-mel"])
    >>> levels = np.random.default_rng(0).uniform(-60, -20, (5, front_end.bands))
    >>> figure = barn_owl.show.spectra_figure({"bell": levels, "gull": levels - 6}, front_end.centers_hz)
    >>> barn_owl.save_figure(figure, "spectra.png")
    """
    centers_hz = as_array("centers_hz", centers_hz, None)
    spectra = {name: as_array("spectra", levels, None, len(centers_hz)) for name, levels in spectra.items()}
    names = sorted(spectra)
    lines = label_lines(names)
    figure, axes = new_axes(ax=ax)
    for number, name in enumerate(names):
        low, middle, high = np.quantile(spectra[name], [0.25, 0.5, 0.75], axis=0)
        axes.fill_between(centers_hz, low, high, color=lines[name]["color"], alpha=0.12, linewidth=0)
        axes.plot(
            centers_hz, middle, **lines[name], label=name, linewidth=1.8,
            marker=MARKERS[number % len(MARKERS)], markevery=4, markersize=5,
        )  # fmt: skip
    axes.set_xscale("log")
    axes.set_xticks([hertz for hertz in (100, 200, 500, 1000, 2000, 4000, 8000) if hertz < centers_hz[-1] * 1.05])
    axes.xaxis.set_major_formatter("{x:g}")
    axes.minorticks_off()
    axes.set(xlabel="center of the mel band, Hz", ylabel="median of the mean level of clips, dB re full scale")
    draw_grid(axes)
    axes.legend(frameon=False, loc="center left", bbox_to_anchor=(1.0, 0.5), handlelength=3)
    heading(axes, "Mean spectra by label; shaded: interquartile range of the clips")
    return figure
