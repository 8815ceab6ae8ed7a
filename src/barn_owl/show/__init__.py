"""Figures: what people see of the core's results."""

from barn_owl.show.confusion import confusion_figure
from barn_owl.show.style import save_figure
from barn_owl.show.tagging import tagging_figure

__all__ = ["confusion_figure", "save_figure", "tagging_figure"]
