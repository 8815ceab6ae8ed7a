from .base import Classifier as Classifier, FrameScores as FrameScores
from .kind import (
    ClassifierKind as ClassifierKind,
    NetworkKind as NetworkKind,
    RowsKind as RowsKind,
    register_classifier as register_classifier,
)
from .pooled import RowClassifier as RowClassifier
from .row_classifiers import Candidate as Candidate, RowTask as RowTask, rows_kind as rows_kind
