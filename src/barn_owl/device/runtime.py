"""A model whose network is computed by ONNX Runtime."""

import json
import logging
from collections import Counter
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from barn_owl.classifiers.base import Cost, FrameScores
from barn_owl.device.graph import classifier_of, graph_of
from barn_owl.device.open_graph import graph_bytes
from barn_owl.features.embedding import onnx_runtime
from barn_owl.files import temporary_folder
from barn_owl.model import Model
from barn_owl.model.loading import ModelLike, as_model

logger = logging.getLogger(__name__)

OUTPUTS = ("activity", "onsets", "label_logits")
CPU = "CPUExecutionProvider"


def on_runtime(model: ModelLike) -> Model:
    """Return the model with its network computed by ONNX Runtime, on the best available device.

    Scores differ from those of `model` by rounding. It is reported in the log when the only device is the processor.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model, run, or the path of either.

    Raises
    ------
    ModelError
        For a model that is no open graph, or where a package is missing.

    Examples
    --------
    >>> model = barn_owl.device.plain_model(barn_owl.Plan(), labels=6)
    >>> barn_owl.device.on_runtime(model).classifier.device
    'CPUExecutionProvider'
    """
    model = as_model(model)
    graph_of(model)
    classifier = GraphClassifier(model)
    if classifier.device == CPU:
        logger.warning(
            "no accelerator: ONNX Runtime offers %s here, so the network is computed by the processor",
            ", ".join(classifier.offered),
        )
    width = model.front_end.width
    return replace(
        model,
        classifier=classifier,  # the graph contains the standardization
        mean=np.zeros(width, dtype=np.float32),
        deviation=np.ones(width, dtype=np.float32),
    )


class GraphClassifier:
    """The classifier of a model as an open graph that a runtime computes."""

    name, has_onsets = "cnn", True

    def __init__(self, model: Model) -> None:
        own = classifier_of(model)
        self.window, self.step, self._own_cost = own.window, own.step, own.cost
        self._graph, self._session = graph_bytes(model, takes_features=True, log_odds=True), None
        self.offered = _offered()
        """Available providers of the runtime, the best first."""
        self.device = self._measured_device(model.front_end.bands)
        """Provider that takes most of the time."""

    def _opened(self) -> Any:
        if self._session is None:
            self._session = self._session_with(onnx_runtime().SessionOptions())
        return self._session

    def _session_with(self, options: Any) -> Any:
        options.intra_op_num_threads = options.inter_op_num_threads = 1  # recordings share the cores
        return onnx_runtime().InferenceSession(self._graph, options, providers=_offered())

    def _measured_device(self, bands: int) -> str:
        """Return the provider with most of the time in the profile of the runtime, which need not use the preferred
        provider."""
        with temporary_folder() as folder:
            options = onnx_runtime().SessionOptions()
            options.enable_profiling, options.profile_file_prefix = True, str(folder / "run")
            session = self._session_with(options)
            session.run(None, {"frames": np.zeros((self.window + self.step, bands), dtype=np.float32)})
            record = json.loads(Path(session.end_profiling()).read_text(encoding="utf-8"))
        spent: Counter[str] = Counter()
        for one in record:
            spent[one.get("args", {}).get("provider", "")] += one.get("dur", 0)
        del spent[""]
        return max(spent, key=spent.__getitem__, default=CPU)

    def __getstate__(self) -> dict[str, Any]:
        return self.__dict__ | {"_session": None}

    def frame_scores(self, frames: np.ndarray, extras: np.ndarray | None = None) -> FrameScores:  # noqa: ARG002
        """Return the outputs of the network for all steps; see `Classifier`."""
        parts = self._opened().run(list(OUTPUTS), {"frames": np.asarray(frames, dtype=np.float32)})
        activity, onsets, label_logits = parts
        return FrameScores(activity, onsets, label_logits, np.empty((len(activity), 0), dtype=np.float32))

    def state(self) -> dict[str, np.ndarray]:
        """The graph, as its bytes."""
        return {"graph": np.frombuffer(self._graph, dtype=np.uint8)}

    def config(self) -> dict[str, Any]:
        """Return an empty mapping: it is built from a model, and not saved."""
        return {}

    def cost(self, hop_s: float) -> Cost:
        """Return the cost of its model."""
        return self._own_cost(hop_s)


def _offered() -> list[str]:
    """Return the providers on this machine; remote services, to which sound would be sent, are skipped."""
    return [name for name in onnx_runtime().get_available_providers() if "Azure" not in name]
