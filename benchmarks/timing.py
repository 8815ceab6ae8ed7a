"""Timing for the benchmarks: ratios measured side by side, since machines are noisy."""

import time
from collections.abc import Callable


def best_seconds(*jobs: Callable[[], object], rounds: int = 9) -> list[float]:
    """Least time of each job, all of them taking turns so that a slow moment hits everyone."""
    least = [float("inf")] * len(jobs)
    for job in jobs:
        job()
    for _ in range(rounds):
        for number, job in enumerate(jobs):
            begin = time.perf_counter()
            job()
            least[number] = min(least[number], time.perf_counter() - begin)
    return least


def tell(name: str, value: float, wanted: str) -> None:
    """Print one measure."""
    print(f"{name:<72} {value:>8.2f}   wanted: {wanted}", flush=True)
