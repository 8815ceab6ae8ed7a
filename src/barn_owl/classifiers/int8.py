"""The int8 classifier: a quantized cnn, computed in integers as on a small device.

Values are int8, ``real = (value - zero) * scale``, weights int8 with a scale per output channel; sums are int32, and
rescaled for the next stage by an integer multiplier and a shift. Jacob et al., "Quantization and Training of Neural
Networks for Efficient Integer-Arithmetic-Only Inference", CVPR 2018. Arithmetic is exact, so C code agrees bit for
bit.
"""

from collections.abc import Iterator
from dataclasses import asdict, dataclass
from typing import Annotated, Any

import numpy as np
from pydantic import Field

from barn_owl.classifiers.base import Classifier, Cost, FrameScores
from barn_owl.classifiers.cnn import Convolutional, split_outputs
from barn_owl.classifiers.kind import ClassifierKind
from barn_owl.classifiers.level import Level
from barn_owl.classifiers.limits import Pair, Size, check_window
from barn_owl.classifiers.stages import Stage, columns, stages_of
from barn_owl.network.level import relative_level
from barn_owl.settings import Settings

LOWEST, HIGHEST = -128, 127
SUM_SHIFT = 20
"""Bits behind the point of the multipliers of a sum: products stay far below 63 bits."""
SIZES = ("kind", "given", "out", "taps", "stride", "dilation", "before", "rectifies")


@dataclass(frozen=True, kw_only=True)
class QuantizedStage:
    """Quantized arrays of a stage.

    kernel : int8, in the shape of the stage's. bias : int32, ``(channels out,)``. scales : int32 ``(channels out,
    2)``, multiplier and shift; of a residual stage ``(2, 2)``: multipliers of the inner output and of the input, and
    the zero of the inner output. steps : scale of the sums of the last stage, float32 ``(channels out,)``.
    """

    zero_in: int
    zero_out: int
    kernel: np.ndarray | None = None
    bias: np.ndarray | None = None
    scales: np.ndarray | None = None
    steps: np.ndarray | None = None


