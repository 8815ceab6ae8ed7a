"""Cepstral coefficients: the cosine transform of a log-mel spectrum."""

import numpy as np


def cosine_matrix(bands: int, coefficients: int, lifter: int = 0) -> np.ndarray:
    """Matrix that turns log-mel bands into cepstral coefficients; float64, shape ``(bands, coefficients)``.

    Orthonormal DCT-II, the first `coefficients` of it:
    ``c[n] = s[n] sum_b x[b] cos(pi n (b + 1/2) / bands)`` with ``s[0] = sqrt(1/bands)``, else ``sqrt(2/bands)``.
    A `lifter` L above 0 multiplies coefficient n by ``1 + L/2 sin(pi n / L)``.
    Source: Davis and Mermelstein, IEEE Trans. ASSP 28(4), 1980; lifter: Juang et al., ibid. 35(7), 1987.
    """
    n = np.arange(coefficients)
    matrix = np.cos(np.pi * n * (np.arange(bands)[:, None] + 0.5) / bands) * np.sqrt(2 / bands)
    matrix[:, 0] /= np.sqrt(2)
    if lifter:
        matrix *= 1 + lifter / 2 * np.sin(np.pi * n / lifter)
    return matrix


def deltas(frames: np.ndarray, reach: int) -> np.ndarray:
    """Slope over time of each column by regression over ``2 * reach + 1`` frames.

    frames : ``(frames + 2 * reach, columns)``, with `reach` frames of context on either side. Returns
    ``d[t] = sum_n n (x[t+n] - x[t-n]) / (2 sum_n n^2)`` per frame, shape ``(frames, columns)``.
    Source: Furui, IEEE Trans. ASSP 34(1), 1986.
    """
    count = len(frames) - 2 * reach
    total = np.zeros((count, frames.shape[1]), dtype=frames.dtype)
    for n in range(1, reach + 1):
        ahead, behind = frames[reach + n : reach + n + count], frames[reach - n : reach - n + count]
        total += frames.dtype.type(n) * (ahead - behind)
    return total / frames.dtype.type(2 * sum(n * n for n in range(1, reach + 1)))
