"""Changes to training windows that leave the label true, made on log-mel frames.

Gain and a recorder's frequency response are offsets in dB, and sounds that are independent of each other add
in power, so all of these are exact or nearly so without going back to the samples.
"""

import numpy as np

from barn_owl.classify.plan import AugmentSettings


def augment(
    windows: np.ndarray,
    settings: AugmentSettings,
    rng: np.random.Generator,
    *,
    background: np.ndarray | None = None,
    floor_db: float = -100.0,
) -> np.ndarray:
    """Change log-mel `windows`, shape ``(clips, frames, bands)`` in dB, each in its own way.

    background : windows of background, of the same shape, to mix in; None to leave that out.
    Returns new float32 windows of the same shape.
    """
    clips, frames, bands = windows.shape
    if settings.shift_bands or settings.stretch_percent:
        windows = _warped(windows, settings.shift_bands, settings.stretch_percent, rng)
    if background is not None and settings.background:
        windows = _mixed(windows, background, settings, rng)
    offset = rng.uniform(-settings.gain_db, settings.gain_db, size=(clips, 1)) + _responses(
        clips, bands, settings.tilt_db, rng
    )
    windows = windows + offset[:, None, :].astype(np.float32)
    np.maximum(windows, np.float32(floor_db), out=windows)
    if settings.mask_share:
        _mask(windows, rng, round(settings.mask_share * frames), round(settings.mask_share * bands))
    return windows


def _warped(windows: np.ndarray, shift_bands: float, stretch_percent: float, rng: np.random.Generator) -> np.ndarray:
    """Shift each window along the bands and make it slower or faster, around any of its frames.

    What lies beyond an edge is taken from the edge. Between bands levels are interpolated; frames are taken as they
    are, the nearest ones, since the mean of two would fluctuate less than sound does.
    """
    clips, frames, bands = windows.shape
    most = np.log1p(stretch_percent / 100)
    pace = np.exp(rng.uniform(-most, most, size=(clips, 1)))
    centre = rng.uniform(0, frames - 1, size=(clips, 1))
    nearest = np.rint(centre + (np.arange(frames) - centre) * pace).clip(0, frames - 1).astype(int)
    paced = windows.reshape(-1, bands)[nearest + frames * np.arange(clips)[:, None]]
    at = (np.arange(bands) + rng.uniform(-shift_bands, shift_bands, size=(clips, 1))).clip(0, bands - 1)
    below = at.astype(int)
    share = (at - below).astype(np.float32)
    # Interpolation is linear: matrix products take less time over it than picking out bands.
    shift = np.zeros((clips, bands, bands), dtype=np.float32)
    clip, band = np.ogrid[:clips, :bands]
    shift[clip, below, band] = 1 - share
    shift[clip, np.minimum(below + 1, bands - 1), band] += share
    return np.asarray(paced @ shift, dtype=np.float32)


def _mixed(
    windows: np.ndarray, background: np.ndarray, settings: AugmentSettings, rng: np.random.Generator
) -> np.ndarray:
    """Add the power of `background`, at a random level below the loudest frames of each window."""
    snr = rng.uniform(settings.snr_low_db, settings.snr_high_db, size=len(windows))
    loud = np.quantile(windows.mean(axis=2), 0.9, axis=1)
    shift = loud - background.mean(axis=(1, 2)) - snr
    shift[rng.random(len(windows)) >= settings.background] = -np.inf
    added = background + shift[:, None, None].astype(np.float32)
    return add_power(windows, added)


def mix_windows(
    windows: np.ndarray, targets: np.ndarray, share: float, rng: np.random.Generator
) -> tuple[np.ndarray, np.ndarray]:
    """Add another window of the batch to some, and mix their targets as their power is mixed.

    windows : log-mel in dB, ``(clips, frames, bands)``; targets : ``(clips, labels)``. share : of the windows that
    are mixed. The other is up to 12 dB weaker. Source: Tokozume, Ushiku and Harada, ICLR 2018, in the power domain.
    """
    chosen = np.flatnonzero(rng.random(len(windows)) < share)
    if not len(chosen):
        return windows, targets
    others = rng.permutation(len(windows))[: len(chosen)]
    down_db = rng.uniform(0, 12, size=len(chosen)).astype(np.float32)
    loud = np.quantile(windows.mean(axis=2), 0.9, axis=1).astype(np.float32)
    level = loud[chosen] - loud[others] - down_db
    mixed, mixed_targets = windows.copy(), targets.copy()
    mixed[chosen] = add_power(windows[chosen], windows[others] + level[:, None, None])
    weight = (1 / (1 + 10 ** (-down_db / 10)))[:, None].astype(targets.dtype)
    mixed_targets[chosen] = weight * targets[chosen] + (1 - weight) * targets[others]
    return mixed, mixed_targets


def add_power(a_db: np.ndarray, b_db: np.ndarray) -> np.ndarray:
    """Level of two independent sounds together, ``10 log10(10^(a/10) + 10^(b/10))``, in dB; float32.

    Written as the louder one plus a little, so that nothing leaves float32's range; ``numpy.logaddexp`` does
    the same and is ten times slower.
    """
    scale = np.float32(np.log(10) / 10)
    rest = np.exp(np.abs(a_db - b_db) * -scale)
    rest += 1
    np.log(rest, out=rest)
    rest /= scale
    rest += np.maximum(a_db, b_db)
    return np.asarray(rest, dtype=np.float32)


def _responses(clips: int, bands: int, depth_db: float, rng: np.random.Generator) -> np.ndarray:
    """Smooth random frequency responses in dB, shape ``(clips, bands)``: straight lines between five points."""
    points = rng.uniform(-depth_db, depth_db, size=(clips, 5))
    at = np.linspace(0, 4, bands)
    left = np.minimum(at.astype(int), 3)
    share = at - left
    return np.asarray(points[:, left] * (1 - share) + points[:, left + 1] * share)


def _mask(windows: np.ndarray, rng: np.random.Generator, longest: int, widest: int) -> None:
    """Replace a random stretch of time and a random range of bands by the window's mean, in place."""
    clips, frames, bands = windows.shape
    means = windows.mean(axis=(1, 2))
    for clip in range(clips):
        length, width = rng.integers(0, longest + 1), rng.integers(0, widest + 1)
        start, low = rng.integers(0, frames - length + 1), rng.integers(0, bands - width + 1)
        windows[clip, start : start + length] = means[clip]
        windows[clip, :, low : low + width] = means[clip]
