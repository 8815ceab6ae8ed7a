"""Transformers from sounds to features, with scikit-learn's conventions."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Self

import numpy as np
import pandas as pd
from sklearn.base import BaseEstimator, TransformerMixin
from sklearn.utils.validation import check_is_fitted, validate_data

import barn_owl.pipeline.requirement  # noqa: F401 - before the package that it checks
from barn_owl.audio import Excerpt, read_audio, resample
from barn_owl.audio.samples import as_mono
from barn_owl.clips.table import as_clip_table
from barn_owl.features import FrontEnd, pool, pooled_names


class _SoundTransformer(TransformerMixin, BaseEstimator):  # type: ignore[misc]
    """Common part of the transformers: from sounds of any kind to frames."""

    front_end: FrontEnd | Mapping[str, Any] | None
    rate_hz: int | None

    def fit(self, X: Any, y: Any = None) -> Self:  # noqa: ARG002, N803 - scikit-learn's names
        """Check the parameters and the sounds; nothing is learned from them.

        Parameters
        ----------
        X : array-like
            Sounds; see the class.
        y : object
            Ignored.

        Returns
        -------
        Self
            The transformer.
        """
        given = self.front_end
        self.front_end_ = given if isinstance(given, FrontEnd) else FrontEnd(**{"pad_short": True, **(given or {})})
        if _is_numeric(X):
            validate_data(self, X)
        return self

    def __sklearn_tags__(self) -> Any:
        tags = super().__sklearn_tags__()
        tags.transformer_tags.preserves_dtype = ["float32"]
        return tags

    def _frames(self, sounds: Any) -> Iterator[np.ndarray]:
        check_is_fitted(self)
        if _is_numeric(sounds):
            sounds = validate_data(self, sounds, reset=False)
        front_end: FrontEnd = self.front_end_
        rate_hz = front_end.rate_hz
        for sound in _each(sounds):
            if isinstance(sound, Excerpt):
                samples, _ = read_audio(sound.file, rate_hz=rate_hz, start_s=sound.start_s, end_s=sound.end_s)
            else:
                samples = resample(as_mono(np.asarray(sound)), self.rate_hz or rate_hz, rate_hz)
            yield front_end.frames(samples, workers=1)


class PooledFeatures(_SoundTransformer):
    """Turn each sound into a row: statistics over the frames of a front end.

    ``transform`` takes sounds in one of these forms: a list of paths; a list of ``(path, start_s, end_s)``, with None
    for the start or end of the file; a clip table; a list of arrays of samples, ``(samples,)`` or ``(samples,
    channels)``; or an array ``(sounds, samples)``.

    Parameters
    ----------
    front_end : FrontEnd | Mapping[str, Any] | None
        Front end, or its settings; None for the default settings. With settings, sounds shorter than a frame are
        padded.
    statistics : Sequence[str]
        Statistics over time; see `barn_owl.features.pool`.
    rate_hz : int | None
        Sample rate of arrays of samples; None for that of the front end.

    Attributes
    ----------
    front_end_ : FrontEnd
        The front end that is used.

    Examples
    --------
    >>> from sklearn.pipeline import make_pipeline
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> features = barn_owl.pipeline.PooledFeatures({"bands": 16})
    >>> classifier = make_pipeline(features, barn_owl.pipeline.RowsClassifier())
    >>> bool(classifier.fit(clips, clips["label"]).score(clips, clips["label"]) > 0.9)
    True
    """

    def __init__(
        self,
        front_end: FrontEnd | Mapping[str, Any] | None = None,
        statistics: Sequence[str] = ("mean", "deviation"),
        rate_hz: int | None = None,
    ) -> None:
        self.front_end, self.statistics, self.rate_hz = front_end, statistics, rate_hz

    def transform(self, X: Any) -> np.ndarray:  # noqa: N803
        """Return pooled features, float32, ``(sounds, len(statistics) * front_end_.width)``.

        Parameters
        ----------
        X : array-like
            Sounds; see the class.

        Returns
        -------
        np.ndarray
            Rows, one per sound.

        Raises
        ------
        AudioError
            If a sound cannot be read, or is too short.
        """
        rows = [pool(frames, self.statistics) for frames in self._frames(X)]
        width = len(self.statistics) * self.front_end_.width
        return np.stack(rows) if rows else np.empty((0, width), dtype=np.float32)

    def get_feature_names_out(self, input_features: Any = None) -> np.ndarray:  # noqa: ARG002
        """Return the names of the columns, such as ``mean of mel 1 (77 Hz)``.

        Parameters
        ----------
        input_features : object
            Ignored.

        Returns
        -------
        np.ndarray
            Of text, ``(columns,)``.
        """
        check_is_fitted(self)
        return np.array(pooled_names(self.front_end_.columns, self.statistics), dtype=object)


class FrameFeatures(_SoundTransformer):
    """Turn each sound into the frames of a front end, for estimators that take sequences.

    See `PooledFeatures` for the forms of sounds.

    Parameters
    ----------
    front_end : FrontEnd | Mapping[str, Any] | None
        See `PooledFeatures`.
    rate_hz : int | None
        See `PooledFeatures`.

    Attributes
    ----------
    front_end_ : FrontEnd
        The front end that is used.

    Examples
    --------
    >>> frames = barn_owl.pipeline.FrameFeatures({"bands": 16}).fit_transform(["night.wav", ("night.wav", 0, 1)])
    >>> [sound.shape for sound in frames]
    [(874, 16), (61, 16)]
    """

    def __init__(self, front_end: FrontEnd | Mapping[str, Any] | None = None, rate_hz: int | None = None) -> None:
        self.front_end, self.rate_hz = front_end, rate_hz

    def transform(self, X: Any) -> np.ndarray:  # noqa: N803
        """Return the frames of each sound.

        Parameters
        ----------
        X : array-like
            Sounds; see `PooledFeatures`.

        Returns
        -------
        np.ndarray
            Float32, ``(sounds, frames, front_end_.width)``, if all sounds have the same number of frames; otherwise
            of type object, ``(sounds,)``, with one array for each sound.

        Raises
        ------
        AudioError
            If a sound cannot be read, or is too short.
        """
        parts = list(self._frames(X))
        if parts and len({len(part) for part in parts}) == 1:
            return np.stack(parts)
        frames = np.empty(len(parts), dtype=object)
        frames[:] = parts
        return frames


def _is_numeric(sounds: Any) -> bool:
    """Return whether sounds are a table of numbers, with a sound per row, as in the checks of scikit-learn."""
    if isinstance(sounds, pd.DataFrame):
        return "file" not in sounds
    if isinstance(sounds, np.ndarray):
        return sounds.dtype != object or sounds.ndim != 1
    if isinstance(sounds, list | tuple | str | Path):
        first = sounds[0] if isinstance(sounds, list | tuple) and len(sounds) else ""
        return not isinstance(first, str | Path | list | tuple | np.ndarray)
    return True


def _each(sounds: Any) -> Iterable[Any]:
    """Yield excerpts of files, or arrays of samples."""
    if isinstance(sounds, str | Path):
        raise TypeError(f"a list of sounds is needed, got the single path {str(sounds)!r}")
    if isinstance(sounds, pd.DataFrame):
        table = as_clip_table(sounds, "X")
        sounds = list(table[["file", "start_s", "end_s"]].itertuples(index=False, name=None))
    for sound in sounds:
        if isinstance(sound, str | Path):
            yield Excerpt(str(sound))
        elif isinstance(sound, list | tuple) and sound and isinstance(sound[0], str | Path):
            times = [None if time is None or np.isnan(time) else float(time) for time in sound[1:]]
            yield Excerpt(str(sound[0]), *times)
        else:
            yield sound
