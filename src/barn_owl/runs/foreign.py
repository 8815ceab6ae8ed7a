"""Made-up sounds among the training clips, so that what is none of the labels is not taken for one."""

from dataclasses import replace

import numpy as np

from barn_owl.classify import ClipFrames, Examples, Plan
from barn_owl.clips.made_up import made_up_sound, noise_like
from barn_owl.clips.uniform import read_uniform
from barn_owl.features.cache import Excerpt
from barn_owl.parallel import each

STREAM = 23
"""Keeps the random numbers of made-up sounds apart from those of the training itself."""
NONE_OF_THEM = ""
"""Stands behind the labels for what is none of them: a label is never blank."""
EMPTY = 0.2
"""Share of them in which nothing sounds but the noise behind a clip."""
MOST = 2000
"""Made-up sounds of a side: more would only cost time and memory, in which they are kept."""
LOW_DB, HIGH_DB = 3.0, 32.0
"""How far a sound stands above that noise."""
LONGER = 1.6
"""Length of them in windows, so that windows are drawn around the sound at different places."""


def with_foreign(plan: Plan, train: Examples, validation: Examples, *, workers: int = 2) -> tuple[Examples, Examples]:
    """Add made-up sounds to both sides, as an output of their own behind the labels, or, where labels overlap, none.

    ``foreign.share`` says how many, as a multiple of the clips of an average label; no more than all clips, nor than
    2000. Each lies over noise like that behind one of the clips of its side, so that neither the recorder nor the
    place tells it apart.
    """
    return _side(plan, train, 0, workers), _side(plan, validation, 1, workers)


def _side(plan: Plan, examples: Examples, side: int, workers: int) -> Examples:
    clips, labels = examples.targets.shape
    count = max(1, min(round(plan.foreign.share * clips / labels), clips, MOST))
    rng = np.random.default_rng([plan.seed, STREAM, side])
    chosen = rng.integers(0, clips, count)

    def make(number: int) -> np.ndarray:
        return _frames(
            plan, examples.sources[chosen[number]], np.random.default_rng([plan.seed, STREAM, side, number])
        )

    frames = list(each(make, range(count), workers))
    targets = np.zeros((clips + count, labels + (not examples.overlapping)), dtype=np.float32)
    targets[:clips, :labels] = examples.targets
    if not examples.overlapping:
        targets[clips:, labels] = 1
    extras = np.full((count, examples.extras.shape[1]), np.nan, dtype=examples.extras.dtype)
    return replace(
        examples,
        clips=ClipFrames([*examples.clips.parts, *frames]),
        targets=targets,
        extras=np.concatenate([examples.extras, extras]),
    )


def _frames(plan: Plan, behind: Excerpt, rng: np.random.Generator) -> np.ndarray:
    rate_hz = plan.front_end.rate_hz
    clip = read_uniform(behind, rate_hz, plan.clips)
    scene = noise_like(clip, round(LONGER * plan.clips.length_s * rate_hz), rng)
    if rng.random() >= EMPTY:
        sound = made_up_sound(rng, rate_hz)
        if len(sound) > len(scene):  # a stretch out of the middle of something long
            begin = int(rng.integers(0, len(sound) - len(scene)))
            sound = sound[begin : begin + len(scene)]
        loud = _loud_rms(sound, rate_hz)
        level = max(_loud_rms(scene, rate_hz), 1e-5) * 10 ** (rng.uniform(LOW_DB, HIGH_DB) / 20)
        at = int(rng.integers(0, len(scene) - len(sound) + 1))
        scene[at : at + len(sound)] += sound * np.float32(level / loud)
        scene *= min(1.0, 1 / max(float(np.abs(scene).max()), 1e-9))
    return plan.front_end.frames(scene)


def _loud_rms(sound: np.ndarray, rate_hz: int) -> float:
    """Root mean square of the loudest 50 ms."""
    width = min(round(0.05 * rate_hz), len(sound))
    total = np.concatenate([[0.0], np.cumsum(np.square(sound, dtype=np.float64))])
    return float(np.sqrt((total[width:] - total[:-width]).max() / width))
