from .answers import (
    Answers as Answers,
    read_answers as read_answers,
)
from .calibration import (
    calibration_error as calibration_error,
    calibration_table as calibration_table,
    fit_temperature as fit_temperature,
    fit_thresholds as fit_thresholds,
)
from .comparing import (
    Comparison as Comparison,
    compare as compare,
)
from .curves import label_curve as label_curve
from .evaluation import Evaluation as Evaluation
from .events import (
    EventScores as EventScores,
    score_events as score_events,
    score_segments as score_segments,
)
from .measures import (
    Measured as Measured,
    measure as measure,
)
from .predictions import (
    NONE as NONE,
    UNDECIDED as UNDECIDED,
    predict as predict,
    refused as refused,
    undecided as undecided,
)
from .scores import (
    OverlapScores as OverlapScores,
    Scores as Scores,
    confusion_table as confusion_table,
    score_labels as score_labels,
    score_overlapping as score_overlapping,
)
