"""Figures: what people see of the core's results. Each call returns a Matplotlib figure; `save_figure` writes it."""

from barn_owl.show.check import check_figure
from barn_owl.show.classes import distributions_figure, map_figure, scatter_figure, spectra_figure
from barn_owl.show.comparing import write_comparison_page
from barn_owl.show.confusion import confusion_difference_figure, confusion_figure
from barn_owl.show.cuts import cuts_figure
from barn_owl.show.judging import calibration_figure, comparison_figure, labels_figure, thresholds_figure
from barn_owl.show.learning import curves_figure, families_figure
from barn_owl.show.listening import write_listening_page
from barn_owl.show.report import write_report
from barn_owl.show.scoring import adjusting_figure, events_figure, hours_figure
from barn_owl.show.sound import clip_figure, filter_bank_figure, gallery_figure, overview_figure, tracks_figure
from barn_owl.show.style import save_figure
from barn_owl.show.tagging import rehearsal_figure, tagging_figure
from barn_owl.show.variants import variants_figure

__all__ = [
    "adjusting_figure",
    "calibration_figure",
    "check_figure",
    "clip_figure",
    "comparison_figure",
    "confusion_difference_figure",
    "confusion_figure",
    "curves_figure",
    "cuts_figure",
    "distributions_figure",
    "events_figure",
    "families_figure",
    "filter_bank_figure",
    "gallery_figure",
    "hours_figure",
    "labels_figure",
    "map_figure",
    "overview_figure",
    "rehearsal_figure",
    "save_figure",
    "scatter_figure",
    "spectra_figure",
    "tagging_figure",
    "thresholds_figure",
    "tracks_figure",
    "variants_figure",
    "write_comparison_page",
    "write_listening_page",
    "write_report",
]
