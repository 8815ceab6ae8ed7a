"""Export as C: a self-contained source file, its header, and a program that tags WAV files.

The code is in ``owl.c``, ``owl.h`` and ``main.c`` of this folder; this module fills in the numbers.
"""

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path

import numpy as np

from barn_owl.classifiers.cnn import outputs_of
from barn_owl.classifiers.int8 import SUM_SHIFT, QuantizedStage, quantized_in
from barn_owl.classifiers.stages import Stage, all_stages
from barn_owl.device.graph import classifier_of, graph_of
from barn_owl.errors import ModelError
from barn_owl.features import FrontEnd
from barn_owl.features.activity import QUIET_SHARE
from barn_owl.features.mel import mel_bank
from barn_owl.files import atomic_write, checked_target
from barn_owl.model import DecodingSettings, Model
from barn_owl.model.loading import ModelLike, as_model
from barn_owl.tag.decoding import for_any
from barn_owl.tag.tracks import FAINT, MAX_SEGMENT_S, Timing

KINDS = {
    "convolution": "CONVOLUTION", "depthwise": "DEPTHWISE", "max": "MAXIMUM", "mean": "MEAN", "residual": "RESIDUAL"
}  # fmt: skip
A_LINE = 12
"""Numbers in a line of a table."""
LANES = 16
"""Rows of whole numbers are a multiple of this long, so that they are multiplied as many at a time."""


def write_c(model: ModelLike, path: str | Path, *, force: bool = False) -> list[Path]:
    """Write a model as C99: ``NAME.c``, ``NAME.h`` and ``NAME_main.c``, a program that tags a WAV file.

    Parameters
    ----------
    model : Model | Run | str | Path
        Model, run, or the path of either.
    path : str | Path
        Ends with ``.c``. The code needs no heap and nothing but the C library's mathematics; ``sizeof(owl)``
        is all the memory it works in.
    force : bool
        Whether existing files are overwritten.

    Returns
    -------
    list[Path]
        The files.

    Raises
    ------
    ModelError
        For a model that is no graph (see `graph_of`) or whose frames have an odd transform.
    OutputError
        If a file is there already.

    Examples
    --------
    >>> model = barn_owl.device.plain_model(barn_owl.Plan(cnn={"size": "tiny"}), labels=6)
    >>> [path.name for path in barn_owl.write_c(model, "owl.c", force=True)]
    ['owl.c', 'owl.h', 'owl_main.c']
    """
    model = as_model(model)
    path = Path(path)
    targets = [path, path.with_suffix(".h"), path.with_name(f"{path.stem}_main.c")]
    for target in targets:
        checked_target(target, force=force, endings=(".c", ".h"))
    texts = c_source(model, path.stem)
    for target, text in zip(targets, texts, strict=True):
        with atomic_write(target) as beside:
            Path(beside).write_text(text, encoding="utf-8", errors="backslashreplace")
    return targets


def c_source(model: Model, name: str) -> tuple[str, str, str]:
    """Return the text of ``NAME.c``, ``NAME.h`` and ``NAME_main.c``; see `write_c`."""
    front_end = model.front_end
    if front_end.fft_length % 2:
        raise ModelError(
            f"C source needs a transform of even length, this one has {front_end.fft_length}; "
            "set front_end.fft to an even number and train again"
        )
    laid = _Layout(
        graph_of(model),
        outputs_of(len(model.labels), multilabel=model.multilabel),
        transposed=quantized_in(model.classifier) is not None,
    )
    data, numbers = _data(model, laid)
    sizes = _sizes(model, laid, numbers)
    folder = files("barn_owl.device")
    code, header, program = (folder.joinpath(file).read_text("utf-8") for file in ("owl.c", "owl.h", "main.c"))
    code = code.replace('"owl.h"', f'"{name}.h"').replace("@DATA@", data)
    return code, header.replace("@SIZES@", sizes), program.replace("@NAME@", name)


@dataclass(frozen=True)
class _Row:
    """Where the numbers and the memory of a stage begin."""

    kernel: int
    bias: int
    ring: int
    out: int
    scale: int


