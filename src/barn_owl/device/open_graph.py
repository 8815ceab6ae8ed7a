"""Export as an ONNX graph: samples in, scores out, including the front end."""

import json
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from barn_owl.classifiers.cnn import networks_in
from barn_owl.classifiers.stages import Stage
from barn_owl.device.graph import classifier_of, graph_of
from barn_owl.errors import ModelError
from barn_owl.features.mel import mel_bank
from barn_owl.files import atomic_write, checked_target
from barn_owl.model import Model
from barn_owl.model.loading import ModelLike, as_model
from barn_owl.network.level import CENTER_DB, SILENCE, SPREAD_DB
from barn_owl.wording import how_to_install

if TYPE_CHECKING:
    import onnx

OPSET = 17
"""Version of the operators that graphs are written in."""
NATURAL = 10 / np.log(10)
"""Factor from the natural logarithm of power to dB."""


def write_onnx(model: ModelLike, path: str | Path, *, takes_features: bool = False, force: bool = False) -> None:
    """Write a model as an ONNX graph of opset 17.

    Its input ``samples`` is float32, ``(samples,)``, mono at the model's rate. Its outputs ``activity`` and
    ``onsets`` are scores from 0 to 1 of any label with events, ``(steps, 1)``, or of each label, ``(steps, labels)``,
    where labels may overlap; step *i* describes frame ``window // 2 + i * step``. ``label_logits`` are ``(steps,
    labels + 2)``; see `barn_owl.classifiers.base.segment_logits`. Labels, rate, window, step, the times ``first_s``
    of row 0 and ``step_s`` between rows, and decoding settings are in the metadata.

    Parameters
    ----------
    model : Model | Run | str | Path
        Model, run, or the path of either.
    path : str | Path
        File.
    takes_features : bool
        The input is ``frames`` instead, log-mel in dB, ``(frames, bands)``.
    force : bool
        Whether existing files are overwritten.

    Raises
    ------
    ModelError
        For a model that cannot be exported, and without the package `onnx`.
    OutputError
        For a file that is there already.

    Examples
    --------
    >>> barn_owl.write_onnx(barn_owl.device.plain_model(barn_owl.Plan(), labels=6), "model.onnx", force=True)
    """
    model = as_model(model)
    path = Path(path)
    checked_target(path, force=force)
    content = graph_bytes(model, takes_features=takes_features)
    with atomic_write(path) as beside:
        Path(beside).write_bytes(content)


def graph_bytes(model: Model, *, takes_features: bool = False, log_odds: bool = False) -> bytes:
    """Return a model as an ONNX graph; see `write_onnx`. log_odds : outputs are log-odds rather than scores."""
    graph_of(model)
    if networks_in(model.classifier) is None:
        raise ModelError("a model in int8 is handed over as C; as an ONNX graph, take the model it was made from")
    try:
        import onnx  # noqa: F401
    except ImportError:
        raise ModelError(f"an ONNX graph needs a package that is not there; {how_to_install('onnx')}") from None
    made: bytes = _Graph(model, takes_features=takes_features, log_odds=log_odds).model().SerializeToString()
    return made


