"""The built-in classifiers of rows, with scikit-learn's conventions."""

from collections.abc import Mapping
from typing import Any, Self

import numpy as np
from sklearn.base import BaseEstimator, ClassifierMixin
from sklearn.model_selection import GroupShuffleSplit
from sklearn.utils.multiclass import check_classification_targets
from sklearn.utils.validation import check_is_fitted, check_random_state, validate_data

import barn_owl.pipeline.requirement  # noqa: F401 - before the package that it checks
from barn_owl.classifiers.kind import RowsKind, kind_of, kinds
from barn_owl.classifiers.row_classifiers import Candidate, RowTask
from barn_owl.learn.pooled import center_and_spread
from barn_owl.network import binary_cross_entropy
from barn_owl.network.loss import softmax

HELD_OUT = 0.25
"""Share of the groups that chooses among candidates."""
MIN_HELD_OUT = 8
"""Number of rows below which none are held out: the first candidate is used."""


class RowsClassifier(ClassifierMixin, BaseEstimator):  # type: ignore[misc]
    """A built-in classifier of rows, such as those of `PooledFeatures`.

    Settings that the classifier leaves open (penalty, number of neighbors, number of trees) are chosen on a quarter
    of the groups; then the classifier is fitted to all rows.

    Parameters
    ----------
    classifier : str
        ``majority``, ``nearest``, ``logistic``, ``kernel`` or ``trees``, or the name of a registered `RowsKind`.
    settings : Mapping[str, Any] | None
        Settings of the classifier, as in its section of a plan.
    random_state : int | np.random.RandomState | None
        Seed.

    Attributes
    ----------
    classes_ : np.ndarray
        Labels, ``(labels,)``.
    n_features_in_ : int
        Number of columns.

    Examples
    --------
    >>> from sklearn.model_selection import GroupKFold, cross_val_score
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> rows = barn_owl.pipeline.PooledFeatures().fit_transform(clips)
    >>> classifier = barn_owl.pipeline.RowsClassifier("nearest")
    >>> scores = cross_val_score(classifier, rows, clips["label"], groups=clips["group"], cv=GroupKFold(4))
    >>> scores.shape
    (4,)
    """

    def __init__(
        self, classifier: str = "logistic", settings: Mapping[str, Any] | None = None, random_state: Any = None
    ) -> None:
        self.classifier, self.settings, self.random_state = classifier, settings, random_state

    def fit(self, X: Any, y: Any, groups: Any = None) -> Self:  # noqa: N803 - scikit-learn's names
        """Fit the classifier.

        Parameters
        ----------
        X : array-like
            Rows of numbers, ``(rows, columns)``.
        y : array-like
            Label of each row.
        groups : array-like | None
            Group of each row (recorder, session), which is never divided when settings are chosen.

        Returns
        -------
        Self
            The classifier.
        """
        rows, labels = validate_data(self, X, y)
        check_classification_targets(labels)
        kind = kind_of(self.classifier)
        if not isinstance(kind, RowsKind) or kind.settings is None:
            usable = ", ".join(one.name for one in kinds() if isinstance(one, RowsKind))
            raise ValueError(f"classifier must be one of {usable}, got {self.classifier!r}")
        settings = kind.settings(**(self.settings or {}))
        self.classes_, numbers = np.unique(labels, return_inverse=True)
        seed = int(check_random_state(self.random_state).randint(1 << 31))
        self._center, self._spread = center_and_spread(rows.astype(np.float32))
        rows = self._standardized(rows)
        targets = np.eye(len(self.classes_), dtype=np.float32)[numbers]
        groups = np.arange(len(rows)) if groups is None else np.unique(groups, return_inverse=True)[1]
        fitted, watched = _halves(rows, numbers, groups, seed)
        patience, _ = kind.stops(settings)
        best, best_loss = 1, np.inf
        for number, candidate in enumerate(kind.candidates(_task(rows, targets, fitted, watched, seed), settings), 1):
            loss = binary_cross_entropy(candidate.watched, targets[watched])[0]
            if loss < best_loss:
                best, best_loss = number, loss
            if number - best >= patience:
                break
        every = np.arange(len(rows))
        candidates = kind.candidates(_task(rows, targets, every, every[:1], seed), settings)
        kept: Candidate = next(one for number, one in enumerate(candidates, 1) if number == best)
        self._row_classifier = kept.make()
        return self

    def predict_proba(self, X: Any) -> np.ndarray:  # noqa: N803
        """Return the probability of each label.

        Parameters
        ----------
        X : array-like
            Rows of numbers, ``(rows, columns)``.

        Returns
        -------
        np.ndarray
            Float64, ``(rows, labels)``, in the order of ``classes_``.
        """
        check_is_fitted(self)
        rows = self._standardized(validate_data(self, X, reset=False))
        return np.asarray(softmax(self._row_classifier.logits(rows).astype(np.float64)))

    def predict(self, X: Any) -> np.ndarray:  # noqa: N803
        """Return the most probable label of each row.

        Parameters
        ----------
        X : array-like
            Rows of numbers, ``(rows, columns)``.

        Returns
        -------
        np.ndarray
            Labels, ``(rows,)``.
        """
        probabilities = self.predict_proba(X)
        return np.asarray(self.classes_[probabilities.argmax(axis=1)])

    def _standardized(self, rows: np.ndarray) -> np.ndarray:
        return np.asarray((rows.astype(np.float32) - self._center) / self._spread)


def _halves(rows: np.ndarray, numbers: np.ndarray, groups: np.ndarray, seed: int) -> tuple[np.ndarray, np.ndarray]:
    """Row numbers to fit candidates to, and to choose among them by: the same where no group can be spared."""
    every = np.arange(len(rows))
    if len(rows) < 2 * MIN_HELD_OUT or len(np.unique(groups)) < 4:
        return every, every
    for fitted, watched in GroupShuffleSplit(5, test_size=HELD_OUT, random_state=seed).split(rows, groups=groups):
        if len(np.unique(numbers[fitted])) == len(np.unique(numbers)):
            return fitted, watched
    return every, every


def _task(rows: np.ndarray, targets: np.ndarray, fitted: np.ndarray, watched: np.ndarray, seed: int) -> RowTask:
    weights = np.ones(len(fitted), dtype=np.float32)
    return RowTask(
        rows=rows[fitted], targets=targets[fitted], weights=weights, watched=rows[watched],
        rng=np.random.default_rng(seed),
    )  # fmt: skip
