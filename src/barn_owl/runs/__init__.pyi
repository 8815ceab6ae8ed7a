from .adapting import Adapted as Adapted, adapt as adapt
from .compare import RunComparison as RunComparison, compare_runs as compare_runs
from .exemplars import exemplar_table as exemplar_table
from .groups import GroupSpread as GroupSpread
from .measuring import measure_training as measure_training
from .resuming import split_like as split_like
from .run import Run as Run, open_run as open_run
from .several import (
    check_subsets as check_subsets,
    ensemble_of as ensemble_of,
    train_classifiers as train_classifiers,
    train_several as train_several,
    train_subsets as train_subsets,
)
from .start import plan_from_model as plan_from_model
from .suggest import Suggestion as Suggestion, suggest_plan as suggest_plan
from .thresholds import set_decoding as set_decoding, set_thresholds as set_thresholds, undo_decoding as undo_decoding
from .training import train as train
from .work import Work as Work
