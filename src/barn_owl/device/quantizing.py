"""Post-training quantization of a cnn to int8, with ranges measured on clips."""

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from barn_owl.classifiers.cnn import Convolutional, networks_in
from barn_owl.classifiers.int8 import HIGHEST, LOWEST, SUM_SHIFT, Quantized, QuantizedStage
from barn_owl.classifiers.stages import Stage, all_stages, run, stages_of
from barn_owl.clips import ClipFrames
from barn_owl.errors import ModelError
from barn_owl.model import Model
from barn_owl.model.loading import ModelLike, as_model
from barn_owl.network.level import relative_level

RARE = 1e-5
"""Share of values at either end that int8 clips: covering a few outliers would cost precision everywhere."""
SAMPLED = 4096
"""Values of each stage that are looked at in each clip."""
SMALLEST = 1e-9
"""Smallest range of values, to avoid division by 0."""
LONGEST_SHIFT = 46
"""Sums have 31 bits and multipliers as many: their product, and half a step more, stays below 63."""


def quantize(model: ModelLike, frames: ClipFrames) -> Model:
    """Return a model whose networks compute in int8.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model with a `cnn`, run, or the path of either.
    frames : ClipFrames
        Features of training clips, to find the ranges of all values.

    Raises
    ------
    ModelError
        If there are none, or the classifier is not a cnn.

    Examples
    --------
    >>> clips = barn_owl.read_clip_table("clips.csv")
    >>> model = barn_owl.device.plain_model(barn_owl.Plan(cnn={"size": "tiny"}), labels=4)
    >>> frames, _, _ = barn_owl.load_frames(clips, model.front_end)
    >>> barn_owl.device.quantize(model, frames).classifier.name
    'int8'
    """
    model = as_model(model)
    classifier = networks_in(model.classifier)
    if classifier is None:
        raise ModelError(
            f"only a cnn can be brought to int8, this is a model of the classifier {model.classifier.name}"
        )
    if not len(frames):
        raise ModelError("there are no clips to find the ranges of values on; int8 cannot do without")
    networks = stages_of(classifier)
    levels = [_levels(model, classifier, frames[clip]) for clip in range(len(frames))]
    given = _rounding_for(*_range_of([_sampled(level) for level in levels]))
    stages = [_rounded(own, iter(_ranges(own, levels)), given, is_top=True)[0] for own in networks]
    rounded = []
    for network, own in zip(networks, stages, strict=True):
        numbers = iter(own)
        rounded.append([_as_int8(stage, numbers) for stage in network])
    quantized = Quantized(
        rounded, stages, classifier.level,
        input_scale=given.size, input_zero=given.zero, window=classifier.window, step=classifier.step,
        labels=classifier.labels,
    )  # fmt: skip
    return replace(model, classifier=quantized, exemplars=[])


def _levels(model: Model, classifier: Convolutional, frames: np.ndarray) -> np.ndarray:
    """Return the input of the networks for a clip with its surrounding quiet, ``(steps, bands, 1)``."""
    around = model.around(frames)
    x = (np.concatenate([around, frames, around]) - model.mean) / model.deviation
    levels = x[:, :, None]
    return (
        relative_level(levels, classifier.level.frames, classifier.level.range_db)
        if classifier.level.frames
        else levels
    )


def _sampled(values: np.ndarray) -> np.ndarray:
    flat = values.ravel()
    return flat[:: max(1, len(flat) // SAMPLED)]


def _range_of(parts: Sequence[np.ndarray]) -> tuple[float, float]:
    low, high = np.quantile(np.concatenate(parts), [RARE, 1 - RARE])
    return float(low), float(high)


def _ranges(network: list[Stage], levels: list[np.ndarray]) -> list[tuple[float, float]]:
    """Output range of each stage, inner stages after their parent."""
    heard: dict[int, list[np.ndarray]] = {}
    for level in levels:
        run(network, level, lambda stage, y: heard.setdefault(id(stage), []).append(_sampled(y)))
    return [_range_of(heard[id(stage)]) for stage in all_stages(network)]


class Rounding(NamedTuple):
    """Scale and zero of int8: size of a step, and the value that represents 0."""

    size: float
    zero: int


def _rounding_for(low: float, high: float) -> Rounding:
    """Return a step size that covers `low` to `high`, and 0."""
    low, high = min(low, 0.0), max(high, 0.0)
    size = max(high - low, SMALLEST) / (HIGHEST - LOWEST)
    return Rounding(size, int(np.clip(round(LOWEST - low / size), LOWEST, HIGHEST)))


def _rounded(
    stages: Sequence[Stage], ranges: Iterator[tuple[float, float]], given: Rounding, *, is_top: bool
) -> tuple[list[QuantizedStage], Rounding]:
    """Quantize stages whose input has the scale `given`; return their arrays, inner stages after their parent, and
    the scale of the output."""
    made: list[QuantizedStage] = []
    for number, stage in enumerate(stages):
        out = _rounding_for(*next(ranges))
        if stage.kind in ("max", "mean"):
            out = given  # pooling and rectifiers keep the scale
            made.append(QuantizedStage(zero_in=given.zero, zero_out=given.zero))
        elif stage.inner:
            inner, inside = _rounded(stage.inner, ranges, given, is_top=False)
            factors = [
                [inside.size / out.size * 2**SUM_SHIFT, given.size / out.size * 2**SUM_SHIFT],
                [inside.zero, 0],
            ]
            scales = np.round(factors).astype(np.int32)
            made += [QuantizedStage(zero_in=given.zero, zero_out=out.zero, scales=scales), *inner]
        else:
            made.append(_convolved(stage, given, out, is_last=is_top and number == len(stages) - 1))
        given = out
    return made, given


def _convolved(stage: Stage, given: Rounding, out: Rounding, *, is_last: bool) -> QuantizedStage:
    if stage.kernel is None or stage.bias is None:
        raise AssertionError(stage.kind)
    each = tuple(range(stage.kernel.ndim - 1))
    steps = np.maximum(np.abs(stage.kernel).max(axis=each).astype(np.float64), SMALLEST) / HIGHEST
    sums = steps * given.size
    own: dict[str, np.ndarray] = {
        "kernel": np.round(stage.kernel / steps).astype(np.int8),
        "bias": np.round(stage.bias / sums).clip(-(2**30), 2**30).astype(np.int32),
    }
    if is_last:
        own["steps"] = sums.astype(np.float32)
    else:
        own["scales"] = np.array([_multiplier(float(one)) for one in sums / out.size], dtype=np.int32)
    return QuantizedStage(zero_in=given.zero, zero_out=out.zero, **own)


def _multiplier(factor: float) -> tuple[int, int]:
    """A whole multiplier below 2^31 and a shift, whose quotient is `factor`."""
    _, exponent = math.frexp(factor)
    # A factor this small rounds every sum to 0.
    shift = min(31 - exponent, LONGEST_SHIFT)
    return min(round(factor * 2**shift), 2**31 - 1), shift


def _as_int8(stage: Stage, numbers: Iterator[QuantizedStage]) -> Stage:
    own = next(numbers)
    return replace(stage, kernel=own.kernel, bias=own.bias, inner=[_as_int8(one, numbers) for one in stage.inner])
