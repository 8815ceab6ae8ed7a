"""Timing for the benchmarks: ratios measured side by side, since machines are noisy."""

import time
from collections.abc import Callable


def best_seconds(
    *jobs: Callable[[], object], rounds: int = 9, repeats: int = 1, refractory_s: float = 0.0
) -> list[float]:
    """Least time of each job, all of them taking turns so that a slow moment hits everyone.

    repeats : how often a job runs in each of its turns. refractory_s : rest before a turn, for jobs that leave
    threads behind which keep a core busy for a while.
    """
    least = [float("inf")] * len(jobs)
    for _ in range(rounds):
        for number, job in enumerate(jobs):
            time.sleep(refractory_s)
            job()
            for _ in range(repeats):
                begin = time.perf_counter()
                job()
                least[number] = min(least[number], time.perf_counter() - begin)
    return least


def tell(name: str, value: float, wanted: str) -> None:
    """Print a measure."""
    print(f"{name:<72} {value:>8.2f}   wanted: {wanted}", flush=True)