class _Layout:
    """Memory layout: weights and ring buffers in sequence, outputs in two alternating places per depth."""

    def __init__(self, networks: Sequence[Sequence[Stage]], outputs_a_step: int, *, transposed: bool) -> None:
        self._transposed = transposed
        self.order: list[Stage] = []
        self.rows: list[_Row] = []
        self.first = [0]
        self.kernel = self.bias = self.scale = self.memory = 0
        self._outputs_a_step, self._logits = outputs_a_step, 0
        outputs: dict[tuple[int, int], int] = {}
        for network in networks:
            self._measure(network, 0, outputs)
        self._outputs = {}
        for place, size in sorted(outputs.items()):
            self._outputs[place] = self.memory
            self.memory += size
        for network in networks:
            self._add(network, 0, is_top=True)
            self.first.append(len(self.order))

    def _measure(self, stages: Sequence[Stage], depth: int, outputs: dict[tuple[int, int], int]) -> None:
        for number, stage in enumerate(stages):
            place = depth, number % 2
            outputs[place] = max(outputs.get(place, 0), stage.values_out)
            self._measure(stage.inner, depth + 1, outputs)

    def _add(self, stages: Sequence[Stage], depth: int, *, is_top: bool) -> None:
        for number, stage in enumerate(stages):
            self.order.append(stage)
            is_last = is_top and number == len(stages) - 1
            scale = self._logits if is_last else self.scale
            self.rows.append(_Row(self.kernel, self.bias, self.memory, self._outputs[depth, number % 2], scale))
            if stage.kernel is not None:
                self.kernel += (
                    stage.out[1] * _reach(stage) if self._transposed and _reach(stage) else stage.kernel.size
                )
                self.bias += stage.out[1]
            if is_last:
                self._logits += self._outputs_a_step
            else:
                self.scale += 2 if stage.inner else 0 if stage.kernel is None else stage.out[1]
            self.memory += stage.span * stage.values_in if stage.span > 1 else 0
            self._add(stage.inner, depth + 1, is_top=False)


