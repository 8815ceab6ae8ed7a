"""Families of classifiers, the network engine, fitting, the plan and the model file."""

from barn_owl.classify.dataset import ClipFrames, load_frames
from barn_owl.classify.families import fit
from barn_owl.classify.fitted import Examples, Fitted, Progress
from barn_owl.classify.model import Model, load_model
from barn_owl.classify.plan import DecisionSettings, Plan, read_plan, write_plan

__all__ = [
    "ClipFrames",
    "DecisionSettings",
    "Examples",
    "Fitted",
    "Model",
    "Plan",
    "Progress",
    "fit",
    "load_frames",
    "load_model",
    "read_plan",
    "write_plan",
]
