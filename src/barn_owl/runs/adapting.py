"""Adaptation to a place: normalization statistics from the sounds that a model finds in unlabeled recordings."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import NamedTuple

import numpy as np
import pandas as pd

from barn_owl.classifiers.base import Classifier, FrameScores
from barn_owl.classifiers.cnn import Convolutional, networks_in
from barn_owl.classifiers.ensemble import Ensemble
from barn_owl.errors import AudioError, ModelError
from barn_owl.learn.plan import MixtureSettings
from barn_owl.learn.unlabeled import active_runs
from barn_owl.model import Model
from barn_owl.model.loading import ModelLike, as_model
from barn_owl.names import table_name
from barn_owl.network import sigmoid
from barn_owl.network.layer import Fresh
from barn_owl.network.layers import BatchNorm
from barn_owl.network.network import Network, swap_batch_and_time
from barn_owl.runs.recordings import read_unlabeled

LARGEST_SHARE = 0.4
"""Largest share of the place in the statistics; more loses events in recordings that sound like the clips."""
HALF_SOUNDS = 40
"""Sounds for half of the largest share."""
COUNTED_SOUNDS = 30
"""Sounds of a label that count as evidence at most: many sounds of one label are little evidence for the others."""
WINDOWS = 600
"""Windows that the statistics are computed on, equally many of each label."""


@dataclass(frozen=True, kw_only=True)
class Adapted:
    """A model adapted to a place.

    Attributes
    ----------
    model : Model
        The adapted model; the original is unchanged.
    share : float
        Share of the place in the normalization statistics, 0 to 0.4.
    seconds : float
        Length of the analyzed stretches of the recordings.
    sounds : pd.DataFrame
        Sounds in these stretches: ``label``, and how many the model finds ``before`` and ``after``.

    Examples
    --------
    >>> round(barn_owl.adapt("network", "night.wav").seconds)
    14
    """

    model: Model
    share: float
    seconds: float
    sounds: pd.DataFrame

    def _repr_html_(self) -> str:
        return str(self.sounds.to_html())


def adapt(model: ModelLike, recordings: str | Path | Sequence[str | Path]) -> Adapted:
    """Adapt a model to a place or a microphone, from recordings without labels and without training.

    The first batch normalization of each network gets the statistics of the sounds that the model finds in the
    recordings, mixed with those of its training (Y. Li et al., "Revisiting batch normalization for practical domain
    adaptation", ICLR 2017, workshop). The share of the recordings grows with the number of sounds (S. Schneider et
    al., "Improving robustness against common corruptions by covariate shift adaptation", NeurIPS 2020). At most 21
    minutes are analyzed, in stretches from all over the recordings.

    Parameters
    ----------
    model : Model | Run | str | Path
        Model, run, or the path of either: a `cnn`, or an ensemble of them.
    recordings : str | Path | Sequence[str | Path]
        Files, folders or tables of recordings.

    Raises
    ------
    ModelError
        If the classifier has no batch normalization, or the model is already adapted.
    AudioError
        If no recording has 8 s of sound, or the model finds nothing in them.

    Examples
    --------
    >>> adapted = barn_owl.adapt("network", "night.wav")
    >>> adapted.sounds["label"].tolist()
    ['hiss', 'hum', 'tick']
    """
    model = as_model(model)
    paths = [recordings] if isinstance(recordings, str | Path) else list(recordings)
    if "adapted" in model.provenance:
        raise ModelError("the model is already adapted to a place; adapt the model that it was made from")
    if not any(_normalizations(model.classifier, model.mean, model.deviation)):
        raise ModelError(f"a model of the kind {model.classifier.name} has no batch normalization to adapt")
    least_s, reasons = MixtureSettings().seconds, list[str]()
    stretches = read_unlabeled(model.front_end, model.clips, least_s, paths, reasons).frames.parts
    if not stretches:
        why = reasons[0] if reasons else f"none in {table_name(str(paths[0]))} has {least_s:g} s of sound"
        raise AudioError(f"no usable recording: {why}")
    sounds = _sounds(model, [model.frame_scores(frames) for frames in stretches])
    if not len(sounds):
        raise AudioError("the model finds no sounds in the recordings, so it cannot adapt to them")
    before = _counts(model, sounds)
    evidence = int(before.clip(upper=COUNTED_SOUNDS).sum())
    share = LARGEST_SHARE * evidence / (evidence + HALF_SOUNDS)
    source = {"recordings": [table_name(str(path)) for path in paths], "share": round(share, 3)}
    adapted = replace(model, classifier=_copied(model.classifier), provenance=model.provenance | {"adapted": source})
    windows = _windows(model, stretches, sounds)
    for normalization in _normalizations(adapted.classifier, adapted.mean, adapted.deviation):
        normalization.mix(windows, share)
    after = _counts(model, _sounds(model, [adapted.frame_scores(frames) for frames in stretches]))
    return Adapted(
        model=adapted,
        share=share,
        seconds=sum(map(len, stretches)) * model.front_end.hop_s,
        sounds=pd.DataFrame({"before": before, "after": after}).rename_axis("label").reset_index(),
    )


class _Normalization(NamedTuple):
    """The first batch normalization of a network: its number among the layers, and the standardization of frames."""

    network: Network
    number: int
    mean: np.ndarray
    deviation: np.ndarray

    def mix(self, windows: np.ndarray, share: float) -> None:
        """Mix the statistics of windows, ``(windows, frames, width)``, into those of the training."""
        x = swap_batch_and_time(((windows - self.mean) / self.deviation)[..., None])
        for layer in self.network.layers[: self.number]:
            x, _ = layer.forward(x, None, Fresh())
        rows, state = x.reshape(-1, x.shape[-1]), self.network.layers[self.number].state
        for name, statistic in (("mean", rows.mean(axis=0)), ("variance", rows.var(axis=0))):
            state[name] += np.float32(share) * (statistic - state[name])


def _normalizations(classifier: Classifier, mean: np.ndarray, deviation: np.ndarray) -> Iterator[_Normalization]:
    if isinstance(classifier, Ensemble):
        for member in classifier.members:
            yield from _normalizations(*member)
    elif (networks := networks_in(classifier)) is not None:
        for network in networks.networks:
            numbers = [number for number, layer in enumerate(network.layers) if isinstance(layer, BatchNorm)]
            if numbers:
                yield _Normalization(network, numbers[0], mean, deviation)


def _copied(classifier: Classifier) -> Classifier:
    """Copy the networks of a classifier, so that the original keeps its statistics."""
    if isinstance(classifier, Ensemble):
        return Ensemble([(_copied(member), mean, deviation) for member, mean, deviation in classifier.members])
    networks = networks_in(classifier)
    if networks is None:
        return classifier
    features, unused = networks.networks[0].shapes[0][1], np.random.default_rng(0)
    copied = Convolutional(
        features, networks.labels, networks.settings, networks.level, unused, multilabel=networks.multilabel
    )
    copied.load_state(networks.state())
    return copied


def _sounds(model: Model, outputs: list[FrameScores]) -> pd.DataFrame:
    """Sounds of labels with events: number of the output, ``label``, and from which step to which, ``first``,
    ``last``."""
    rows = []
    for number, output in enumerate(outputs):
        tracks = output.activity if model.classifies_segments else output.activity[:, model.sounding]
        labels = output.label_logits[:, : len(model.labels)].argmax(axis=1)
        for run in active_runs(sigmoid(tracks).max(axis=1), model.step_s):
            label = model.labels[np.bincount(labels[run]).argmax()]
            if label in model.event_labels:
                rows.append((number, label, run.start, run.stop))
    return pd.DataFrame(rows, columns=["output", "label", "first", "last"])


def _counts(model: Model, sounds: pd.DataFrame) -> pd.Series:
    """Number of sounds of each label with events."""
    return sounds["label"].value_counts().reindex(model.event_labels, fill_value=0)


def _windows(model: Model, stretches: Sequence[np.ndarray], sounds: pd.DataFrame) -> np.ndarray:
    """Draw windows of the steps of sounds, equally many of each label, ``(windows, frames, width)``."""
    rng, step, window = np.random.default_rng(0), model.classifier.step, model.classifier.window
    steps = sounds.loc[sounds.index.repeat(sounds["last"] - sounds["first"])].reset_index()
    steps["step"] = steps["first"] + steps.groupby("index").cumcount()
    weights = 1 / steps.groupby("label")["step"].transform("size")
    drawn = steps.sample(WINDOWS, replace=True, weights=weights, random_state=rng)
    return np.stack(
        [stretches[one.output][one.step * step : one.step * step + window] for one in drawn.itertuples(index=False)]
    )
