"""Descriptors of spectral shape.

Inputs are power spectra, shape ``(frames, bins)``, with bin *k* at ``k * width_hz``; outputs have a value per frame.
Moments and quantiles treat the power spectrum as a distribution over frequency; silence yields 0. Source: Peeters, A
large set of audio features, IRCAM, 2004.
"""

from functools import lru_cache

import numpy as np

from barn_owl.features.products import product

TINY = 1e-20
"""Power far below anything recorded, so that silence has a logarithm."""
ROUNDING = 2e-3
"""Flux below this is rounding of float32, not change."""


class Blocks:
    """Power spectra summed up over blocks of `SIZE` bins, from which moments and quantiles follow.

    Within a block, float32 about the middle of the block is exact enough; across blocks it is not, because the fourth
    moment of a narrow peak far from 0 would drown in rounding. So blocks are summed by a fast matrix product, and
    combined in float64.
    """

    SIZE = 16

    def __init__(self, power: np.ndarray, width_hz: float) -> None:
        self._power, self._width_hz = power, width_hz
        self._count = -(-power.shape[1] // self.SIZE)
        # Frames last: the code below works along them.
        sums = product(power, _block_matrix(power.shape[1])).T
        self._sums = sums.astype(np.float64, order="C").reshape(5, self._count, len(power))

    def moments(self) -> np.ndarray:
        """Centroid and spread in hertz, skewness and kurtosis; float64, shape ``(frames, 4)``.

        ``centroid = sum f p``, ``spread = sqrt(sum (f - centroid)^2 p)``, then the third and fourth central
        moments divided by the third and fourth power of the spread, with p the power divided by its sum.
        """
        total = self._sums[0].sum(axis=0)
        p, one, two, three, four = self._sums / np.maximum(total, TINY)
        middles = _middles(self._power.shape[1])
        centroid = middles @ p + one.sum(axis=0)
        # (x - c)^n = ((x - m) + (m - c))^n, with m the middle of the block.
        d = middles[:, None] - centroid
        variance = np.maximum((two + d * (2 * one + d * p)).sum(axis=0), 0)
        third = (three + d * (3 * two + d * (3 * one + d * p))).sum(axis=0)
        fourth = (four + d * (4 * three + d * (6 * two + d * (4 * one + d * p)))).sum(axis=0)
        spread = np.sqrt(variance)
        # Narrower than a hundredth of a bin is a single bin: higher moments mean nothing there.
        narrow = spread < 1e-2
        safe = np.where(narrow, 1.0, spread)
        higher = [np.where(narrow, 0, third / safe**3), np.where(narrow, 0, fourth / safe**4)]
        found = np.stack([centroid * self._width_hz, spread * self._width_hz, *higher], axis=1)
        return np.where(total[:, None] > TINY, found, 0.0)

    def roll_off(self, share: float = 0.85) -> np.ndarray:
        """Lowest frequency in hertz below which `share` of the power lies; float64, shape ``(frames,)``."""
        rows, bins = np.arange(len(self._power)), self._power.shape[1]
        running = np.cumsum(self._sums[0], axis=0)
        wanted = share * running[-1]
        block = np.argmax(running >= wanted, axis=0)
        before = running[block, rows] - self._sums[0][block, rows]
        inside = np.minimum(block * self.SIZE + np.arange(self.SIZE)[:, None], bins - 1)
        within = before + np.cumsum(self._power[rows, inside], axis=0, dtype=np.float64)
        # Rounding may leave the sum of the block a little above its bins: then the last bin is meant.
        within[-1] = np.inf
        at = inside[np.argmax(within >= wanted, axis=0), rows]
        return np.where(wanted > TINY, at * self._width_hz, 0.0)


@lru_cache(maxsize=8)
def _block_matrix(bins: int) -> np.ndarray:
    """Matrix, ``(bins, 5 * blocks)``: power times the 0th to 4th power of the distance to the block's middle."""
    middles = _middles(bins)
    matrix = np.zeros((5, len(middles), bins), dtype=np.float32)
    for number, middle in enumerate(middles):
        inside = np.arange(number * Blocks.SIZE, min((number + 1) * Blocks.SIZE, bins))
        matrix[:, number, inside] = (inside - middle) ** np.arange(5)[:, None]
    return np.ascontiguousarray(matrix.reshape(-1, bins).T)


def _middles(bins: int) -> np.ndarray:
    """Middle of each block; the last block may be shorter."""
    first = np.arange(0, bins, Blocks.SIZE)
    return (first + np.minimum(first + Blocks.SIZE, bins) - 1) / 2


def flatness(power: np.ndarray, log_power: np.ndarray) -> np.ndarray:
    """Geometric mean over arithmetic mean of the power: 1 for a flat spectrum, near 0 for a tone.

    log_power : natural logarithm of the power, same shape.
    """
    mean = _mean(power)
    return np.where(mean > TINY, np.exp(_mean(log_power)) / np.maximum(mean, TINY), 0.0)


def crest(power: np.ndarray) -> np.ndarray:
    """Return the largest over the mean power: 1 for a flat spectrum, the number of bins for a single bin."""
    mean = _mean(power)
    return np.where(mean > TINY, power.max(axis=1) / np.maximum(mean, TINY), 0.0)


def slope(log_power: np.ndarray, width_hz: float) -> np.ndarray:
    """Slope in dB per kilohertz of the straight line through the spectrum in dB, least squares.

    log_power : natural logarithm of the power.
    """
    kilohertz = np.arange(log_power.shape[1]) * width_hz / 1000
    centered = kilohertz - kilohertz.mean()
    weights = 10 / np.log(10) * centered / (centered**2).sum()
    return product(log_power, weights.astype(log_power.dtype))


def flux(magnitude: np.ndarray, before: np.ndarray | None) -> np.ndarray:
    """Return the distance between the magnitude spectra of each frame and the previous frame, scaled to length 1.

    before : the spectrum before the first, ``(bins,)``, or None: the flux of the first frame is then 0.
    0 for no change of shape, 1.41 for nothing in common. By the law of cosines, ``sqrt(2 - 2 cos)``.
    """
    first = (magnitude[0] if before is None else before)[None]
    dot = np.concatenate([_dot(magnitude[:1], first), _dot(magnitude[1:], magnitude[:-1])])
    power = _dot(magnitude, magnitude)
    power_before = np.concatenate([_dot(first, first), power[:-1]])
    both = np.sqrt(power * power_before)
    distance = np.sqrt(np.maximum(2 - 2 * dot / np.maximum(both, TINY), 0))
    return np.where((both > TINY) & (distance > ROUNDING), distance, 0.0)


def _dot(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Product of each row with the same row of another array; float64."""
    return np.einsum("fb,fb->f", x, y).astype(np.float64)


def _mean(x: np.ndarray) -> np.ndarray:
    """Mean over bins as a product: float32 in, float64 out."""
    return product(x, np.full(x.shape[1], 1 / x.shape[1], dtype=x.dtype)).astype(np.float64)
