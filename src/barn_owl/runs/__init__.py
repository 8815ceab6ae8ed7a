"""A training run from plan to folder: split, fit, judge, write; several of them side by side; reading them back."""

from barn_owl.runs.compare import RunComparison, compare_runs
from barn_owl.runs.run import Run, open_run
from barn_owl.runs.several import ensemble_of, train_families, train_several
from barn_owl.runs.start import adopt
from barn_owl.runs.suggest import Suggestion, suggest_plan
from barn_owl.runs.thresholds import set_decision, set_thresholds
from barn_owl.runs.training import train

__all__ = [
    "Run",
    "RunComparison",
    "Suggestion",
    "adopt",
    "compare_runs",
    "ensemble_of",
    "open_run",
    "set_decision",
    "set_thresholds",
    "suggest_plan",
    "train",
    "train_families",
    "train_several",
]
