from .agreement import Agreement as Agreement, compare_annotations as compare_annotations
from .calibration import (
    calibration_error as calibration_error,
    calibration_table as calibration_table,
    fit_temperature as fit_temperature,
    fit_thresholds as fit_thresholds,
)
from .comparison import Comparison as Comparison, compare as compare
from .curves import label_curve as label_curve
from .evaluation import Evaluation as Evaluation
from .events import EventScores as EventScores, score_events as score_events, score_segments as score_segments
from .prediction_arrays import PredictionArrays as PredictionArrays, read_prediction_arrays as read_prediction_arrays
from .predictions import (
    NONE as NONE,
    UNDECIDED as UNDECIDED,
    predict as predict,
    rejected as rejected,
    undecided as undecided,
)
from .scores import Scores as Scores
