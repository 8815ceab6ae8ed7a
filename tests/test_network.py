from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from barn_owl.classify.network import (
    AdamW,
    BatchNorm,
    Convolution,
    Dense,
    Dropout,
    MeanOverTime,
    Network,
    Relu,
    Residual,
    cross_entropy,
    softmax,
    warm_cosine,
)
from barn_owl.classify.network.optimiser import clip_norm
from helpers import assert_close


def slope(f: Callable[[np.ndarray], float], x: np.ndarray, step: float = 1e-3) -> np.ndarray:
    """Gradient of `f` at the float64 array `x` by central differences of order four."""
    grad = np.empty_like(x)
    for i in np.ndindex(x.shape):
        near = [x.copy() for _ in range(4)]
        for moved, k in zip(near, (-2, -1, 1, 2), strict=True):
            moved[i] += k * step
        grad[i] = np.dot([f(n) for n in near], [1, -8, 8, -1]) / (12 * step)
    return grad


def network(layers, channels, rng, dtype=np.float64) -> Network:
    """A network in float64, so that finite differences are exact enough."""
    made = Network(layers, channels, rng)
    wide = made.vector.astype(dtype) + 0.1 * rng.standard_normal(len(made.vector))
    made.vector = wide
    for (layer, key, _), view in zip(made._names, made._views(wide), strict=True):
        layer.weights[key] = view
    return made


@pytest.mark.parametrize(
    "layers",
    [
        pytest.param(lambda: [Convolution(3, taps=1), Relu(), Convolution(3, taps=3)], id="convolution"),
        pytest.param(lambda: [Convolution(3, taps=2), Relu(), Convolution(3, taps=4, stride=2)], id="stride"),
        pytest.param(lambda: [Convolution(3, taps=1), Relu(), Convolution(3, taps=3, stride=3)], id="stride of taps"),
        pytest.param(lambda: [Convolution(3, taps=2), BatchNorm()], id="batch normalisation"),
        pytest.param(lambda: [Convolution(3, taps=2), MeanOverTime(), Dense(2)], id="mean and dense"),
        pytest.param(
            lambda: [Convolution(3, taps=2), Residual([Convolution(3, taps=3), BatchNorm()]), Relu()], id="residual"
        ),
        pytest.param(lambda: [Convolution(3, taps=2), Dropout(0.4)], id="dropout"),
    ],
)
def test_gradients_are_finite_differences(layers, rng):
    made = network(layers(), 2, rng)
    x = rng.standard_normal((3, 11, 2))
    wanted = rng.standard_normal(made.forward(x, np.random.default_rng(1))[0].shape)

    def loss(x: np.ndarray) -> float:
        return float((made.forward(x, np.random.default_rng(1))[0] * wanted).sum())

    def loss_of_weights(vector: np.ndarray) -> float:
        before = made.vector.copy()
        made.vector[:] = vector
        result = loss(x)
        made.vector[:] = before
        return result

    y, kept = made.forward(x, np.random.default_rng(1))
    made.layers[0].is_first = False
    gradient = made.backward(wanted.astype(y.dtype).copy(), kept)
    # Differences of order four with a step of 1e-3 are good to about 1e-9 of the largest entry.
    expected = slope(loss_of_weights, made.vector.copy())
    assert_close(gradient, expected, rtol=1e-6, atol=1e-8 * np.abs(expected).max())

    dy, (_, kept) = wanted.copy(), made.forward(x, np.random.default_rng(1))  # backward may overwrite what was kept
    for number in reversed(range(len(made.layers))):
        layer = made.layers[number]
        into = {name: np.empty_like(array) for name, array in layer.weights.items()}
        if isinstance(layer, Residual):
            into = {
                f"{place}.{name}": np.empty_like(array)
                for place, inner in enumerate(layer.inner)
                for name, array in inner.weights.items()
            }
        dy = layer.backward(dy, kept[number], into)
    assert_close(dy, slope(loss, x), rtol=1e-6, atol=1e-8)


def test_convolution_is_numpy_correlate(rng):
    layer = Convolution(4, taps=5, stride=2)
    made = network([layer], 3, rng)
    x = rng.standard_normal((2, 20, 3))
    y, _ = made.forward(x)
    kernel = layer.weights["kernel"].reshape(5, 3, 4)
    expected = [
        [sum(np.correlate(x[n, :, c], kernel[:, c, o], "valid") for c in range(3))[::2] for o in range(4)]
        for n in range(2)
    ]
    assert_close(y, np.array(expected).transpose(0, 2, 1), rtol=1e-10)
    assert y.shape[1] == layer.steps(20)