class _Graph:
    """Collects the nodes and the numbers of a graph."""

    def __init__(self, model: Model, *, takes_features: bool, log_odds: bool) -> None:
        self._model, self._takes_features, self._log_odds = model, takes_features, log_odds
        self._nodes: list[Any] = []
        self._numbers: list[Any] = []

    def model(self) -> "onnx.ModelProto":
        """Put the whole together."""
        from onnx import TensorProto, checker, helper

        front_end, labels = self._model.front_end, len(self._model.labels)
        tracks = labels if self._model.multilabel else 1
        if self._takes_features:
            given = helper.make_tensor_value_info("frames", TensorProto.FLOAT, ["frames", front_end.bands])
            levels = self._add("Unsqueeze", self._add("Transpose", "frames", perm=[1, 0]), self._whole([0]))
        else:
            given = helper.make_tensor_value_info("samples", TensorProto.FLOAT, ["samples"])
            levels = self._log_mel()
        x = self._levels(levels)
        logits = [self._network(stages, x) for stages in graph_of(self._model)]
        total = logits[0]
        for one in logits[1:]:
            total = self._add("Add", total, one)
        mean = self._add("Mul", total, self._real(1 / len(logits)))
        scores = mean if self._log_odds else self._add("Sigmoid", mean)
        outputs = []
        parts = (
            ("activity", scores, 0, tracks),
            ("onsets", scores, tracks, tracks),
            ("label_logits", mean, 2 * tracks, labels + 2),
        )
        for name, given_by, first, width in parts:
            place = (self._whole([first]), self._whole([first + width]), self._whole([1]))
            self._nodes.append(helper.make_node("Slice", [given_by, *place], [name]))
            outputs.append(helper.make_tensor_value_info(name, TensorProto.FLOAT, ["steps", width]))
        graph = helper.make_graph(self._nodes, "barn-owl", [given], outputs, self._numbers)
        made = helper.make_model(
            graph, opset_imports=[helper.make_opsetid("", OPSET)], producer_name="barn-owl", ir_version=8
        )
        helper.set_model_props(made, self._metadata())
        checker.check_model(made)
        return made

    def _metadata(self) -> dict[str, str]:
        model = self._model
        values = model.described() | {
            "window_frames": model.classifier.window,
            "step_frames": model.classifier.step,
            "first_s": model.front_end.frame_ms / 2000 + model.classifier.window // 2 * model.front_end.hop_s,
            "step_s": model.step_s,
            "provenance": model.provenance,
        }
        return {name: json.dumps(value, ensure_ascii=False) for name, value in values.items()}

    def _add(self, kind: str, *inputs: str, **attributes: Any) -> str:
        from onnx import helper

        name = f"{kind.lower()}_{len(self._nodes)}"
        self._nodes.append(helper.make_node(kind, list(inputs), [name], **attributes))
        return name

    def _array(self, values: np.ndarray) -> str:
        from onnx import numpy_helper

        name = f"numbers_{len(self._numbers)}"
        self._numbers.append(numpy_helper.from_array(np.ascontiguousarray(values), name))
        return name

    def _real(self, value: Any) -> str:
        return self._array(np.asarray(value, dtype=np.float32))

    def _whole(self, values: Sequence[int]) -> str:
        return self._array(np.asarray(values, dtype=np.int64))

    def _log_mel(self) -> str:
        """Levels in dB, ``(1, bands, frames)``: the transform is a convolution with sines and cosines."""
        end = self._model.front_end
        bins = end.fft_length // 2 + 1
        turns = np.exp(-2j * np.pi * np.outer(np.arange(bins), np.arange(end.frame)) / end.fft_length)
        kernel = np.concatenate([turns.real, turns.imag]) * end.window_rows[0].astype(np.float64)
        x = self._add("Reshape", "samples", self._whole([1, 1, -1]))
        x = self._add("Conv", x, self._real(kernel[:, None]), strides=[end.hop])
        bank = mel_bank(end.bands, end.low_hz, end.top_hz, end.rate_hz, end.fft_length).T
        x = self._add("Conv", self._add("Mul", x, x), self._real(np.concatenate([bank, bank], axis=1)[:, :, None]))
        x = self._add("Mul", self._add("Log", self._add("Add", x, self._real(end.floor))), self._real(NATURAL))
        if end.range_db is not None:
            top = self._add("ReduceMax", x, axes=[1], keepdims=1)
            x = self._add("Max", x, self._add("Sub", top, self._real(end.range_db)))
        return x

    def _levels(self, x: str) -> str:
        """Return the input of the networks, ``(1, 1, frames, bands)``."""
        model, classifier = self._model, classifier_of(self._model)
        x = self._add("Sub", x, self._real(model.mean[None, :, None]))
        x = self._add("Div", x, self._real(model.deviation[None, :, None]))
        if span := classifier.level.frames:
            power = self._add("Exp", self._add("Mul", x, self._real(1 / NATURAL)))
            mean = self._add("ReduceMean", power, axes=[1], keepdims=1)
            mean = self._add("AveragePool", mean, kernel_shape=[span], strides=[1])
            mean = self._add("Add", mean, self._real(SILENCE))
            x = self._add("Div", self._cropped(power, (span - 1) // 2, span // 2, axis=2), mean)
            x = self._add("Log", self._add("Add", x, self._real(10 ** (-classifier.level.range_db / 10))))
            x = self._add("Mul", x, self._real(NATURAL / SPREAD_DB))
            x = self._add("Add", x, self._real(CENTER_DB / SPREAD_DB))
        return self._add("Unsqueeze", self._add("Transpose", x, perm=[0, 2, 1]), self._whole([1]))

    def _cropped(self, x: str, before: int, after: int, axis: int) -> str:
        end = -after if after else np.iinfo(np.int64).max
        return self._add("Slice", x, self._whole([before]), self._whole([end]), self._whole([axis]))

    def _network(self, stages: Sequence[Stage], x: str) -> str:
        """Return the outputs of a network, ``(steps, outputs)``."""
        x = self._stages(stages, x, (self._model.front_end.bands, 1))
        x = self._add("Reshape", x, self._whole([stages[-1].out[1], -1]))
        return self._add("Transpose", x, perm=[1, 0])

    def _stages(self, stages: Sequence[Stage], x: str, before: tuple[int, int]) -> str:
        """Pass ``(1, channels, steps, bands)`` through stages; before : bands and channels of a step of it."""
        for stage in stages:
            if before != stage.given:  # bands become channels, band by band
                x = self._add("Transpose", x, perm=[0, 3, 1, 2])
                x = self._add(
                    "Unsqueeze", self._add("Reshape", x, self._whole([1, stage.given[1], -1])), self._whole([3])
                )
            if stage.inner:
                cut = stage.span - 1
                x = self._add(
                    "Add",
                    self._stages(stage.inner, x, stage.given),
                    self._cropped(x, cut // 2, cut - cut // 2, axis=2),
                )
            else:
                x = self._slid(stage, x)
            if stage.rectifies:
                x = self._add("Relu", x)
            before = stage.out
        return x

    def _slid(self, stage: Stage, x: str) -> str:
        reach = (stage.out[0] - 1) * stage.stride[1] + stage.taps[1]
        around = {"pads": [0, stage.before, 0, max(0, reach - stage.before - stage.given[0])]}
        sizes: dict[str, Any] = {"kernel_shape": list(stage.taps), "strides": list(stage.stride)}
        if stage.kernel is None:
            return self._add("MaxPool" if stage.kind == "max" else "AveragePool", x, **sizes)
        sizes |= {"dilations": [stage.dilation, 1], **around}
        if stage.kind == "depthwise":
            sizes["group"] = stage.given[1]
            kernel = stage.kernel.transpose(2, 0, 1)[:, None]
        else:
            kernel = stage.kernel.transpose(3, 2, 0, 1)
        bias = np.zeros(stage.out[1]) if stage.bias is None else stage.bias
        return self._add("Conv", x, self._real(kernel), self._real(bias), **sizes)
