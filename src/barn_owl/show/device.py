"""Figures of pruned and quantized models."""

from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from barn_owl.device import SearchResult, Shrunk, front
from barn_owl.show.style import GRID, INK, LABEL_COLORS, heading, new_figure


def shrink_figure(shrunk: Shrunk, *, ax: Axes | None = None) -> Figure:
    """Draw the channels of each convolution before and after pruning, and the score against the size.

    Parameters
    ----------
    shrunk : Shrunk
        Result of shrinking.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> rounds = pd.DataFrame({"share": [0.5], "flash_kb": [60.0], "recall": [0.8], "f1": [0.7]})
    >>> channels = pd.DataFrame({"layer": [1], "before": [16], "after": [9]})
    >>> shrunk = barn_owl.device.Shrunk(run=barn_owl.open_run("first"), rounds=rounds, channels=channels)
    >>> barn_owl.save_figure(barn_owl.show.shrink_figure(shrunk), "shrink.png")
    """
    figure = new_figure(ax=ax)
    channels, sizes = figure.subplots(1, 2, width_ratios=[1.4, 1])
    table = shrunk.channels
    channels.bar(table["layer"], table["before"], color=GRID, width=0.7, label="before")
    channels.bar(table["layer"], table["after"], color=LABEL_COLORS[0], width=0.45, label="after")
    for row in table.itertuples():
        channels.annotate(
            f"{row.after} of {row.before}", (row.layer, row.before), textcoords="offset points", xytext=(0, 4),
            ha="center", fontsize=9, color=INK,
        )  # fmt: skip
    channels.set(xlabel="convolutional layer", ylabel="channels")
    channels.xaxis.set_major_locator(MaxNLocator(integer=True))
    channels.margins(y=0.15)
    channels.legend(frameon=False, fontsize=9)
    heading(channels, "Channels left in each layer", size=12)
    rounds = shrunk.rounds
    for column, marker, color in (("recall", "o", LABEL_COLORS[0]), ("f1", "s", LABEL_COLORS[1])):
        name = "recall" if column == "recall" else "F1"
        sizes.plot(rounds["flash_kb"], rounds[column], marker=marker, color=color, label=name)
    for row in rounds.itertuples():
        sizes.annotate(
            f"{row.share:.0%}", (row.flash_kb, max(row.recall, row.f1)), textcoords="offset points", xytext=(0, 8),
            ha="center", fontsize=9, color=INK,
        )  # fmt: skip
    sizes.set_ylim(0, 1.02)
    sizes.set(xlabel="flash in int8, kB", ylabel="on validation mixtures (clips seen in training)")
    sizes.legend(frameon=False, fontsize=9, loc="lower right")
    heading(sizes, "Score over size, by round", size=12)
    return figure


def search_figure(found: SearchResult, *, ax: Axes | None = None) -> Figure:
    """Draw the score of every candidate of a search against its flash and latency, with the Pareto front.

    Parameters
    ----------
    found : SearchResult
        Result of a search.
    ax : Axes | None
        Axes to draw in. A figure of several panels takes their place in the grid of subplots. Default: a new
        figure.

    Examples
    --------
    >>> table = pd.DataFrame({"candidate": [1, 2], "step": 3, "score": [0.7, 0.8], "flash_kb": [50.0, 90.0]})
    >>> table = table.assign(latency_ms=[600, 700], classifier="cnn")
    >>> device = barn_owl.device.read_device("core-256k")
    >>> found = barn_owl.device.SearchResult(table=table, plan=barn_owl.Plan(), device=device)
    >>> barn_owl.save_figure(barn_owl.show.search_figure(found), "search.png")
    """
    figure = new_figure(ax=ax)
    table, last = found.table, found.table["step"].max()
    for place, (cost, unit) in enumerate((("flash_kb", "flash, kB"), ("latency_ms", "latency, ms")), start=1):
        axes = figure.add_subplot(1, 2, place)
        if cost not in table:
            heading(axes, "no candidate can be exported", size=12)
            continue
        for step in range(1, last + 1):
            own = table[table["step"] == step]
            axes.scatter(
                own[cost], own["score"], s=24 + 26 * step, alpha=0.35 + 0.6 * step / last, linewidth=0,
                color=LABEL_COLORS[0] if step == last else LABEL_COLORS[4], label=f"reached step {step}",
            )  # fmt: skip
        best = front(table, cost)
        axes.plot(best[cost], best["score"], color=INK, linewidth=1.2, drawstyle="steps-post", label="Pareto front")
        for row in best.itertuples():
            axes.annotate(
                f"{row.candidate}", (getattr(row, cost), row.score), textcoords="offset points", xytext=(6, -12),
                fontsize=9, color=INK,
            )  # fmt: skip
        axes.set(xlabel=unit, ylabel="mean of balanced accuracy and event F1, held-out fold")
        axes.legend(frameon=False, fontsize=9, loc="best")
        title = f"{len(table)} candidates that fit {found.device.name}" if place == 1 else "labels: candidate numbers"
        heading(axes, title, size=12)
    return figure