def test_cross_entropy_by_hand_and_by_differences(rng):
    loss, _ = cross_entropy(np.log([[0.5, 0.25, 0.25], [0.1, 0.8, 0.1]]), np.eye(3)[[0, 1]])
    assert loss == pytest.approx((np.log(2) - np.log(0.8)) / 2)
    logits, targets = rng.normal(size=(5, 3)), softmax(rng.normal(size=(5, 3)))
    _, gradient = cross_entropy(logits, targets)
    assert_close(gradient, slope(lambda z: cross_entropy(z, targets)[0], logits), rtol=1e-8, atol=1e-12)
    huge = np.array([[1e4, -1e4]], np.float32)
    assert cross_entropy(huge, np.array([[0, 1]], np.float32))[0] == 2e4


def test_batch_norm_learns_the_running_moments(rng):
    layer = BatchNorm()
    Network([layer], 2, rng)
    x = (rng.standard_normal((64, 50, 2)) * [2, 5] + [1, -3]).astype(np.float32)
    y, kept = layer.forward(x, rng)
    assert_close(y.std(axis=(0, 1)), np.ones(2, np.float32), rtol=1e-3)
    for _ in range(100):
        layer.absorb([kept])
    assert_close(layer.state["mean"], x.mean(axis=(0, 1)), rtol=1e-3)
    # Not training, the running moments do the same as the batch's own.
    assert_close(layer.forward(x, None)[0], y, rtol=1e-2, atol=1e-3)


def test_adamw_first_step_decay_and_convergence():
    w = np.array([1.0, -2.0])
    AdamW(w, decay=0.5, decayed=np.array([True, False])).step(np.array([10.0, 0.001]), rate=0.1)
    # After bias correction the first move is the sign of the gradient, and decay adds rate * decay * weight.
    assert_close(w, np.array([1 - 0.1 - 0.05, -2 - 0.1]), rtol=1e-5)
    w = np.array([3.0, -4.0])
    optimiser = AdamW(w, decay=0.0, decayed=np.ones(2))
    for step in range(800):
        optimiser.step(2 * (w - [1, 2]), warm_cosine(step, 800, 0.1))
    assert_close(w, np.array([1.0, 2.0]), rtol=1e-4)


def test_clipping_keeps_the_direction():
    gradient = np.array([3.0, 4.0])
    assert clip_norm(gradient, 1.0) == 5.0
    assert_close(gradient, np.array([0.6, 0.8]))
    clip_norm(gradient, 2.0)
    assert_close(gradient, np.array([0.6, 0.8]))


def tiny(rng) -> Network:
    layers = [Convolution(8, taps=3), BatchNorm(), Relu(), MeanOverTime(), Dropout(0.3), Dense(3)]
    return Network(layers, 4, rng)


def test_the_number_of_threads_changes_nothing(seed):
    x = np.random.default_rng(seed).standard_normal((70, 20, 4)).astype(np.float32)
    targets = np.eye(3, dtype=np.float32)[np.arange(70) % 3]
    results = []
    for workers in (1, 3):
        net = tiny(np.random.default_rng(seed))
        with ThreadPoolExecutor(workers) as threads:
            loss, gradient = net.learn(x, targets, (seed, 0), threads)
        results.append((loss, gradient.tobytes(), [array.tobytes() for array in net.states().values()]))
    assert results[0] == results[1]


def test_one_batch_is_learnt_by_heart(rng):
    x = rng.standard_normal((24, 20, 4)).astype(np.float32)
    targets = np.eye(3, dtype=np.float32)[rng.integers(0, 3, 24)]
    layers = [Convolution(8, taps=3), BatchNorm(), Relu(), Convolution(16, taps=3), BatchNorm(), Relu()]
    net = Network([*layers, MeanOverTime(), Dense(3)], 4, rng)
    optimiser = AdamW(net.vector, decay=0.0, decayed=net.kernels)
    with ThreadPoolExecutor(1) as threads:
        for step in range(150):
            loss, gradient = net.learn(x, targets, (0, step), threads)
            optimiser.step(gradient, 0.02)
    assert loss < 0.05
