"""Cost of a model on a device, before training: operations, flash, RAM, time."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import pandas as pd

from barn_owl.classifiers.cnn import Convolutional
from barn_owl.classifiers.int8 import Quantized, multiply_adds_a_frame
from barn_owl.classifiers.stages import Stage, all_stages
from barn_owl.device.graph import classifier_of, graph_of
from barn_owl.device.profile import Device
from barn_owl.errors import ModelError
from barn_owl.features import FrontEnd
from barn_owl.features.mel import mel_bank
from barn_owl.learn import Plan
from barn_owl.model import Model
from barn_owl.model.loading import ModelLike, as_model

CODE_BYTES = 12_000
"""Size of the compiled C source with the mathematics of the C library: 9 to 14 kB by core and compiler."""
KB = 1024


@dataclass(frozen=True, kw_only=True)
class Footprint:
    """Cost of a model on a device, when exported as C.

    Attributes
    ----------
    device : Device
        Device with limits.
    multiply_adds : int
        Multiply-adds of the networks per second of streamed sound.
    flash_float, flash_int8 : int
        Bytes of code and weights.
    ram_float, ram_int8 : int
        Bytes of streaming inference.
    ram_window : int
        Bytes of inference layer by layer over a whole window, in float32.
    seconds_float, seconds_int8 : float
        Time per step, with the front end.
    step_s : float
        Time from a step to the next.
    latency_s : float
        Time from a sound to its score without computation: half a window.

    Examples
    --------
    >>> model = barn_owl.device.plain_model(barn_owl.Plan(), labels=6)
    >>> barn_owl.device.footprint(model, barn_owl.device.read_device("core-512k")).exceeded(int8=True)
    {}
    """

    device: Device
    multiply_adds: int
    flash_float: int
    flash_int8: int
    ram_float: int
    ram_int8: int
    ram_window: int
    seconds_float: float
    seconds_int8: float
    step_s: float
    latency_s: float

    def exceeded(self, *, int8: bool) -> dict[str, float]:
        """By how many times each limit of the device is exceeded, most first; empty where the model fits.

        ``flash``, ``ram``, ``latency``, and ``time``: a step must take no longer than the time until the next.

        Parameters
        ----------
        int8 : bool
            Whether the model is in int8; else in float32.
        """
        flash, ram, seconds = (
            (self.flash_int8, self.ram_int8, self.seconds_int8)
            if int8
            else (self.flash_float, self.ram_float, self.seconds_float)
        )
        shares = {
            "flash": flash / (self.device.flash_kb * KB),
            "ram": ram / (self.device.ram_kb * KB),
            "time": seconds / self.step_s,
            "latency": (self.latency_s + seconds) * 1000 / self.device.latency_ms,
        }
        return {name: float(share) for name, share in sorted(shares.items(), key=lambda item: -item[1]) if share > 1}

    def table(self) -> pd.DataFrame:
        """Table with rows for float32 and int8: ``flash_kb``, ``ram_kb``, ``step_ms``, ``load`` (share of time)."""
        rows = {
            name: {"flash_kb": flash / KB, "ram_kb": ram / KB, "step_ms": 1000 * took, "load": took / self.step_s}
            for name, flash, ram, took in (
                ("float32", self.flash_float, self.ram_float, self.seconds_float),
                ("int8", self.flash_int8, self.ram_int8, self.seconds_int8),
            )
        }
        return pd.DataFrame(rows).T.rename_axis("numbers")


def footprint(model: ModelLike, device: Device) -> Footprint:
    """Compute the cost of a cnn, trained or not, on a device; see `Footprint`.

    Times are cycles of the device: multiply-adds, transforms and logarithms, each times how often.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model, run, or the path of either.
    device : Device
        Device.

    Raises
    ------
    ModelError
        For a model that is no graph.

    Examples
    --------
    >>> from barn_owl.device import footprint, plain_model, read_device
    >>> small = plain_model(barn_owl.Plan(cnn={"kinds": ["2d"]}), labels=6)
    >>> footprint(small, read_device("core-256k")).flash_int8 < 150_000
    True
    """
    model = as_model(model)
    networks, front_end, classifier = graph_of(model), model.front_end, classifier_of(model)
    span, bands = classifier.level.frames, front_end.bands
    kept = sum(stage.kept_values for stages in networks for stage in stages)
    # Stages write to two buffers in turn; stages inside of another stage have two more.
    buffers = 2 * max(stage.values_out for stages in networks for stage in all_stages(stages))
    plain = 4 * (2 * front_end.fft_length + front_end.frame + bands * (1 + span) + span + 4 * len(model.labels))
    stages = [stage for network in networks for stage in all_stages(network)]
    weights = sum(stage.kernel.size for stage in stages if stage.kernel is not None)
    sums = sum(stage.out[1] for stage in stages if stage.kernel is not None)
    tables = (
        CODE_BYTES + 4 * (front_end.frame + 2 * front_end.fft_length + _mel_weights(front_end)) + 56 * len(stages)
    )
    floats, whole = (
        _seconds(classifier, networks, front_end, device, each) for each in (device.cycles_float, device.cycles_int8)
    )
    return Footprint(
        device=device,
        multiply_adds=round(multiply_adds_a_frame(networks) / front_end.hop_s),
        flash_float=tables + 4 * (weights + sums),
        flash_int8=tables + weights + 12 * sums,
        ram_float=plain + 4 * (kept + buffers + bands),
        ram_int8=plain + kept + buffers + bands,
        ram_window=plain + _whole_window(networks, classifier.window - max(span - 1, 0), bands),
        seconds_float=floats,
        seconds_int8=whole,
        step_s=model.step_s,
        latency_s=model.window_s / 2,
    )


def _mel_weights(front_end: FrontEnd) -> int:
    return _counted(front_end.bands, front_end.low_hz, front_end.top_hz, front_end.rate_hz, front_end.fft_length)


@lru_cache(maxsize=256)  # a search asks for the same few again and again
def _counted(bands: int, low_hz: float, high_hz: float, rate_hz: int, length: int) -> int:
    """Weights of a mel bank that are not 0."""
    return int(np.count_nonzero(mel_bank(bands, low_hz, high_hz, rate_hz, length)))


def _seconds(
    classifier: Convolutional | Quantized,
    networks: Sequence[list[Stage]],
    front_end: FrontEnd,
    device: Device,
    each: float,
) -> float:
    """Return the time per step of front end and networks."""
    logarithms = front_end.bands * (3 if classifier.level.frames else 1)
    frame = device.transform_cycles(front_end.fft_length) + device.cycles_frame * len(networks)
    frame += _mel_weights(front_end) * device.cycles_float + logarithms * device.cycles_logarithm
    cycles = classifier.step * (frame + multiply_adds_a_frame(list(networks)) * each)
    return cycles / (device.clock_mhz * 1e6)


def _whole_window(networks: Sequence[list[Stage]], steps: int, bands: int) -> int:
    """Return the bytes of the largest input and output of a layer over a window, in float32, network by network."""
    most = 0
    for stages in networks:
        count, held = steps, steps * bands
        for stage in stages:
            after = (count - stage.span) // stage.stride[0] + 1
            made = after * stage.values_out
            # Inside a residual stage its input waits until it is added.
            most = max(most, held + made * (2 if stage.inner else 1))
            count, held = after, made
    return 4 * most


def plain_model(plan: Plan, labels: int) -> Model:
    """Return an untrained model of `plan`, to compute its cost.

    Parameters
    ----------
    plan : Plan
        Plan of a `cnn`.
    labels : int
        Number of labels.

    Raises
    ------
    ModelError
        For a plan of another classifier than cnn.

    Examples
    --------
    >>> barn_owl.device.plain_model(barn_owl.Plan(), labels=6).classifier.step
    4
    """
    if not plan.kind.exports:
        raise ModelError(f"what a model costs on a device is counted of a cnn, this plan is of a {plan.classifier}")
    front_end, rng = plan.front_end, np.random.default_rng(0)
    return Model(
        labels=[str(number) for number in range(labels)], background=[], front_end=front_end, clips=plan.clips,
        decoding=plan.decoding.but(labels={}), mean=np.zeros(front_end.width, np.float32),
        deviation=np.ones(front_end.width, np.float32),
        classifier=plan.network_kind.network(
            front_end.width, labels, plan.own, plan.levels, rng, multilabel=plan.multilabel
        ),
        multilabel=plan.multilabel,
    )  # fmt: skip
