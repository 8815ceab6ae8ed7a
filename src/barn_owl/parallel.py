"""The same work on many things at a time, results in order."""

import warnings
from collections.abc import Callable, Iterator, Sequence
from typing import Any


def each(
    work: Callable[[Any], Any], items: Sequence[Any], workers: int, *, processes: bool = False, at_once: int = 1
) -> Iterator[Any]:
    """Yield ``work(item)`` for each item, in order, `workers` at a time.

    at_once : items that a worker takes at once; more for short work, which handing out would hold up.

    In threads, since decoding, transforms and matrix products let go of the interpreter's lock; or, for long
    work with many small steps, in processes. joblib spreads the work, so `joblib.parallel_config` can send it
    elsewhere, to a cluster for example; `work` must then be a function of a module, as it must with `processes`.
    """
    if workers == 1 or len(items) < 2:
        yield from map(work, items)
        return
    import joblib

    jobs = joblib.Parallel(
        n_jobs=workers, prefer="processes" if processes else "threads", return_as="generator", batch_size=at_once
    )
    results = jobs(joblib.delayed(work)(item) for item in items)
    try:
        for result in results:  # noqa: UP028 - closed below, not here
            yield result
    finally:
        with warnings.catch_warnings():  # that work was lost is no news to who stopped it
            warnings.filterwarnings("ignore", message=".* tasks", category=UserWarning)
            results.close()
