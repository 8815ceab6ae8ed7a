"""Networks against the same ones in a general learning framework, families against a general library: speed.

Needs the yardstick extra.
"""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
from threadpoolctl import threadpool_limits
from timing import best_seconds, tell

from barn_owl.classify import Plan
from barn_owl.classify.convolutional import Convolutional
from barn_owl.classify.logistic import fit_logistic
from barn_owl.classify.network import AdamW
from barn_owl.classify.plan import TreesSettings
from barn_owl.classify.rows import RowTask
from barn_owl.classify.trees import candidates

FRAMES, BANDS, LABELS = 97, 48, 7


def networks(name: str, wanted: str) -> None:
    import torch
    from framework import batch, same

    torch.set_num_threads(2)
    rng = np.random.default_rng(0)
    family = Convolutional(name, FRAMES, BANDS, LABELS, getattr(Plan(), name), rng)
    network = family.network
    theirs = same(network.layers, network.shapes[0])
    assert sum(p.numel() for p in theirs.parameters()) == len(network.vector)
    optimiser = AdamW(network.vector, decay=0.01, decayed=network.kernels)
    moved = torch.optim.AdamW(theirs.parameters(), lr=1e-3)
    threads = ThreadPoolExecutor(2)
    for clips in (32, 64):
        x = rng.standard_normal((clips, *network.shapes[0])).astype(np.float32)
        targets = np.eye(LABELS, dtype=np.float32)[rng.integers(0, LABELS, clips)]
        x_torch, t_torch = batch(x), torch.tensor(targets)

        def ours(x=x, targets=targets) -> None:
            _, gradient = network.learn(x, targets, (0, 0), threads)
            optimiser.step(gradient, 1e-3)

        def general(x=x_torch, targets=t_torch) -> None:
            moved.zero_grad()
            torch.nn.functional.cross_entropy(theirs(x), targets).backward()
            moved.step()

        with threadpool_limits(limits=1, user_api="blas"):
            our_time, their_time = best_seconds(ours, general, rounds=8, repeats=6, pause_s=0.4)
        tell(f"{name} step, {clips} clips of 1 s: times as fast as the framework", their_time / our_time, wanted)
        tell(f"{name} step, {clips} clips of 1 s: milliseconds", our_time * 1000, "(for information)")

    window = rng.standard_normal((family.window, BANDS)).astype(np.float32)
    theirs.eval()
    one = batch(window.reshape(1, family.window, *network.shapes[0][1:]))

    def score_general() -> None:
        with torch.inference_mode():
            theirs(one)

    with threadpool_limits(limits=1, user_api="blas"):
        our_time, their_time = best_seconds(
            lambda: family.logits(window), score_general, rounds=8, repeats=50, pause_s=0.4
        )
    tell(f"{name}: scoring one clip, times as fast as the framework", their_time / our_time, ">= 3")
    tell(f"{name}: scoring one clip, milliseconds", our_time * 1000, "(for information)")


def pooled_families() -> None:
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
    task = RowTask(rows=rows, targets=targets, weights=weights, watched=rows[:100], overlapping=False, rng=rng)
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
        print("training step: skipped, the yardstick extra is not installed")
        return
    networks("tcn", ">= 1.5")
    networks("cnn", ">= 1")
    pooled_families()


if __name__ == "__main__":
    main()
