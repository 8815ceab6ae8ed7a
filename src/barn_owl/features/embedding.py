"""Embeddings: the output of a network in an ONNX file, as a feature."""

import hashlib
import importlib
from functools import lru_cache
from pathlib import Path
from typing import Any, Literal

import numpy as np
from pydantic import Field, field_validator

from barn_owl.errors import ModelError
from barn_owl.features.custom import CustomFeature
from barn_owl.files import not_a_file
from barn_owl.names import is_url
from barn_owl.settings import Settings
from barn_owl.wording import how_to_install

MAX_BYTES = 1 << 31
"""Size of a graph file, the limit of its format."""
MAX_COLUMNS = 8192
"""Width of an embedding: above that of networks for sound in use."""


class EmbeddingSettings(Settings):
    """Network that turns samples or log-mel frames into embeddings; needs the extra `runtime`."""

    graph: str = Field(min_length=1, max_length=4000)
    """ONNX file with a single input: samples, ``(samples,)``, or log-mel frames, ``(frames, bands)`` or ``(bands,
    frames)``; further dimensions have size 1."""
    takes: Literal["samples", "log-mel"] | None = None
    """Input of the network. Default: log-mel if a dimension of its input is `bands`, else samples."""
    window_s: float | None = Field(default=None, gt=0, le=60)
    """Length of the input. Default: read from the shape of the input."""
    hop_s: float | None = Field(default=None, gt=0, le=60)
    """Time between windows. Default: half a window, or a window if its output has several rows."""
    output: str | None = None
    """Name of the output with the embeddings, ``(columns,)`` or ``(rows, columns)``. Default: the first output."""

    @field_validator("graph")
    @classmethod
    def _absolute(cls, graph: str) -> str:
        """Return an absolute path, since models store it."""
        if is_url(graph):
            raise ValueError(f"must be a file on this machine, got {graph}")
        return str(Path(graph).absolute())


def onnx_runtime() -> Any:
    """Return the module of ONNX Runtime; raises ModelError where it is not installed."""
    try:
        return importlib.import_module("onnxruntime")
    except ImportError:
        raise ModelError(f"ONNX Runtime is not there; {how_to_install('runtime')}") from None


class EmbeddingGraph:
    """A network in an ONNX file, applied to windows of samples or of log-mel frames.

    Worker processes open the file again. Raises ModelError when the file cannot be used or its content has changed.
    """

    def __init__(self, path: Path, output: str | None) -> None:
        self.path = path
        self.sha256 = ""
        self._session: Any = None
        self._session = self._opened()
        if len(inputs := self._session.get_inputs()) != 1:
            raise ModelError(f"{path} must have one input, has {len(inputs)}")
        outputs = [one.name for one in self._session.get_outputs()]
        if output is not None and output not in outputs:
            raise ModelError(f"{path} has no output {output!r}; its outputs are {', '.join(outputs)}")
        self._input, self.output = inputs[0].name, output or outputs[0]
        if inputs[0].type != "tensor(float)":
            raise ModelError(f"{path}: the input must be float32, is {inputs[0].type}")
        self.shape = [size if isinstance(size, int) and size > 0 else None for size in inputs[0].shape]
        """Sizes of the dimensions of the input; None for free ones."""
        self._swaps = False

    def __getstate__(self) -> dict[str, Any]:
        return self.__dict__ | {"_session": None}

    def _opened(self) -> Any:
        runtime = onnx_runtime()
        if why := not_a_file(self.path):
            raise ModelError(f"{self.path} {why}")
        try:
            if (size := self.path.stat().st_size) > MAX_BYTES:
                raise ModelError(f"{self.path} is {size} bytes long, too long for a graph")
            content = self.path.read_bytes()
        except OSError as error:
            raise ModelError(f"{self.path} cannot be read: {error.strerror or error}") from error
        sha256 = hashlib.sha256(content).hexdigest()
        if self.sha256 not in {"", sha256}:
            raise ModelError(f"{self.path} has changed since it was opened")
        self.sha256 = sha256
        options = runtime.SessionOptions()
        options.intra_op_num_threads = options.inter_op_num_threads = 1  # recordings share the cores
        options.log_severity_level = 4  # its faults arrive as exceptions
        try:
            return runtime.InferenceSession(content, options, providers=["CPUExecutionProvider"])
        except Exception as error:
            raise ModelError(f"{self.path} is not an ONNX file that can be run: {_first_line(error)}") from error

    def lengths(self, bands: int, takes: str | None) -> tuple[str, int | None]:
        """Return the kind of input, and its length in samples or frames; None where the shape leaves it open."""
        sizes = [size for size in self.shape if size != 1]
        if not self.shape or len(sizes) > 2 + (self.shape[0] is None):
            raise ModelError(f"{self.path}: the input must be samples or log-mel frames, has the shape {self.shape}")
        takes = takes or ("log-mel" if bands in sizes and len(self.shape) > 1 else "samples")
        if takes == "samples":
            return takes, self.shape[-1]
        if len(self.shape) < 2 or not {bands, None} & set(self.shape[-2:]):
            raise ModelError(f"{self.path}: no dimension of the input, {self.shape}, has the {bands} mel bands")
        self._swaps = self.shape[-1] != bands and self.shape[-2] == bands
        return takes, self.shape[-1 if self._swaps else -2]

    def rows(self, window: np.ndarray) -> np.ndarray:
        """Return the embeddings of a window of samples or log-mel frames, float32, ``(rows, columns)``."""
        self._session = self._session or self._opened()
        values = window.T if self._swaps else window
        values = np.ascontiguousarray(values, dtype=np.float32)
        values = values.reshape((1,) * (len(self.shape) - values.ndim) + values.shape)
        try:
            (found,) = self._session.run([self.output], {self._input: values})
        except Exception as error:
            raise ModelError(f"{self.path} cannot be run: {_first_line(error)}") from error
        found = np.asarray(found)
        if found.dtype.kind != "f" or not found.size:
            raise ModelError(
                f"{self.path}: the output {self.output!r} must be floats, is {found.dtype} {found.shape}"
            )
        return found.reshape(-1, found.shape[-1] if found.ndim else 1).astype(np.float32)


