"""Figures of models made smaller."""

from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from barn_owl.compact import Shrunk
from barn_owl.show.style import GRID, INK, LABEL_COLOURS, new_figure


def shrink_figure(shrunk: Shrunk) -> Figure:
    """Draw the channels of each convolution before and after, and the score against the size, round by round."""
    figure = new_figure()
    channels, sizes = figure.subplots(1, 2, width_ratios=[1.4, 1])
    table = shrunk.channels
    channels.bar(table["layer"], table["before"], color=GRID, width=0.7, label="before")
    channels.bar(table["layer"], table["after"], color=LABEL_COLOURS[0], width=0.45, label="after")
    for row in table.itertuples():
        channels.annotate(
            f"{row.after} of {row.before}", (row.layer, row.before), textcoords="offset points", xytext=(0, 4),
            ha="center", fontsize=9, color=INK,
        )  # fmt: skip
    channels.set_xlabel("convolution, from the first")
    channels.set_ylabel("channels")
    channels.xaxis.set_major_locator(MaxNLocator(integer=True))
    channels.margins(y=0.15)
    channels.legend(frameon=False, fontsize=9)
    channels.set_title("What is left of each layer", loc="left", fontsize=12, color=INK)
    rounds = shrunk.rounds
    for column, marker in (("recall", "o"), ("f1", "s")):
        sizes.plot(rounds["flash_kb"], rounds[column], marker=marker, label=column if column == "recall" else "F1")
    sizes.set_ylim(0, 1.02)
    sizes.set_xlabel("code and numbers in int8, kB")
    sizes.set_ylabel("on validation scenes")
    sizes.legend(frameon=False, fontsize=9, loc="lower right")
    sizes.set_title("Score against size, by round", loc="left", fontsize=12, color=INK)
    return figure