def _reach(stage: Stage) -> int:
    """Length of the dot products of a stage, rounded up; 0 for depthwise stages and pooling."""
    if stage.kernel is None or stage.kernel.ndim < 4:
        return 0
    return -(-math.prod(stage.kernel.shape[:3]) // LANES) * LANES


def _sizes(model: Model, laid: _Layout, numbers: int) -> str:
    front_end, classifier, level = model.front_end, model.classifier, classifier_of(model).level
    quantized = quantized_in(classifier)
    half = front_end.fft_length // 2
    values: dict[str, object] = {
        "INT8": int(quantized is not None),
        "RATE_HZ": front_end.rate_hz,
        "FRAME": front_end.frame,
        "HOP": front_end.hop,
        "FFT": front_end.fft_length,
        "RADIX": max(2, *_factors(half)),
        "BANDS": front_end.bands,
        "FLOOR": _number(float(front_end.floor)),
        "HAS_RANGE": int(front_end.range_db is not None),
        "RANGE_DB": _number(front_end.range_db or 0.0),
        "LEVEL_SPAN": level.frames,
        "QUIET_SHARE": QUIET_SHARE,
        "LEVEL_LEAST": _number(10 ** (-level.range_db / 10)),
        "WINDOW": classifier.window,
        "STEP": classifier.step,
        "LABELS": len(model.labels),
        "OUTPUTS": outputs_of(len(model.labels), multilabel=model.multilabel),
        "NETWORKS": len(laid.first) - 1,
        "STAGES": len(laid.order),
        "CHANNELS": max(stage.out[1] for stage in laid.order),
        "TAPS": max(stage.taps[0] for stage in laid.order),
        "LANES": LANES,
        "REACH": max(_reach(stage) for stage in laid.order),
        "MEMORY": laid.memory,
        "SUM_SHIFT": SUM_SHIFT,
        "SMOOTH_STEPS": round(model.decoding.smoothing_s / model.step_s),
        "ALONE": f"{model.decoding.max_overlap:.9g}",
        "NAMED": _number(model.decoding.min_known_probability),
        "NAMES": int(not model.multilabel),
        "TRACKS": len(model.labels) if model.multilabel else 1,
        "NAMED_STEPS": max(1, round(MAX_SEGMENT_S / model.step_s)),
        "NEAR": Timing.of(model).near,
        "PEAK": Timing.of(model).peak,
        "FAINT": _number(FAINT),
        "NUMBERS": numbers,
    }
    if quantized is not None:
        values |= {"INPUT_STEPS": _number(1 / quantized.input_scale), "INPUT_ZERO": quantized.input_zero}
    return "\n".join(f"#define OWL_{name} {value}" for name, value in values.items())


def _data(model: Model, laid: _Layout) -> tuple[str, int]:
    """The tables of numbers, and how many bytes they take."""
    front_end, tables = model.front_end, _Tables()
    tables.add("float", "owl_window", front_end.window_rows[0])
    length = front_end.fft_length
    for name, count, size in (("owl_turns", length // 2, length // 2), ("owl_half_turns", length // 2 + 1, length)):
        turns = np.exp(-2j * np.pi * np.arange(count) / size)
        tables.add("float", name, np.stack([turns.real, turns.imag], axis=1).ravel())
    _add_mel(tables, front_end)
    tables.add("float", "owl_mean", model.mean)
    tables.add("float", "owl_deviation", model.deviation)
    _add_numbers(tables, model, laid)
    tables.add("int16_t", "owl_first", laid.first)
    tables.lines += [f"static const owl_stage owl_stages[{len(laid.order)}] = {{"]
    quantized = _quantized(model)
    for number, (stage, row) in enumerate(zip(laid.order, laid.rows, strict=True)):
        own = [KINDS[stage.kind], *stage.given, *stage.out, *stage.taps, *stage.stride, stage.dilation, stage.before]
        own += [int(stage.rectifies), stage.span, len(all_stages(stage.inner)), row.kernel]
        own += [(0 if quantized else laid.kernel) + row.bias, row.ring, row.out]
        if quantized:
            own += [row.scale, quantized[number].zero_in, quantized[number].zero_out, _reach(stage)]
        tables.lines.append(f"    {{{', '.join(map(str, own))}}},")
    tables.lines.append("};")
    tables.bytes += len(laid.order) * (60 if quantized else 48)
    quoted = ", ".join(_quoted(label) for label in model.labels)
    tables.lines.append(f"const char *const owl_labels[OWL_LABELS] = {{{quoted}}};")
    tables.add("uint8_t", "owl_is_event", [int(name in model.event_labels) for name in model.labels], public=True)
    by_label = [model.decoding.of(label) for label in model.labels]
    _add_decoding(tables, model, "owl_label_decoding[OWL_LABELS]", by_label)
    any_label = for_any(model.decoding, model.event_labels)
    _add_decoding(tables, model, "owl_track_decoding[OWL_TRACKS]", by_label if model.multilabel else [any_label])
    return "\n".join(tables.lines), tables.bytes


def _add_decoding(tables: "_Tables", model: Model, name: str, decoding: Sequence[DecodingSettings]) -> None:
    """Add how scores become events, for each label or each track."""
    tables.lines.append(f"const owl_decoding {name} = {{")
    for d in decoding:
        floats = [_number(value) for value in (d.threshold, d.release_threshold, d.retrigger_threshold)]
        times = (
            d.min_duration_s, d.max_duration_s, d.refractory_s, d.max_gap_s, d.onset_shift_s, d.offset_shift_s
        )  # fmt: skip
        doubles = [repr(float(value)) for value in times]
        tables.lines.append(f"    {{{', '.join([*floats, *doubles, str(round(d.max_gap_s / model.step_s))])}}},")
    tables.lines.append("};")


class _Tables:
    """Constant arrays, written as C, and how many bytes they take."""

    def __init__(self) -> None:
        self.lines: list[str] = []
        self.bytes = 0

    def add(self, kind: str, name: str, values: Iterable[float], *, public: bool = False) -> None:
        """Add an array of ``float`` or of whole numbers."""
        texts = [_number(value) if kind == "float" else str(int(value)) for value in values]
        self.bytes += len(texts) * {"float": 4, "int32_t": 4, "int16_t": 2}.get(kind, 1)
        rows = [", ".join(texts[at : at + A_LINE]) for at in range(0, len(texts), A_LINE)] or ["0"]
        self.lines += [f"{'' if public else 'static '}const {kind} {name}[{max(len(texts), 1)}] = {{"]
        self.lines += [*(f"    {row}," for row in rows), "};"]


def _add_mel(tables: _Tables, front_end: FrontEnd) -> None:
    """Add the triangles, each from its first bin that counts to its last."""
    bank = mel_bank(front_end.bands, front_end.low_hz, front_end.top_hz, front_end.rate_hz, front_end.fft_length)
    first, count, at = [], [], []
    weights: list[float] = []
    for column in bank.T.astype(np.float32):
        used = np.flatnonzero(column)
        first.append(used[0])
        count.append(used[-1] - used[0] + 1)
        at.append(len(weights))
        weights += column[used[0] : used[-1] + 1].tolist()
    tables.add("float", "owl_mel", weights)
    for name, values in (("first", first), ("count", count), ("at", at)):
        tables.add("int32_t", f"owl_mel_{name}", values)


def _add_numbers(tables: _Tables, model: Model, laid: _Layout) -> None:
    """Add weights and biases, of a quantized model as whole numbers with their multipliers."""
    kept = [stage for stage in laid.order if stage.kernel is not None]
    quantized = _quantized(model)
    if not quantized:
        parts = [stage.kernel.ravel() for stage in kept if stage.kernel is not None]
        tables.add("float", "owl_weights", np.concatenate([*parts, *(_bias(stage) for stage in kept)]))
        return
    kernels = [_row_by_row(one.kernel) for one in quantized if one.kernel is not None]
    tables.add("int8_t", "owl_weights", np.concatenate(kernels))
    tables.add("int32_t", "owl_biases", np.concatenate([one.bias for one in quantized if one.bias is not None]))
    scales = [one.scales.ravel() for one in quantized if one.scales is not None]
    tables.add("int32_t", "owl_scales", np.concatenate(scales))
    # The last stage of each network computes logits; their scales follow by network.
    tables.add("float", "owl_logit_steps", np.concatenate([one.steps for one in quantized if one.steps is not None]))


def _row_by_row(kernel: np.ndarray) -> np.ndarray:
    """Weights by channel out first, with zeros behind each row: a sum is the product of two rows.

    Depthwise kernels need no transposition.
    """
    if kernel.ndim < 4:
        return kernel.ravel()
    rows = kernel.reshape(-1, kernel.shape[-1]).T
    return np.pad(rows, ((0, 0), (0, -rows.shape[1] % LANES))).ravel()


def _bias(stage: Stage) -> np.ndarray:
    return np.zeros(stage.out[1], np.float32) if stage.bias is None else stage.bias


def _quantized(model: Model) -> list[QuantizedStage]:
    """Quantized arrays of all networks in order; empty for a model in float32."""
    quantized = quantized_in(model.classifier)
    return [] if quantized is None else [stage for network in quantized.stages for stage in network]


def _factors(number: int) -> list[int]:
    found, factor = [], 2
    while number > 1:
        while number % factor == 0:
            found.append(factor)
            number //= factor
        factor += 1
    return found


def _number(value: float) -> str:
    """A float32 as C, with all its digits."""
    text = f"{np.float32(value):.9g}"
    return f"{text}f" if any(c in text for c in ".en") else f"{text}.0f"


def _quoted(text: str) -> str:
    """A string as C: plain letters as they are, all else as the bytes of UTF-8, each by its octal number."""
    plain = [chr(byte) if 32 <= byte < 127 and byte not in b'"\\?' else f"\\{byte:03o}" for byte in text.encode()]
    return f'"{"".join(plain)}"'
