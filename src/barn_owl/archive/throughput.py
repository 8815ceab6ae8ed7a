"""Throughput of this machine: reading, decoding, features, network, and the bottleneck."""

import os
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any

import pandas as pd
from threadpoolctl import threadpool_limits

from barn_owl.archive.pieces import Piece, score_pieces
from barn_owl.archive.recordings import name_of
from barn_owl.audio import audio_info, stream_audio
from barn_owl.audio.remote import is_remote
from barn_owl.model import Model
from barn_owl.model.loading import ModelLike, as_model
from barn_owl.parallel import each
from barn_owl.tag.scoring import Scorer, chunk_s

LENGTH_S = 600.0
"""Sound of a recording that is measured with: a few seconds of work."""
ROUNDS = 2
"""Repetitions of each measurement; the fastest counts, since the machine may be busy."""
READ = 1 << 20
"""Bytes that are read at once."""
IDLE = 0.8
"""Share of busy cores below which the machine counts as partly idle."""


@dataclass(kw_only=True)
class Speed:
    """Result of a throughput measurement.

    Attributes
    ----------
    stages : pd.DataFrame
        Rows for disk, decode, features and network with ``real_time``, the speed of a core relative to real time, and
        ``share`` of the work.
    workers : pd.DataFrame
        One row per number of processes with ``real_time``, mean number of busy ``cores``, and ``gain`` over a single
        process.
    cores : int
        Number of cores that this process may use.
    advice : list[str]
        The bottleneck and what to change, as text.

    Examples
    --------
    >>> speed = barn_owl.archive.measure_throughput(barn_owl.load_model("first"), "night.wav", most_workers=1)
    >>> speed.stages["stage"].tolist()
    ['disk', 'decode', 'features', 'network']
    """

    stages: pd.DataFrame
    workers: pd.DataFrame
    cores: int
    advice: list[str] = field(default_factory=list)


