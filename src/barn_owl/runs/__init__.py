"""A training run from plan to folder: split, fit, judge, write; and reading it back."""

from barn_owl.runs.run import Evaluation, Run, open_run
from barn_owl.runs.training import train

__all__ = ["Evaluation", "Run", "open_run", "train"]