class Quantized:
    """Networks in integer arithmetic over levels in float32, whose outputs are averaged."""

    name, has_onsets = "int8", True

    def __init__(
        self,
        networks: list[list[Stage]],
        stages: list[list[QuantizedStage]],
        level: Level,
        *,
        input_scale: float,
        input_zero: int,
        window: int,
        step: int,
        labels: int,
    ) -> None:
        self.networks, self.stages, self.level = networks, stages, level
        self.input_scale, self.input_zero = input_scale, input_zero
        self.window, self.step, self.labels = window, step, labels

    def frame_scores(self, frames: np.ndarray, extras: np.ndarray | None = None) -> FrameScores:  # noqa: ARG002
        """Return the mean outputs of the networks for all steps; see `Classifier`."""
        return self.steps_of(self.given(frames))

    def given(self, frames: np.ndarray) -> np.ndarray:
        """Return the input of the networks: levels as int8, ``(steps, bands)``."""
        if self.level.frames:
            frames = relative_level(frames[:, :, None], self.level.frames, self.level.range_db)[:, :, 0]
        steps = np.floor(frames * np.float32(1 / self.input_scale) + np.float32(0.5)) + self.input_zero
        return np.asarray(steps.clip(LOWEST, HIGHEST), dtype=np.int8)

    def steps_of(self, given: np.ndarray) -> FrameScores:
        """Return the mean outputs of the networks for levels in int8, ``(steps, bands)``."""
        logits, embeddings = [], []
        for stages, numbers in zip(self.networks, self.stages, strict=True):
            made, embedding = _run(stages, iter(numbers), given[:, :, None])
            logits.append(made)
            embeddings.append(embedding)
        output = np.asarray(logits[0] if len(logits) == 1 else np.mean(logits, axis=0, dtype=np.float32))
        return FrameScores(*split_outputs(output, self.labels), np.concatenate(embeddings, axis=1))

    def state(self) -> dict[str, np.ndarray]:
        """Return the arrays of all stages, prefixed with the numbers of network and stage."""
        return {
            f"{network}.{number}.{name}": array
            for network, stages in enumerate(self.stages)
            for number, stage in enumerate(stages)
            for name in ("kernel", "bias", "scales", "steps")
            if (array := getattr(stage, name)) is not None
        }

    def config(self) -> dict[str, Any]:
        """Return the sizes of all stages, and scales and zeros of their values."""
        return {
            "networks": [[_described(stage) for stage in stages] for stages in self.networks],
            "zeros": [[[stage.zero_in, stage.zero_out] for stage in stages] for stages in self.stages],
            "level": self.level.model_dump(),
            "input_scale": self.input_scale,
            "input_zero": self.input_zero,
            "window": self.window,
            "step": self.step,
        }

    @classmethod
    def rebuilt(cls, shape: dict[str, Any], arrays: dict[str, np.ndarray], labels: int) -> "Quantized":
        """Rebuild a stage from its ``shape`` and ``arrays``; raises KeyError or ValueError when they do not fit."""
        networks, stages = [], []
        for number, (described, zeros) in enumerate(zip(shape["networks"], shape["zeros"], strict=True)):
            own, place = [], f"{number}."
            for at, (zero_in, zero_out) in enumerate(zeros):
                parts = {name: arrays.get(f"{place}{at}.{name}") for name in ("kernel", "bias", "scales", "steps")}
                own.append(QuantizedStage(zero_in=int(zero_in), zero_out=int(zero_out), **parts))
            kernels = iter(own)
            networks.append([_restored(one, kernels) for one in described])
            stages.append(own)
        classifier = cls(
            networks, stages, Level(**shape["level"]), input_scale=float(shape["input_scale"]),
            input_zero=int(shape["input_zero"]), window=int(shape["window"]), step=int(shape["step"]), labels=labels,
        )  # fmt: skip
        bands = classifier.networks[0][0].given[0]
        classifier.frame_scores(np.zeros((classifier.window, bands), dtype=np.float32))
        return classifier

    def cost(self, hop_s: float) -> Cost:
        """Numbers kept, and multiply-adds a second."""
        weights = sum(array.size for array in self.state().values())
        return Cost(weights=weights, multiply_adds=round(multiply_adds_a_frame(self.networks) / hop_s))


def multiply_adds_a_frame(networks: list[list[Stage]]) -> float:
    """Multiply-adds that a frame takes where it streams: a stage behind strides works on few of them."""
    total = 0.0
    for stages in networks:
        every = 1.0
        for stage in stages:
            every /= stage.stride[0]
            total += stage.multiply_adds * every
    return total


def _described(stage: Stage) -> dict[str, Any]:
    sizes = {name: value for name, value in asdict(stage).items() if name in SIZES}
    return sizes | {"inner": [_described(one) for one in stage.inner]}


def _restored(described: dict[str, Any], numbers: Iterator[QuantizedStage]) -> Stage:
    own, sizes = next(numbers), dict(described)
    inner = [_restored(one, numbers) for one in sizes.pop("inner")]
    for name in ("given", "out", "taps", "stride"):
        sizes[name] = tuple(sizes[name])
    return Stage(**sizes, kernel=own.kernel, bias=own.bias, inner=inner)


