"""Peak memory of this process."""

import sys


def peak_memory_mb() -> float | None:
    """Return the peak memory of this process in megabytes; None where the system does not report it."""
    try:
        import resource
    except ImportError:
        return None
    kilobytes_or_bytes = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return round(kilobytes_or_bytes * (1 if sys.platform == "darwin" else 1024) / 1e6, 1)
