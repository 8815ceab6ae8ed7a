"""Kinds of classifiers and their registry: properties of a classifier before it is trained.

A kind is the `KIND` of a module of this package, listed in `BUILT_IN`. Packages add kinds by an entry point of the
group ``barn_owl.classifiers`` for their `ClassifierKind`, programs by `register_classifier`. Plans, command line,
model files, rankings, searches and exports follow from it.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from importlib import import_module
from math import inf
from typing import Any, Protocol

import numpy as np

from barn_owl.classifiers.base import Classifier
from barn_owl.classifiers.built_in import BUILT_IN, GROUP, registered
from barn_owl.extensions import installed
from barn_owl.settings import Settings
from barn_owl.wording import nearest_to


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
    """A kind of classifier: storage of its models, and supported features.

    Attributes
    ----------
    name : str
        Name in plans and model files.
    settings : type[Settings] | None
        Section of a plan; its docstring describes the classifier. None: no plan can name it.
    config : type[Settings]
        Schema of its entry in a model file.
    rebuild : Rebuild
        Builds the trained classifier from its entry and arrays.
    sees_frames : bool
        Whether it scores frames rather than pooled rows.
    exports : bool
        Whether it can be exported to C and ONNX.
    is_baseline : bool
        Whether it ignores the sound, so that no rehearsal is made.
    searched : Mapping[str, Sequence[Any]]
        Keys of the plan that a search varies, with their values.
    drawn : int
        Relative frequency of the classifier in a search.
    """

    name: str
    settings: type[Settings] | None
    config: type[Settings]
    rebuild: Rebuild
    sees_frames: bool = False
    exports: bool = False
    is_baseline: bool = False
    searched: Mapping[str, Sequence[Any]] = field(default_factory=dict)
    drawn: int = 0


@dataclass(frozen=True, kw_only=True)
class RowsKind(ClassifierKind):
    """A kind of classifier of pooled rows, chosen among candidates; `rows_kind` creates one.

    Attributes
    ----------
    name : str
        Name in plans and model files.
    settings : type[Settings] | None
        Section of a plan. None: no plan can name it.
    config : type[Settings]
        Schema of its entry in a model file.
    rebuild : Rebuild
        Builds the trained classifier from its entry and arrays.
    sees_frames : bool
        Whether it scores frames rather than pooled rows.
    exports : bool
        Whether it can be exported to C and ONNX.
    is_baseline : bool
        Whether it ignores the sound, so that no rehearsal is made.
    searched : Mapping[str, Sequence[Any]]
        Keys of the plan that a search varies, with their values.
    drawn : int
        Relative frequency of the classifier in a search.
    candidates : Callable[[Any, Any], Iterator[Any]]
        Yields candidates for a `RowTask` and settings.
    stops : Callable[[Any], tuple[float, int]]
        For settings, after how many candidates without improvement to stop, and their largest number (0: unknown).
    """

    candidates: Callable[[Any, Any], Iterator[Any]]
    stops: Callable[[Any], tuple[float, int]] = lambda settings: (inf, 0)  # noqa: ARG005


@dataclass(frozen=True, kw_only=True)
class NetworkKind(ClassifierKind):
    """A kind of classifier that is trained by epochs, so that training can be stopped and resumed.

    Attributes
    ----------
    name : str
        Name in plans and model files.
    settings : type[Settings] | None
        Section of a plan. None: no plan can name it.
    config : type[Settings]
        Schema of its entry in a model file.
    rebuild : Rebuild
        Builds the trained classifier from its entry and arrays.
    sees_frames : bool
        Whether it scores frames rather than pooled rows.
    exports : bool
        Whether it can be exported to C and ONNX.
    is_baseline : bool
        Whether it ignores the sound, so that no rehearsal is made.
    searched : Mapping[str, Sequence[Any]]
        Keys of the plan that a search varies, with their values.
    drawn : int
        Relative frequency of the classifier in a search.
    network : Callable[..., Any]
        Builds the untrained classifier: of rows from ``(features, labels, settings, rng)``; if `sees_frames`, from
        ``(features, labels, settings, level, rng, multilabel=...)``.
    count : Callable[[Any], int]
        Number of networks for settings; they are trained in parallel.
    only : Callable[[Any, int], Any]
        Settings of a single network, by its number.
    check : Callable[[Any, int], None]
        Raises ValueError for settings that do not suit this number of features.
    """

    network: Callable[..., Any]
    count: Callable[[Any], int] = lambda settings: 1  # noqa: ARG005
    only: Callable[[Any, int], Any] = lambda settings, number: settings  # noqa: ARG005
    check: Callable[[Any, int], None] = lambda settings, features: None  # noqa: ARG005


def register_classifier(kind: ClassifierKind) -> None:
    """Add a kind of classifier in this process: to plans, model files, rankings and the command line.

    Parameters
    ----------
    kind : ClassifierKind
        The kind; `rows_kind` creates the kind of a classifier of pooled windows.

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
    if kind.name in BUILT_IN or registered.get(kind.name, kind) is not kind:
        raise ValueError(f"there is a classifier {kind.name!r} already")
    registered[kind.name] = kind


def kind_of(name: str) -> ClassifierKind:
    """Return a kind by its name; raises ValueError for an unknown name."""
    if name in BUILT_IN and name not in registered:
        registered[name] = import_module(f"barn_owl.classifiers.{name}").KIND
    found = registered.get(name) or installed(GROUP).get(name)
    if found is None:
        raise ValueError(f"there is no classifier {name!r}; {nearest_to(name, names(), else_say='there are ')}")
    return found


def kinds() -> list[ClassifierKind]:
    """Return the kinds that a plan can name, from the simplest up, then custom kinds."""
    every = [kind_of(name) for name in dict.fromkeys([*BUILT_IN, *registered, *installed(GROUP)])]
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
