"""Speed of networks against the same networks in a general framework, and of classifiers against a general library.

Needs the yardstick dependency group.
"""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
from threadpoolctl import threadpool_limits
from timing import best_seconds, tell

from barn_owl.classifiers.cnn import Convolutional
from barn_owl.classifiers.level import Level
from barn_owl.classifiers.logistic import fit_logistic
from barn_owl.classifiers.row_classifiers import RowTask
from barn_owl.classifiers.trees import TreesSettings, candidates
from barn_owl.network import AdamW, binary_cross_entropy
from barn_owl.network.architecture import NetworkSettings

FRAMES, BANDS, LABELS = 297, 48, 7


def networks() -> None:
    import torch
    from framework import batch, same

    torch.set_num_threads(2)
    rng = np.random.default_rng(0)
    classifier = Convolutional(BANDS, LABELS, NetworkSettings(), Level(frames=31, range_db=50), rng)
    network = classifier.networks[0]
    theirs = same(network.layers, network.shapes[0])
    assert sum(p.numel() for p in theirs.parameters()) == len(network.vector)
    optimizer = AdamW(network.vector, decay=0.01, decayed=network.kernels)
    moved = torch.optim.AdamW(theirs.parameters(), lr=1e-3)
    threads, steps = ThreadPoolExecutor(2), classifier.count(FRAMES)
    for mixtures in (16, 32):
        x = (10 * rng.standard_normal((mixtures, FRAMES, BANDS, 1)) - 50).astype(np.float32)
        targets = rng.integers(0, 2, (mixtures, steps, 2 * LABELS)).astype(np.float32)
        x_torch, t_torch = batch(x), torch.tensor(targets)

        def ours(x=x, targets=targets) -> None:
            _, gradient = network.learn(x, targets, (0, 0), threads, binary_cross_entropy)
            optimizer.step(gradient, 1e-3)

        def general(x=x_torch, targets=t_torch) -> None:
            moved.zero_grad()
            torch.nn.functional.binary_cross_entropy_with_logits(theirs(x), targets).backward()
            moved.step()

        with threadpool_limits(limits=1, user_api="blas"):
            our_time, their_time = best_seconds(ours, general, rounds=6, repeats=3, refractory_s=0.4)
        tell(f"cnn step, {mixtures} mixtures of 3 s: times as fast as the framework", their_time / our_time, ">= 1")
        tell(f"cnn step, {mixtures} mixtures of 3 s: milliseconds", our_time * 1000, "(for information)")

    clip = (10 * rng.standard_normal((classifier.window + 100, BANDS)) - 50).astype(np.float32)
    theirs.eval()
    one = batch(clip.reshape(1, len(clip), BANDS, 1))

    def score_general() -> None:
        with torch.inference_mode():
            theirs(one)

    with threadpool_limits(limits=1, user_api="blas"):
        our_time, their_time = best_seconds(
            lambda: classifier.frame_scores(clip), score_general, rounds=8, repeats=20, refractory_s=0.4
        )
    tell("cnn: scoring one clip of a second, times as fast as the framework", their_time / our_time, ">= 1")
    tell("cnn: scoring one clip of a second, milliseconds", our_time * 1000, "(for information)")


def pooled_classifiers() -> None:
    from sklearn.ensemble import HistGradientBoostingClassifier
    from sklearn.linear_model import LogisticRegression

    rng = np.random.default_rng(0)
    rows, numbers = rng.standard_normal((1600, 192)).astype(np.float32), rng.integers(0, LABELS, 1600)
    rows += 0.4 * rng.standard_normal((LABELS, 192)).astype(np.float32)[numbers]
    targets, weights = np.eye(LABELS, dtype=np.float32)[numbers], np.ones(1600, np.float32)
    wide = rows.astype(np.float64)
    theirs = LogisticRegression(C=1 / (0.01 * 1600), tol=1e-5, max_iter=2000)
    with threadpool_limits(limits=2, user_api="blas"):
        ours, general = best_seconds(
            lambda: fit_logistic(wide, targets, weights, 0.01), lambda: theirs.fit(wide, numbers), rounds=5
        )
    tell("logistic, 1600 rows of 192: our time over the general library's", ours / general, "<= 1.5")
    task = RowTask(rows=rows, targets=targets, weights=weights, watched=rows[:100], rng=rng)
    settings = TreesSettings(rounds=100)
    boosted = HistGradientBoostingClassifier(max_iter=100, max_depth=3, early_stopping=False)
    ours, general = best_seconds(
        lambda: [*candidates(task, settings)][-1].make(), lambda: boosted.fit(rows, numbers), rounds=3
    )
    tell("trees, 100 rounds on 1600 rows of 192: our time over the general library's", ours / general, "<= 1.5")


def main() -> None:
    try:
        import sklearn  # noqa: F401
        import torch  # noqa: F401
    except ImportError:
        print("training step: skipped, the yardstick dependency group is not installed")
        return
    networks()
    pooled_classifiers()


if __name__ == "__main__":
    main()
