"""Log-mel against nothing but the transform of the same frames."""

import numpy as np
import scipy.fft
from threadpoolctl import threadpool_limits
from timing import best_seconds, tell

from barn_owl.features import FrontEnd
from barn_owl.features.chunk import CHUNK
from barn_owl.features.framing import frame_view


def main() -> None:
    front_end = FrontEnd()
    samples = np.random.default_rng(0).standard_normal(16_000 * 120).astype(np.float32)
    frames = frame_view(samples, front_end.frame, front_end.hop)

    def in_one_call() -> None:
        scipy.fft.rfft(frames, n=front_end.fft_length, axis=1)

    def in_chunks() -> None:
        for first in range(0, len(frames), CHUNK):
            scipy.fft.rfft(frames[first : first + CHUNK], n=front_end.fft_length, axis=1)

    with threadpool_limits(limits=1, user_api="blas"):
        whole, chunked, ours = best_seconds(in_one_call, in_chunks, lambda: front_end.frames(samples), rounds=15)
    tell("log-mel: speed relative to bare rfft, one call", whole / ours, ">= 0.6")
    tell("log-mel: speed relative to bare rfft, in chunks that fit the cache", chunked / ours, "(for information)")
    tell("log-mel: times faster than real time", 120 / ours, "(for information)")


if __name__ == "__main__":
    main()