def _run(stages: list[Stage], numbers: Iterator[QuantizedStage], x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Pass int8 steps through stages; return their output, and the input of the last stage, as floats."""
    embedding = x
    for stage in stages:
        own, embedding = next(numbers), x
        if stage.inner:
            x = _sum(stage, own, _run(stage.inner, numbers, x)[0], x)
            continue
        met = columns(stage, x, own.zero_in)
        if own.kernel is None:
            x = _pooled(stage, own, met)
            continue
        sums = _sums(stage, own, met)
        if own.steps is not None:
            x = (sums.astype(np.float32) * own.steps)[:, 0]
        elif own.scales is not None:
            x = _int8(_shifted(sums * own.scales[:, 0], own.scales[:, 1]) + own.zero_out)
    return x, embedding.reshape(len(embedding), -1).astype(np.float32)


def _sums(stage: Stage, own: QuantizedStage, met: np.ndarray) -> np.ndarray:
    """Sums of products, exact: below 2^53, so that a product of float64 matrices does it."""
    if own.kernel is None or own.bias is None:
        raise AssertionError
    values = met.astype(np.float64) - own.zero_in
    kernel = own.kernel.astype(np.float64)
    if stage.kind == "depthwise":
        sums = np.einsum("sbtuc,tuc->sbc", values, kernel)
    else:
        sums = values.reshape(*met.shape[:2], -1) @ kernel.reshape(-1, stage.out[1])
    return sums.astype(np.int64) + own.bias


def _sum(stage: Stage, own: QuantizedStage, made: np.ndarray, x: np.ndarray) -> np.ndarray:
    if own.scales is None:
        raise AssertionError
    (inner_multiplier, of_input), (zero_inner, _) = own.scales.tolist()
    crop = (stage.span - 1) // 2
    given = x.reshape(len(x), -1)[crop : crop + len(made)].reshape(made.shape)
    total = (made.astype(np.int64) - zero_inner) * inner_multiplier + (
        given.astype(np.int64) - own.zero_in
    ) * of_input
    return _int8(_shifted(total, SUM_SHIFT) + own.zero_out)


def _pooled(stage: Stage, own: QuantizedStage, met: np.ndarray) -> np.ndarray:
    if stage.kind == "max":
        y = met.max(axis=(2, 3)).astype(np.int64)
    else:
        count = met.shape[2] * met.shape[3]
        y = (2 * met.sum(axis=(2, 3), dtype=np.int64) + count) // (2 * count)
    return _int8(np.maximum(y, own.zero_in) if stage.rectifies else y)


def _shifted(x: np.ndarray, shift: Any) -> np.ndarray:
    """``x / 2^shift``, rounded to the nearest, halves up."""
    return np.asarray((x + (1 << (np.asarray(shift, dtype=np.int64) - 1))) >> np.asarray(shift, dtype=np.int64))


def _int8(x: np.ndarray) -> np.ndarray:
    return x.clip(LOWEST, HIGHEST).astype(np.int8)


def graph_in(classifier: Classifier) -> "Convolutional | Quantized | None":
    """Return a classifier that can be exported, None for a different kind."""
    return classifier if isinstance(classifier, Convolutional | Quantized) else None


def quantized_in(classifier: Classifier) -> "Quantized | None":
    """Return a classifier as the quantized networks that it is, None for another kind."""
    return classifier if isinstance(classifier, Quantized) else None


def stages_in(classifier: "Convolutional | Quantized") -> list[list[Stage]]:
    """Return the stages of each of its networks."""
    return classifier.networks if isinstance(classifier, Quantized) else stages_of(classifier)


class StageConfig(Settings):
    """Sizes of a stage of a network in whole numbers."""

    kind: Annotated[str, Field(max_length=40)]
    given: Pair
    out: Pair
    taps: Pair
    stride: Pair
    dilation: Size
    before: Annotated[int, Field(ge=0, le=1 << 16)]
    rectifies: bool
    inner: list["StageConfig"] = Field(default=[], max_length=64)


Byte = Annotated[int, Field(ge=-128, le=127)]


class Int8Config(Settings):
    """Entry of an int8 classifier in a model file."""

    name: str
    networks: list[Annotated[list[StageConfig], Field(min_length=1, max_length=256)]] = Field(
        min_length=1, max_length=16
    )
    zeros: list[list[Annotated[list[Byte], Field(min_length=2, max_length=2)]]] = Field(min_length=1, max_length=16)
    level: Level
    input_scale: float = Field(gt=1e-12, lt=1e12)
    input_zero: Byte
    window: Size
    step: Size


def _rebuild(
    config: Int8Config, arrays: dict[str, np.ndarray], features: int, labels: int, _multilabel: bool
) -> Quantized:
    check_window(config.window, features)
    return Quantized.rebuilt(config.model_dump(exclude={"name"}), arrays, labels)


KIND = ClassifierKind(name="int8", settings=None, config=Int8Config, rebuild=_rebuild, sees_frames=True, exports=True)