class _Windows:
    """The function of an embedding feature: a graph applied to windows of its input."""

    def __init__(self, graph: EmbeddingGraph, window: int) -> None:
        self.graph, self.window = graph, window

    def __call__(self, values: np.ndarray, rate_hz: float) -> np.ndarray:  # noqa: ARG002 - fixed when it was opened
        return self.graph.rows(values[: self.window])


def embedding_feature(settings: EmbeddingSettings, *, rate_hz: int, hop_s: float, bands: int) -> CustomFeature:
    """Return the custom feature that computes the embeddings of a graph.

    Several rows of an output are spaced evenly over its window. Raises ModelError when the graph cannot be used.
    """
    path = Path(settings.graph)
    stamp = None if not_a_file(path) else (path.stat().st_mtime_ns, path.stat().st_size)
    return _feature(settings.model_dump_json(), rate_hz, hop_s, bands, stamp)


@lru_cache(maxsize=8)
def _feature(given: str, rate_hz: int, hop_s: float, bands: int, stamp: Any) -> CustomFeature:  # noqa: ARG001
    settings = EmbeddingSettings.model_validate_json(given)
    graph = EmbeddingGraph(Path(settings.graph), settings.output)
    takes, window = graph.lengths(bands, settings.takes)
    unit_hz = rate_hz if takes == "samples" else 1 / hop_s
    length = _length(graph, window, settings.window_s, unit_hz)
    shape = (length,) if takes == "samples" else (length, bands)
    rows, columns = graph.rows(np.zeros(shape, dtype=np.float32)).shape
    if columns > MAX_COLUMNS or rows > length:
        raise ModelError(
            f"{graph.path}: {rows} rows of {columns} columns for {length} inputs is more than makes sense"
        )
    if rows > 1 and settings.hop_s is not None and abs(settings.hop_s * unit_hz - length) > 1:
        raise ModelError(f"{graph.path} gives {rows} rows per window; embedding.hop_s must be the window or left out")
    hop = length // rows if rows > 1 else round((settings.hop_s or length / unit_hz / 2) * unit_hz)
    window = length - (rows - 1) * hop
    return CustomFeature(
        name="embedding",
        compute=_Windows(graph, length),
        columns=[f"embedding {number + 1}" for number in range(columns)],
        window_s=window / unit_hz,
        hop_s=hop / unit_hz,
        takes="samples" if takes == "samples" else "log-mel",
        rows=rows,
        version=f"{graph.sha256}:{graph.output}",
    )


def _length(graph: EmbeddingGraph, fixed: int | None, window_s: float | None, unit_hz: float) -> int:
    """Return the length of the input from its shape or from the settings; raises ModelError where they disagree."""
    stated = None if window_s is None else max(1, round(window_s * unit_hz))
    length = fixed or stated
    if length is None:
        raise ModelError(f"{graph.path}: the input has no fixed length; state embedding.window_s")
    if stated not in {None, length}:
        raise ModelError(
            f"{graph.path}: the input is {length} long ({length / unit_hz:.4g} s), "
            f"embedding.window_s states {window_s:g} s"
        )
    return length


def _first_line(error: Exception) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0][:300]
