"""Kinds of classifiers and their registry: everything known about a classifier before it is trained.

A kind is a module of this package that has a `KIND`; `BUILT_IN` lists them. Another package adds one by an entry
point of the group ``barn_owl.classifiers`` that names its `ClassifierKind`, a program by `register_classifier`.
Plans, command line, model files, rankings, searches and exports follow from it.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from importlib import import_module
from typing import Any, Protocol

import numpy as np

from barn_owl.classifiers.base import Classifier
from barn_owl.extensions import installed
from barn_owl.settings import Settings
from barn_owl.wording import nearest_to

BUILT_IN = ("majority", "nearest", "logistic", "kernel", "trees", "mlp", "cnn", "int8", "ensemble")
"""Modules of this package with a kind, those that a plan can name from the simplest up."""
GROUP = "barn_owl.classifiers"


class Rebuild(Protocol):
    """Builds a trained classifier again."""

    def __call__(
        self, config: Any, arrays: dict[str, np.ndarray], features: int, labels: int, multilabel: bool, /
    ) -> Classifier:
        """Return it from its `config` and `arrays`, for frames of this many features.

        Raises KeyError, ValueError or PlanError when the arrays do not fit, before memory is allocated that the file
        does not justify.
        """


@dataclass(frozen=True, kw_only=True)
class ClassifierKind:
    """What a kind of classifier is and can do.

    name : in plans and model files. settings : its section of a plan, whose docstring says what it is; None where no
    plan can name it. config : the schema of what a model file says of it; rebuild : makes it of that and its arrays.

    It learns in one of two ways. candidates : a classifier of rows that gives one after the other, see
    `barn_owl.classifiers.row_classifiers`; stops : of its settings, after how many candidates that are no better it
    stops, and how many there are at most. network : builds what is trained epoch by epoch: of rows ``(features,
    labels, settings, rng)``, or, if it `sees_frames`, of frames ``(features, labels, settings, level, rng,
    multilabel=...)``; then networks : how many there are, which are trained side by side, and only : the settings of
    one of them alone.

    is_baseline : knows nothing worth a rehearsal. prunable : networks over frames that can be
    trained further, pruned and brought to whole numbers; exports : can be handed over to other programs. check :
    raises ValueError for settings that do not suit frames of this many features. searched : keys of the plan that a
    search draws for it, with their values; drawn : how often it draws the kind itself, alongside others.
    """

    name: str
    settings: type[Settings] | None
    config: type[Settings]
    rebuild: Rebuild
    candidates: Any = None
    stops: Callable[[Any], tuple[int, int]] | None = None
    network: Any = None
    networks: Callable[[Any], int] = lambda settings: 1  # noqa: ARG005
    only: Callable[[Any, int], Any] = lambda settings, number: settings  # noqa: ARG005
    sees_frames: bool = False
    is_baseline: bool = False
    prunable: bool = False
    exports: bool = False
    check: Callable[[Any, int], None] = lambda settings, features: None  # noqa: ARG005
    searched: Mapping[str, Sequence[Any]] = field(default_factory=dict)
    drawn: int = 0

    @property
    def is_resumable(self) -> bool:
        """Whether it is trained epoch by epoch, and so can be stopped and resumed."""
        return self.network is not None


_known: dict[str, ClassifierKind] = {}


def register_classifier(kind: ClassifierKind) -> None:
    """Add a kind of classifier in this process: to plans, model files, rankings and the command line.

    Parameters
    ----------
    kind : ClassifierKind
        The kind; `rows_kind` creates one of a classifier of pooled windows.

    Raises
    ------
    ValueError
        If another kind has the name.

    Examples
    --------
    >>> from barn_owl.classifiers import Candidate, rows_kind
    >>> class Constant:
    ...     def __init__(self, logits):
    ...         self.constant = logits
    ...     def logits(self, rows):
    ...         return np.tile(self.constant, (len(rows), 1))
    ...     def state(self):
    ...         return {"logits": self.constant}
    ...     def multiply_adds(self):
    ...         return 0
    >>> def candidates(task, settings):
    ...     share = task.targets.mean(axis=0).clip(1e-3, 1 - 1e-3)
    ...     fitted = Constant(np.log(share / (1 - share)).astype(np.float32))
    ...     yield Candidate.made(fitted, 0.0, fitted.logits(task.watched))
    >>> constant = rows_kind("constant", candidates=candidates, rebuild=lambda arrays: Constant(arrays["logits"]))
    >>> barn_owl.register_classifier(constant)
    >>> barn_owl.Plan(classifier="constant").classifier
    'constant'
    """
    if kind.name in BUILT_IN or _known.get(kind.name, kind) is not kind:
        raise ValueError(f"there is a classifier {kind.name!r} already")
    _known[kind.name] = kind


def kind_of(name: str) -> ClassifierKind:
    """Return a kind by its name; raises ValueError for one that no one knows."""
    if name in BUILT_IN and name not in _known:
        _known[name] = import_module(f"barn_owl.classifiers.{name}").KIND
    found = _known.get(name) or installed(GROUP).get(name)
    if found is None:
        raise ValueError(f"there is no classifier {name!r}; {nearest_to(name, names(), else_say='there are ')}")
    return found


def kinds() -> list[ClassifierKind]:
    """Kinds that a plan can name, from the simplest up; those of other packages at the end."""
    every = [kind_of(name) for name in dict.fromkeys([*BUILT_IN, *_known, *installed(GROUP)])]
    return [kind for kind in every if kind.settings is not None]


def names() -> list[str]:
    """Their names."""
    return [kind.name for kind in kinds()]


def rebuild(
    config: Any, arrays: dict[str, np.ndarray], features: int, labels: int, *, multilabel: bool
) -> Classifier:
    """Build a trained classifier again; see `Rebuild`."""
    return kind_of(config.name).rebuild(config, arrays, features, labels, multilabel)


def read_config(given: Any) -> Settings:
    """Check the classifier entry of a model file; raises ValueError if it is invalid."""
    if not isinstance(given, Mapping) or not isinstance(given.get("name"), str):
        raise ValueError("its classifier entry must be an object with a name")  # noqa: TRY004 - the file is wrong
    return kind_of(given["name"]).config(**{str(key): value for key, value in given.items()})
