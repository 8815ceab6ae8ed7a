"""Device profiles: memory, and time for each kind of operation."""

import time
import tomllib
from collections.abc import Callable
from importlib.resources import files
from pathlib import Path

import numpy as np
from pydantic import Field, field_validator
from threadpoolctl import threadpool_limits

from barn_owl.classifiers.cnn import Convolutional
from barn_owl.classifiers.int8 import multiply_adds_a_frame
from barn_owl.classifiers.level import Level
from barn_owl.classifiers.stages import stages_of
from barn_owl.errors import PlanError
from barn_owl.features import FrontEnd
from barn_owl.files import is_file
from barn_owl.network.architecture import NetworkSettings
from barn_owl.settings import Settings
from barn_owl.wording import nearest_to

THIS_MACHINE = "this-machine"
BANDS, STEPS = 48, 256
"""Of the networks that this machine is timed by: steps are scored in blocks, as in tagging."""


class Device(Settings):
    """A device: memory, clock, and cycles by kind of work.

    A transform of a length that is not in the table takes as much a ``n log n`` as the nearest that is.

    Examples
    --------
    >>> from barn_owl.device import read_device
    >>> read_device("core-256k").ram_kb
    256.0
    """

    name: str
    clock_mhz: float = Field(gt=0)
    ram_kb: float = Field(gt=0)
    """Memory that a model may take, in units of 1024 bytes; so is flash."""
    flash_kb: float = Field(gt=0)
    latency_ms: float = Field(gt=0)
    """Longest acceptable time from a sound to its score."""
    cycles_float: float = Field(gt=0)
    """Cycles of a multiply-add in float32, with loading and storing; the following key is for int8."""
    cycles_int8: float = Field(gt=0)
    cycles_logarithm: float = Field(gt=0)
    cycles_transform: dict[int, float] = Field(min_length=1)
    """Cycles of a real transform by its length, the power spectrum included."""
    cycles_frame: float = Field(default=0.0, ge=0)
    """Further cycles per frame, such as for calls."""

    @field_validator("cycles_transform")
    @classmethod
    def _positive(cls, table: dict[int, float]) -> dict[int, float]:
        if any(length < 2 or cycles <= 0 for length, cycles in table.items()):
            raise ValueError("transforms have a length of 2 or more and take more than 0 cycles")
        return table

    def transform_cycles(self, length: int) -> float:
        """Cycles of a real transform of `length`.

        Parameters
        ----------
        length : int
            Length of the transform.
        """
        nearest = min(self.cycles_transform, key=lambda known: abs(np.log(known / length)))
        return self.cycles_transform[nearest] * length * np.log2(length) / (nearest * np.log2(nearest))


MAX_BYTES = 1 << 20
"""Size limit of a device file."""


def device_names() -> list[str]:
    """Names of the devices that ship, and of this machine.

    Examples
    --------
    >>> device_names()
    ['core-256k', 'core-512k', 'core-64k', 'this-machine']
    """
    shipped = files("barn_owl.device").joinpath("devices").iterdir()
    return [*sorted(Path(one.name).stem for one in shipped if one.name.endswith(".toml")), THIS_MACHINE]


def read_device(source: str | Path) -> Device:
    """Read a device profile: a TOML file, the name of a profile that ships, or ``this-machine``, which is measured.

    Parameters
    ----------
    source : str | Path
        Name of a device that ships, or TOML file.

    Raises
    ------
    PlanError
        If it does not exist, or a key is unknown, missing or out of range.

    Examples
    --------
    >>> barn_owl.device.read_device("core-64k").flash_kb
    256.0
    """
    if str(source) == THIS_MACHINE:
        return measured_device()
    path = Path(source)
    if path.suffix == ".toml":
        if not is_file(path):
            raise PlanError(f"{path} does not exist; devices that ship are {', '.join(device_names())}")
        try:
            if path.stat().st_size > MAX_BYTES:
                raise PlanError(f"{path} is {path.stat().st_size} bytes long, too long for a device")
            text = path.read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise PlanError(f"{path} cannot be read: {getattr(error, 'strerror', None) or error}") from error
    elif str(source) in device_names():
        text = files("barn_owl.device").joinpath("devices", f"{source}.toml").read_text("utf-8")
    else:
        raise PlanError(f"there is no device {str(source)!r}; {nearest_to(str(source), device_names())}")
    try:
        values = tomllib.loads(text)
    except (ValueError, RecursionError) as error:  # ValueError: also a number of more digits than Python reads
        raise PlanError(f"{source} is not a TOML file: {error}") from error
    try:
        return Device(**values)
    except PlanError as error:
        raise PlanError("\n".join(f"{source}: {line}" for line in str(error).splitlines())) from None


def measured_device(*, seconds: float = 0.2) -> Device:
    """Measure Python on this machine: nanoseconds of each kind of operation.

    The network is timed in two sizes, to separate the cost of calls from that of arithmetic. A single core is used.
    """
    rng = np.random.default_rng(0)
    values = rng.random(1 << 14).astype(np.float32) + 1
    logarithm = _nanoseconds(lambda: np.log10(values), seconds) / len(values)
    multiply_add, frame = _network_nanoseconds(seconds)
    transforms = {}
    for rate_hz in (8_000, 16_000, 32_000):
        front_end = FrontEnd(rate_hz=rate_hz)
        samples = rng.standard_normal(4 * rate_hz).astype(np.float32)
        taken = _nanoseconds(lambda: front_end.frames(samples, workers=1), seconds)  # noqa: B023
        # The logarithms of the bands are counted separately.
        transforms[front_end.fft_length] = taken / front_end.count(len(samples)) - front_end.bands * logarithm
    return Device(
        name=THIS_MACHINE, clock_mhz=1000, ram_kb=1 << 20, flash_kb=1 << 20, latency_ms=10_000,
        cycles_float=multiply_add, cycles_int8=multiply_add, cycles_logarithm=logarithm,
        cycles_transform=transforms, cycles_frame=frame,
    )  # fmt: skip


def _network_nanoseconds(seconds: float) -> tuple[float, float]:
    """Return the time of a multiply-add and of a frame, from two networks of different size."""
    points = []
    for size in ("tiny", "medium"):
        classifier = Convolutional(
            BANDS,
            8,
            NetworkSettings(size=size, kinds=["2d"]),
            Level(frames=31, range_db=50),
            np.random.default_rng(0),
        )
        count = (STEPS - 1) * classifier.step + classifier.window
        frames = np.random.default_rng(0).uniform(-80, -20, (count, BANDS)).astype(np.float32)
        with threadpool_limits(limits=1, user_api="blas"):
            taken = _nanoseconds(lambda: classifier.frame_scores(frames), 2 * seconds) / (STEPS * classifier.step)  # noqa: B023
        points.append((multiply_adds_a_frame(stages_of(classifier)), taken))
    (few, short), (many, long) = points
    each = max((long - short) / (many - few), 1e-3)
    return each, max(short - few * each, 0.0)


def _nanoseconds(work: Callable[[], object], seconds: float) -> float:
    """Return the least time of a call."""
    work()
    least, end = np.inf, time.perf_counter() + seconds
    while time.perf_counter() < end:
        begin = time.perf_counter_ns()
        work()
        least = min(least, time.perf_counter_ns() - begin)
    return float(least)
