from .check import check_figure as check_figure
from .classes import (
    distributions_figure as distributions_figure,
    map_figure as map_figure,
    scatter_figure as scatter_figure,
    spectra_figure as spectra_figure,
)
from .comparing import write_comparison_page as write_comparison_page
from .confusion import (
    confusion_difference_figure as confusion_difference_figure,
    confusion_figure as confusion_figure,
)
from .cuts import cuts_figure as cuts_figure
from .device import search_figure as search_figure, shrink_figure as shrink_figure
from .evaluation import (
    calibration_figure as calibration_figure,
    comparison_figure as comparison_figure,
    labels_figure as labels_figure,
    thresholds_figure as thresholds_figure,
)
from .listening_page import write_listening_page as write_listening_page
from .player import listen as listen
from .report import write_report as write_report
from .results import write_evaluation as write_evaluation, write_results as write_results
from .reviewing import Review as Review, write_review_page as write_review_page
from .scoring import (
    adjusting_figure as adjusting_figure,
    events_figure as events_figure,
    hours_figure as hours_figure,
)
from .searching import write_search_page as write_search_page
from .serving import AnnotationServer as AnnotationServer, PageServer as PageServer, ReviewServer as ReviewServer
from .sound import (
    clip_figure as clip_figure,
    filter_bank_figure as filter_bank_figure,
    gallery_figure as gallery_figure,
    overview_figure as overview_figure,
    tracks_figure as tracks_figure,
)
from .style import save_figure as save_figure
from .tagging import rehearsal_figure as rehearsal_figure, tagging_figure as tagging_figure
from .tiles import Tiles as Tiles
from .training import (
    classifiers_figure as classifiers_figure,
    curves_figure as curves_figure,
    subsets_figure as subsets_figure,
)
from .variants import variants_figure as variants_figure