def usable_cores() -> int:
    """Cores that this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


@contextmanager
def cores_busy() -> Iterator[Callable[[], float]]:
    """Yield a function that returns the mean number of busy cores since the start of the block."""
    import psutil

    before, begin = psutil.cpu_times(), time.perf_counter()

    def busy() -> float:
        now = psutil.cpu_times()
        idle = now.idle - before.idle + getattr(now, "iowait", 0.0) - getattr(before, "iowait", 0.0)
        spent = sum(now) - sum(before) - getattr(now, "guest", 0.0) + getattr(before, "guest", 0.0)
        return float(max(0.0, spent - idle) / max(time.perf_counter() - begin, 1e-9))

    yield busy


def measure_throughput(
    model: ModelLike,
    recording: str | Path,
    *,
    most_workers: int | None = None,
    progress: Callable[[float, float], None] | None = None,
) -> Speed:
    """Measure the tagging speed of this machine by stage and by number of processes.

    Some minutes from its beginning are used.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model, run, or the path of either.
    recording : str | Path
        Recording to score.
    most_workers : int | None
        Largest number of processes. Default: the number of cores.
    progress : Callable[[float, float], None] | None
        Called with the steps done and in all.

    Raises
    ------
    AudioError
        If the recording cannot be read.

    Examples
    --------
    >>> barn_owl.archive.measure_throughput(barn_owl.load_model("first"), "night.wav", most_workers=1).cores > 0
    True
    """
    model = as_model(model)
    name = name_of(str(recording))
    info = audio_info(name)
    length_s = min(info.duration_s, LENGTH_S)
    cores = usable_cores()
    counts = range(1, (most_workers or cores) + 1)
    steps, done = len(counts) + 4, [0]

    def report() -> None:
        done[0] += 1
        if progress:
            progress(done[0], steps)

    seconds = {}
    for stage, work in _stages(model, name, length_s).items():
        seconds[stage] = min(_timed(work) for _ in range(ROUNDS))
        report()
    whole = sum(seconds.values())
    stages = pd.DataFrame(
        {
            "stage": list(seconds),
            "real_time": [length_s / max(stage_s, 1e-9) for stage_s in seconds.values()],
            "share": [stage_s / whole for stage_s in seconds.values()],
        }
    )
    rows = []
    until = max(1, int(length_s / chunk_s(model)))
    piece = Piece(path=name, name=name, until=until, last=False)
    for count in counts:
        work = partial(score_pieces, model=model, decoding=None)
        list(each(work, [[piece]] * count, count, processes=True))  # the first run loads modules
        with cores_busy() as busy:
            begin = time.perf_counter()
            for _ in each(work, [[piece]] * (ROUNDS * count), count, processes=True):
                pass
            taken, in_use = time.perf_counter() - begin, busy()
        rows.append({"workers": count, "real_time": ROUNDS * count * until * chunk_s(model) / taken, "cores": in_use})
        report()
    workers = pd.DataFrame(rows)
    workers["gain"] = workers["real_time"] / workers["real_time"].iloc[0]
    speed = Speed(stages=stages, workers=workers, cores=cores)
    speed.advice = _advice(speed, elsewhere=is_remote(name))
    return speed


def _timed(work: Callable[[], object]) -> float:
    begin = time.perf_counter()
    with threadpool_limits(limits=1, user_api="blas"):
        work()
    return time.perf_counter() - begin


def _stages(model: Model, name: str, length_s: float) -> dict[str, Callable[[], object]]:
    """Measure each stage separately on one core."""
    front_end = model.front_end
    sound: list[Any] = []
    frames: list[Any] = []

    def read() -> None:
        if is_remote(name):
            for _ in stream_audio(name, end_s=length_s):
                pass
            return
        with Path(name).open("rb", buffering=0) as file:
            share = length_s / audio_info(name).duration_s
            left = int(Path(name).stat().st_size * share)
            if hasattr(os, "posix_fadvise"):  # from the disk, not from memory
                os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
            while left > 0 and (got := file.read(min(READ, left))):
                left -= len(got)

    def decode() -> None:
        sound[:] = stream_audio(name, rate_hz=front_end.rate_hz, channel=model.clips.channel, end_s=length_s)

    def features() -> None:
        frames[:] = front_end.frame_blocks(sound)

    def network() -> None:
        scorer = Scorer(model)
        for block in frames:
            scorer.push(block)
        scorer.finish()

    return {"disk": read, "decode": decode, "features": features, "network": network}


def _advice(speed: Speed, *, elsewhere: bool) -> list[str]:
    """Describe the bottleneck, whether all cores are busy, and what to change."""
    stages = speed.stages.set_index("stage")
    first = str(stages["share"].idxmax())
    sentences = [f"bottleneck: {first}, {stages['share'][first]:.0%} of the work"]
    best = speed.workers.loc[speed.workers["real_time"].idxmax()]
    busy = best["cores"] / speed.cores
    sentences.append(
        f"fastest with {best['workers']:.0f} workers: {best['real_time']:.0f} times real time, "
        f"{best['cores']:.1f} of {speed.cores} cores busy"
    )
    if first == "disk":
        sentences.append(
            "move the recordings closer to the workers, or use more workers to hide the latency"
            if elsewhere
            else "a faster disk helps most, or FLAC, which is half the size of WAV"
        )
    elif first == "network":
        sentences.append("a smaller network or another runtime helps most")
    elif first == "decode":
        sentences.append("WAV or FLAC at the sample rate of the model decodes fastest")
    else:
        sentences.append("fewer bands or a longer hop in the plan's front end help most")
    if best["workers"] == 1 and speed.cores > 1:
        sentences.append("more workers do not help: other programs use the cores, or memory bandwidth is the limit")
    elif busy < IDLE:
        sentences.append(f"{1 - busy:.0%} of the machine is idle: use more workers, or look for another bottleneck")
    else:
        sentences.append("all cores are busy")
    return sentences
